package sqldb

import (
	"context"

	"github.com/jackc/pgx/v5/pgconn"
)

// pgDurable has what is committed be on the server's disk, where its settings say otherwise.
const pgDurable = "SELECT set_config('synchronous_commit', 'on', false) WHERE current_setting('synchronous_commit') = 'off'"

// firmness has the numbers of a session's transactions be on the server's disk before these
// are committed. A server that dies forgets the numbers that are not, and gives them
// again: another's transaction would be taken for ours. Another connection commits a word of
// nothing, which is later than the number and takes it along to the disk.
type firmness struct {
	c      *pgconn.PgConn
	cannot bool // there is no such connection, or the account may not
	done   chan error
}

// begin has the number of a transaction that is open go to the disk.
func (f *firmness) begin(ctx context.Context, cfg *pgconn.Config) {
	if f.done != nil { // of a transaction that came to nothing
		<-f.done
	}
	if f.done = nil; f.cannot {
		return
	}
	done := make(chan error, 1)
	f.done = done
	go func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), Patience)
		defer cancel()
		had := f.c != nil
		err := f.word(ctx, cfg)
		if err != nil && had { // it was lost meanwhile
			_ = f.c.Close(ctx)
			f.c = nil
			err = f.word(ctx, cfg)
		}
		done <- err
	}()
}

// word commits it.
func (f *firmness) word(ctx context.Context, cfg *pgconn.Config) (err error) {
	if f.c == nil {
		if f.c, err = pgconn.ConnectConfig(ctx, cfg); err != nil {
			return err
		}
		if _, err = f.c.Exec(ctx, pgDurable).ReadAll(); err != nil {
			return err
		}
	}
	_, err = f.c.Exec(ctx, "SELECT pg_logical_emit_message(true, 'paletwin', '')").ReadAll()
	return err
}

// end waits until it is there. Where it cannot be, the transaction is to be done again,
// and its ticket says so then.
func (f *firmness) end() error {
	if f.cannot || f.done == nil {
		return nil
	}
	err := <-f.done
	if f.done = nil; err != nil {
		f.cannot = true
		return &failure{kind: again, text: "the number of a transaction cannot be kept: " + err.Error(), err: err}
	}
	return nil
}

func (f *firmness) close(ctx context.Context) {
	if f.done != nil {
		<-f.done
	}
	if f.c != nil {
		_ = f.c.Close(ctx) // nothing is left to be said
	}
}

func (postgres) table(*definition) string { return "" }

// draw asks for what names the transaction: its number, which is given once on a
// timeline of a server, but for one that dies before the number is on its disk.
func (postgres) draw(ctx context.Context, s session, _ *definition, _, _ string) (*ticket, error) {
	row, _, err := one(ctx, s, `SELECT txid_current(), pg_backend_pid(), (SELECT backend_start FROM pg_stat_activity WHERE pid = pg_backend_pid()),
		(SELECT system_identifier FROM pg_control_system()), substr(pg_walfile_name(pg_current_wal_lsn()), 1, 8)`)
	if err != nil {
		return nil, err
	}
	pg := s.(*pgSession)
	pg.firm.begin(ctx, pg.cfg)
	return &ticket{Transaction: row[0], Process: row[1], Since: row[2], System: row[3], Timeline: row[4], Loose: pg.firm.cannot}, nil
}

// firm waits until the number of the transaction is on the server's disk.
func (postgres) firm(_ context.Context, s session) error { return s.(*pgSession).firm.end() }

func (postgres) fate(ctx context.Context, s session, _ *definition, t *ticket) (fate, string, error) {
	row, _, err := one(ctx, s, `SELECT (SELECT system_identifier FROM pg_control_system()), pg_is_in_recovery()`)
	if err != nil {
		return unknown, "", err
	}
	if row[0] != t.System {
		return unknown, "it was written on another server", nil
	}
	if row[1] == "t" {
		return unknown, "the server is a copy now that is not written", nil
	}
	if row, _, err = one(ctx, s, `SELECT substr(pg_walfile_name(pg_current_wal_lsn()), 1, 8)`); err != nil {
		return unknown, "", err
	}
	if row[0] != t.Timeline {
		return unknown, "another server has taken over since", nil
	}
	if row, _, err = one(ctx, s, "SELECT txid_status($1::text::bigint)", plain(t.Transaction)...); err != nil {
		return unknown, "", err
	}
	switch row[0] {
	case "committed":
		if t.Loose {
			return unknown, "a server that died meanwhile may have given its number to another transaction", nil
		}
		return committed, "", nil
	case "aborted":
		return rolledBack, "", nil
	case "in progress":
		// Nobody waits for its answer: what it does not commit now it never will.
		_, err := s.exec(ctx, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = $1::text::integer AND backend_start = $2::text::timestamptz`,
			plain(t.Process, t.Since)...)
		return running, "", err
	}
	return unknown, "the server no longer remembers it", nil
}

func (postgres) settle(context.Context, session, *definition, []string) error { return nil }
