package sqldb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"paletwin/internal/target"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"paletwin/core/changeset"
	"paletwin/core/record"
)

// postgres is PostgreSQL, from version 12 on.
type postgres struct{}

func (postgres) name() string { return "PostgreSQL" }

// settings are those under which every value has one text.
var pgSettings = map[string]string{
	"client_encoding": "UTF8", "TimeZone": "UTC", "DateStyle": "ISO, YMD", "IntervalStyle": "iso_8601",
	"extra_float_digits": "3", "bytea_output": "hex", "xmloption": "content", "standard_conforming_strings": "on",
	"idle_in_transaction_session_timeout": "120s", "application_name": "paletwin",
}

// pgSession is a connection; every value goes to and fro as its text.
type pgSession struct {
	c        *pgconn.PgConn
	cfg      *pgconn.Config
	firm     firmness
	prepared map[string]*pgconn.StatementDescription // by their texts: planning costs as much as what is planned
}

// mostPrepared is how many statements are kept.
const mostPrepared = 200

// statement returns a prepared statement.
func (s *pgSession) statement(ctx context.Context, sql string) (*pgconn.StatementDescription, error) {
	if d := s.prepared[sql]; d != nil {
		return d, nil
	}
	if len(s.prepared) >= mostPrepared {
		if err := run(ctx, s, "DEALLOCATE ALL"); err != nil {
			return nil, err
		}
		clear(s.prepared)
	}
	d, err := s.c.Prepare(ctx, fmt.Sprintf("p%d", len(s.prepared)), sql, nil)
	if err == nil {
		s.prepared[sql] = d
	}
	return d, err
}

func (postgres) connect(ctx context.Context, a *target.Address, password, mark string) (session, error) {
	cfg, err := pgconn.ParseConfig(a.URL.String())
	if err != nil {
		return nil, &failure{kind: other, text: "the address cannot be read", err: err}
	}
	if password != "" {
		cfg.Password = password
	}
	for k, v := range pgSettings {
		cfg.RuntimeParams[k] = v
	}
	cfg.RuntimeParams["lock_timeout"] = fmt.Sprint(LockWait.Milliseconds())
	if mark != "" {
		cfg.RuntimeParams["application_name"] = mark
	}
	if cfg.ConnectTimeout == 0 {
		cfg.ConnectTimeout = connectTimeout
	}
	c, err := pgconn.ConnectConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	s := &pgSession{c: c, cfg: cfg, prepared: map[string]*pgconn.StatementDescription{}}
	if mark != "" {
		_, err = s.exec(ctx, pgDurable)
	}
	if err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

func (postgres) end(ctx context.Context, s session, mark string) error {
	return ended(ctx, func() (bool, error) {
		row, _, err := one(ctx, s, "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE application_name = $1 AND usename = current_user AND pid <> pg_backend_pid()", plain(mark)...)
		return err == nil && row[0] == "0", err
	})
}

// lacks asks for the right on the table, and for amends on any of its columns.
func (postgres) lacks(ctx context.Context, s session, d *definition, act changeset.Act) (string, error) {
	right := map[changeset.Act]string{changeset.Amend: "UPDATE", changeset.Add: "INSERT", changeset.Delete: "DELETE"}[act]
	asks := "has_any_column_privilege"
	if act == changeset.Delete {
		asks = "has_table_privilege"
	}
	row, _, err := one(ctx, s, "SELECT "+asks+"($1::text::oid, $2::text)", plain(d.id, right)...)
	if err != nil || row[0] == "t" {
		return "", err
	}
	return right, nil
}

func (s *pgSession) close() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	s.firm.close(ctx)
	_ = s.c.Close(ctx) // nothing is left to be said
}

// pgParams are parameters as the wire has them: nil is null.
func pgParams(params []param) [][]byte {
	p := make([][]byte, len(params))
	for i := range params {
		if v := params[i].v; !v.IsNull() {
			p[i] = []byte(v.String())
		}
	}
	return p
}

func (s *pgSession) exec(ctx context.Context, sql string, params ...param) (int64, error) {
	r, err := s.start(ctx, sql, params)
	if err != nil {
		return 0, err
	}
	tag, err := r.Close()
	return tag.RowsAffected(), err
}

// start runs a statement; one with parameters is prepared.
func (s *pgSession) start(ctx context.Context, sql string, params []param) (*pgconn.ResultReader, error) {
	if len(params) == 0 {
		return s.c.ExecParams(ctx, sql, nil, nil, nil, nil), nil
	}
	d, err := s.statement(ctx, sql)
	if err != nil {
		return nil, err
	}
	return s.c.ExecStatement(ctx, d, pgParams(params), nil, nil), nil
}

func (s *pgSession) query(ctx context.Context, sql string, _ []*column, params []param, row func([]record.Value) error) error {
	r, err := s.start(ctx, sql, params)
	if err != nil {
		return err
	}
	var failed error
	var cells []record.Value
	for r.NextRow() {
		if failed != nil {
			continue
		}
		cells = cells[:0]
		for _, v := range r.Values() {
			if v == nil {
				cells = append(cells, record.Null())
			} else {
				cells = append(cells, record.Text(string(v)))
			}
		}
		failed = row(cells)
	}
	if _, err := r.Close(); err != nil {
		return err
	}
	return failed
}

func (s *pgSession) each(ctx context.Context, all []statement, wrote func(int64) error) error {
	distinct := map[string]bool{}
	for i := range all {
		distinct[all[i].sql] = true
	}
	if len(distinct) > mostPrepared/2 { // they would push each other out
		return s.eachUnprepared(ctx, all, wrote)
	}
	ready := make([]*pgconn.StatementDescription, len(all))
	if len(s.prepared)+len(distinct) > mostPrepared {
		if err := run(ctx, s, "DEALLOCATE ALL"); err != nil {
			return err
		}
		clear(s.prepared)
	}
	for i := range all {
		var err error
		if ready[i], err = s.statement(ctx, all[i].sql); err != nil {
			return err
		}
	}
	return s.pipeline(ctx, len(all), func(p *pgconn.Pipeline, i int) { p.SendQueryStatement(ready[i], pgParams(all[i].params), nil, nil) }, wrote)
}

func (s *pgSession) eachUnprepared(ctx context.Context, all []statement, wrote func(int64) error) error {
	return s.pipeline(ctx, len(all), func(p *pgconn.Pipeline, i int) { p.SendQueryParams(all[i].sql, pgParams(all[i].params), nil, nil, nil) }, wrote)
}

// pipeline sends n statements without waiting for their answers.
func (s *pgSession) pipeline(ctx context.Context, n int, send func(p *pgconn.Pipeline, i int), wrote func(int64) error) error {
	p := s.c.StartPipeline(ctx)
	for i := range n {
		send(p, i)
	}
	err := p.Sync()
	for err == nil {
		var got any
		if got, err = p.GetResults(); err != nil || got == nil {
			break
		}
		switch r := got.(type) {
		case *pgconn.ResultReader:
			var tag pgconn.CommandTag
			if tag, err = r.Close(); err == nil {
				err = wrote(tag.RowsAffected())
			}
		case *pgconn.PipelineSync:
			return p.Close()
		}
	}
	_ = p.Close() // the first error counts
	return err
}

func (s *pgSession) dump(ctx context.Context, sql string, _ []*column, w io.Writer) (int64, error) {
	tag, err := s.c.CopyTo(ctx, w, "COPY ("+sql+") TO STDOUT (FORMAT csv, ENCODING 'UTF8')")
	return tag.RowsAffected(), err
}

func (postgres) ident(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func (postgres) param(n int, c *column) string { return fmt.Sprintf("$%d::text::%s", n, c.cast) }

func (p postgres) keyOrder(c *column) string { return "(" + p.ident(c.name) + `)::text COLLATE "C"` }

func (postgres) snapshot() []string {
	return []string{"BEGIN TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY"}
}

func (postgres) begin() []string {
	return []string{"BEGIN TRANSACTION ISOLATION LEVEL READ COMMITTED READ WRITE"}
}

func (postgres) lock(whole bool) string {
	if whole {
		return " FOR UPDATE OF t"
	}
	return " FOR NO KEY UPDATE OF t"
}

func (postgres) joined() string     { return "JOIN" }
func (postgres) lists() bool        { return false }
func (postgres) returns() bool      { return true }
func (postgres) setOf() string      { return "" }
func (postgres) immediate() string  { return "SET CONSTRAINTS ALL IMMEDIATE" }
func (postgres) staged() bool       { return true }
func (postgres) strictly() string   { return "" }
func (postgres) overriding() string { return " OVERRIDING SYSTEM VALUE" }

// rows are arrays of texts, a parameter a column.
func (postgres) rows(columns []*column, _ int, rows [][]record.Value) (string, []param) {
	var arrays, casts []string
	params := make([]param, len(columns))
	for i, c := range columns {
		arrays = append(arrays, fmt.Sprintf("$%d::text[]", i+1))
		casts = append(casts, fmt.Sprintf("u.c%d::%s AS c%d", i, c.cast, i))
		params[i].v = record.Text(pgArray(rows, i))
	}
	var names []string
	for i := range columns {
		names = append(names, fmt.Sprintf("c%d", i))
	}
	return fmt.Sprintf("(SELECT u.n AS n, %s FROM unnest(%s) WITH ORDINALITY AS u(%s, n)) AS r", strings.Join(casts, ", "), strings.Join(arrays, ", "), strings.Join(names, ", ")), params
}

// pgArray writes a column of values as the text of an array.
func pgArray(rows [][]record.Value, column int) string {
	b := []byte{'{'}
	for i, row := range rows {
		if i > 0 {
			b = append(b, ',')
		}
		v := row[column]
		if v.IsNull() {
			b = append(b, "NULL"...)
			continue
		}
		b = append(b, '"')
		text := v.String()
		for k := range len(text) {
			if text[k] == '"' || text[k] == '\\' {
				b = append(b, '\\')
			}
			b = append(b, text[k])
		}
		b = append(b, '"')
	}
	return string(append(b, '}'))
}

func (postgres) updateFrom(table, rows, set, on string) string {
	return "UPDATE " + table + " AS t SET " + set + " FROM " + rows + " WHERE " + on
}

func (postgres) deleteFrom(table, rows, on string) string {
	return "DELETE FROM " + table + " AS t USING " + rows + " WHERE " + on
}

// failure sorts by the class of the code: https://www.postgresql.org/docs/current/errcodes-appendix.html
func (postgres) failure(err error) *failure {
	f, known := sorted(err)
	if known {
		return f
	}
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		return &failure{lost, connectionWords(err), err}
	}
	f = &failure{other, pg.Message, err}
	if pg.Hint != "" && pg.Code == "0A000" {
		f.text += " (" + pg.Hint + ")"
	}
	switch pg.Code[:2] {
	case "08", "57":
		f.kind = lost
	case "40", "55":
		f.kind = again
	case "22", "23", "44":
		f.kind = refused
	case "28":
		f.kind = denied
	case "P0": // a trigger's word
		f.kind = refused
	}
	switch pg.Code {
	case "55P03":
		f.kind = locked
	case "42501", "25006":
		f.kind = denied
	case "42P01", "42703", "3D000", "3F000":
		f.kind = gone
	case "57014": // cancelled by its own time limit
		f.kind = again
	case "55000", "428C9", "0A000":
		if f.kind = refused; strings.HasPrefix(pg.Message, "cached plan") { // somebody changed the table
			f.kind = lost
		}
	}
	return f
}

// connectionWords says why there is no connection, in one line.
func connectionWords(err error) string {
	text := err.Error()
	if i := strings.LastIndex(text, "): "); i >= 0 {
		text = text[i+3:]
	}
	text, _, _ = strings.Cut(strings.TrimSpace(text), "\n")
	return text
}
