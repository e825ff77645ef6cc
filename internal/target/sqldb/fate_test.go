package sqldb

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/disk"
	carry "paletwin/internal/run"
	"paletwin/internal/target/targettest"
	"paletwin/internal/thorough"
)

// harm is what a network does to a connection once so many pieces have passed.
type harm uint8

const (
	cut  harm = iota // both ends are closed, and the piece is lost
	lose             // what the client sent arrives, and no answer comes back
	hang             // nothing passes any more, and nobody is told
)

// wire stands between a program and a server, and does harm.
type wire struct {
	l    net.Listener
	to   string
	mu   sync.Mutex
	left int // pieces until it does harm; negative is never
	harm harm
	open []net.Conn
}

func newWire(t *testing.T, to string) *wire {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	w := &wire{l: l, to: to, left: -1}
	go w.serve()
	t.Cleanup(func() {
		_ = l.Close()
		w.mu.Lock()
		defer w.mu.Unlock()
		for _, c := range w.open {
			_ = c.Close()
		}
	})
	return w
}

// after has harm done once so many more pieces have passed, and returns how many were
// left until then.
func (w *wire) after(pieces int, h harm) (left int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	left, w.left, w.harm = w.left, pieces, h
	return left
}

func (w *wire) serve() {
	for {
		c, err := w.l.Accept()
		if err != nil {
			return
		}
		s, err := net.Dial("tcp", w.to)
		if err != nil {
			_ = c.Close()
			continue
		}
		w.mu.Lock()
		w.open = append(w.open, c, s)
		w.mu.Unlock()
		dead := new(atomic.Int32) // 1 is that no answers come, 2 that nothing passes
		go w.pass(c, s, dead, true)
		go w.pass(s, c, dead, false)
	}
}

func (w *wire) pass(from, to net.Conn, dead *atomic.Int32, ours bool) {
	b := make([]byte, 1<<16)
	for {
		n, err := from.Read(b)
		if err != nil {
			if dead.Load() < 2 {
				_ = to.Close()
			}
			return
		}
		w.mu.Lock()
		strikes := w.left == 0
		if w.left >= 0 {
			w.left--
		}
		h := w.harm
		w.mu.Unlock()
		if strikes {
			switch h {
			case cut:
				_ = from.Close()
				_ = to.Close()
				return
			case lose:
				dead.Store(1)
			case hang:
				dead.Store(2)
			}
		}
		if d := dead.Load(); d == 2 || d == 1 && !ours {
			if d == 1 { // the answer is lost, and with it the connection
				_ = from.Close()
				_ = to.Close()
				return
			}
			continue
		}
		if _, err := to.Write(b[:n]); err != nil && err != io.EOF {
			_ = from.Close()
			return
		}
	}
}

// watched is a table that keeps what was done to each of its records, by whom.
type watched struct {
	*db
	table, log string
	n          int
	balancer   string // of a cluster: where it is reached, whichever node answers
	untold     bool   // no table of tickets may be made: a commit whose answer is lost is unknown
}

// watch makes such a table: k, v, and w, in which a colleague signs.
func (d *db) watch(n int) *watched {
	w := &watched{db: d, n: n}
	w.table = d.table("(k varchar(20) NOT NULL PRIMARY KEY, v varchar(40), w varchar(40))")
	w.log = d.table("(k varchar(20), old varchar(40), new varchar(40), was varchar(40), w varchar(40))")
	var values []string
	for i := range n {
		values = append(values, fmt.Sprintf("('%d', 'old %d', 'x')", i, i))
	}
	d.exec("INSERT INTO " + w.table + " VALUES " + strings.Join(values, ", "))
	insert := fmt.Sprintf("INSERT INTO %s VALUES (OLD.k, OLD.v, NEW.v, OLD.w, NEW.w)", w.log)
	switch {
	case d.is("postgresql"):
		d.exec("CREATE FUNCTION f" + w.table + "() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN " + insert + "; RETURN NEW; END $$")
		d.exec("CREATE TRIGGER g AFTER UPDATE ON " + w.table + " FOR EACH ROW EXECUTE FUNCTION f" + w.table + "()")
	case d.is("mariadb"):
		d.exec("CREATE TRIGGER g" + w.table + " AFTER UPDATE ON " + w.table + " FOR EACH ROW " + insert)
	default:
		d.exec("CREATE TRIGGER g" + w.table + " AFTER UPDATE ON " + w.table + " BEGIN " + insert + "; END")
	}
	return w
}

// update is a dossier that amends every record.
func (w *watched) update(t *testing.T) *targettest.Update {
	var old, now strings.Builder
	old.WriteString("k,v,w\n")
	now.WriteString("k,v,w\n")
	for i := range w.n {
		fmt.Fprintf(&old, "%d,old %d,x\n", i, i)
		fmt.Fprintf(&now, "%d,new %d,x\n", i, i)
	}
	return targettest.NewUpdate(t, old.String(), now.String())
}

// colleague changes a record, to a value of their own or to the very one that we mean.
func (w *watched) colleague(s session, r *rand.Rand) {
	k := r.IntN(w.n)
	v := fmt.Sprintf("theirs %d", r.IntN(1000))
	if r.IntN(2) == 0 {
		v = fmt.Sprintf("new %d", k)
	}
	_, _ = s.exec(context.Background(), fmt.Sprintf("UPDATE %s SET v = '%s', w = 'colleague %d' WHERE k = '%d'", w.table, v, r.IntN(1e6), k))
}

// holds makes sure of what was done: each outcome is what the database says, no record was
// written twice, and nothing of a colleague's was written over.
func (w *watched) holds(t *testing.T, u *targettest.Update) {
	t.Helper()
	ours := map[string]int{}
	for _, r := range w.rows("SELECT k, old, new, was, w FROM " + w.log) {
		if r[3] != r[4] {
			continue // a colleague signs
		}
		ours[r[0]]++
		assert.Equal(t, "old "+r[0], r[1], "%s: what a colleague wrote was written over", r[0])
		assert.Equal(t, "new "+r[0], r[2], r[0])
	}
	assert.Empty(t, carry.Check(u.Dossier), "what is kept of it is whole")
	outcomes := map[string]carry.Outcome{}
	numbers, err := carry.Runs(u.Dossier)
	require.NoError(t, err)
	for _, n := range numbers {
		rec, err := carry.ReadRun(u.Dossier, n)
		require.NoError(t, err)
		for _, s := range rec.Steps {
			if outcomes[s.Key.String()] != carry.Done {
				outcomes[s.Key.String()] = s.Outcome
			}
		}
	}
	unknown := 0
	for k, n := range ours {
		assert.Equal(t, 1, n, "%s was written twice", k)
		if w.untold && outcomes[k] == carry.Unknown {
			unknown++
			continue
		}
		assert.Equal(t, carry.Done, outcomes[k], "%s was written, and is said to be %s", k, outcomes[k])
	}
	for k, o := range outcomes {
		assert.NotEmpty(t, o, k)
		if o == carry.Done {
			assert.Equal(t, 1, ours[k], "%s was not written, and is said to be done", k)
		}
		assert.True(t, w.untold || o != carry.Unknown, k)
	}
	if unknown > 0 {
		t.Logf("%d of which it is not known, and which were written", unknown)
	}
}

// through opens the table behind a wire.
func (w *watched) through(t *testing.T, at string) (*Table, error) {
	place := w.url
	if at != "" {
		u, err := url.Parse(w.url)
		require.NoError(t, err)
		u.Host = at
		u.RawQuery = "sslmode=disable"
		place = u.String()
	}
	tgt, err := Open(context.Background(), disk.OS{}, place+"#"+w.table, Options{Key: []string{"k"}, Dir: t.TempDir(), Batch: 10, NoTickets: w.untold})
	if err != nil {
		return nil, err
	}
	if err = tgt.Writable(context.Background()); err == nil {
		err = tgt.Prepare(context.Background())
	}
	if err != nil {
		_ = tgt.Close()
		return nil, err
	}
	return tgt, nil
}

// impatient has answers waited for less long.
func impatient(t *testing.T, d time.Duration) {
	before := Patience
	Patience = d
	t.Cleanup(func() { Patience = before })
}

// carryOut applies until a run is finished; harm is done once a try has read what is
// there. A try that hangs is ended as a person would end it.
func (w *watched) carryOut(t *testing.T, u *targettest.Update, wire *wire, harm func(try int)) {
	for try, begun := 0, time.Now(); time.Since(begun) < time.Minute; try++ {
		at := ""
		if wire != nil {
			wire.after(-1, cut)
			at = wire.l.Addr().String()
		}
		if w.balancer != "" {
			at = w.balancer
		}
		tgt, err := w.through(t, at)
		if err != nil {
			t.Logf("try %d: %v", try, err)
			time.Sleep(20 * time.Millisecond)
			continue
		}
		ctx, cancel := context.WithTimeout(t.Context(), 6*Patience)
		job := &carry.Job{Dossier: u.Dossier, Target: tgt, By: "lina", Now: time.Now, Options: carry.Options{OtherTarget: true},
			Confirm: func(*carry.Plan, int) bool { harm(try); return true }}
		rep, err := carry.Apply(ctx, job)
		if err == nil && rep.Resumed {
			_, err = carry.Apply(ctx, job)
		}
		cancel()
		if err != nil {
			t.Logf("try %d: %v", try, err)
		}
		_ = tgt.Close()
		if err == nil {
			return
		}
	}
	t.Fatal("it did not come to an end")
}

// servers are the bases that are reached over a network.
func servers(t *testing.T, test func(t *testing.T, d *db, host string)) {
	onEach(t, func(t *testing.T, d *db) {
		if d.a.URL == nil {
			t.Skip("no network")
		}
		test(t, d, d.a.URL.Host)
	})
}

func TestFateAtEveryMessage(t *testing.T) {
	impatient(t, 700*time.Millisecond)
	servers(t, func(t *testing.T, d *db, host string) {
		for h, nth := range map[harm]int{cut: 3, lose: 5, hang: 15} { // of those that hang, each takes as long as Patience
			first, step := thorough.Every(t, nth)
			for at := first; ; at += step {
				w := d.watch(12)
				u := w.update(t)
				wire := newWire(t, host)
				tries := 0
				w.carryOut(t, u, wire, func(try int) {
					if tries++; try == 0 {
						wire.after(at, h)
					}
				})
				w.holds(t, u)
				if left := wire.after(-1, cut); tries == 1 && left > 0 {
					t.Logf("%d messages", at)
					break
				}
			}
		}
	})
}

// TestFateAmongOthers has a colleague write the same records while a run does, and
// somebody who ends its connections at the server, and a network that harms them.
func TestFateAmongOthers(t *testing.T) {
	impatient(t, 700*time.Millisecond)
	onEach(t, func(t *testing.T, d *db) {
		d.exec("DROP TABLE IF EXISTS " + ticketTable) // what other tests left in it
		for round := range thorough.Few(20, 2) {
			seed := rand.Uint64()
			t.Logf("round %d, seed %d", round, seed)
			r := rand.New(rand.NewPCG(seed, 0))
			w := d.watch(300)
			u := w.update(t)
			stop := make(chan struct{})
			var others sync.WaitGroup
			another := func(do func(s session, r *rand.Rand), every time.Duration) {
				s, err := d.e.connect(context.Background(), d.a, "", "")
				require.NoError(t, err)
				own := rand.New(rand.NewPCG(seed, r.Uint64()))
				others.Go(func() {
					defer s.close()
					for {
						select {
						case <-stop:
							return
						case <-time.After(time.Duration(own.Int64N(int64(every)))):
							do(s, own)
						}
					}
				})
			}
			another(w.colleague, 4*time.Millisecond)
			var harmful *wire
			if d.a.URL != nil {
				another(w.end, 400*time.Millisecond)
				harmful = newWire(t, d.a.URL.Host)
			}
			w.carryOut(t, u, harmful, func(try int) {
				if harmful != nil && try < 30 {
					harmful.after(r.IntN(400), []harm{cut, cut, lose, lose, hang}[r.IntN(5)])
				}
			})
			close(stop)
			others.Wait()
			w.holds(t, u)
			if !d.is("postgresql") {
				assert.Empty(t, d.rows("SELECT ticket, says FROM "+ticketTable), "a run that has ended leaves no ticket")
			}
		}
	})
}

// end ends one of the connections that write, at the server.
func (w *watched) end(s session, _ *rand.Rand) {
	if w.is("postgresql") {
		_, _ = s.exec(context.Background(), "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name LIKE 'paletwin-%' ORDER BY random() LIMIT 1")
		return
	}
	rows, err := all(context.Background(), s, "SELECT id FROM information_schema.PROCESSLIST WHERE id <> CONNECTION_ID() AND info LIKE '%"+w.table+"%' AND info NOT LIKE '%colleague%' AND info NOT LIKE '%PROCESSLIST%' ORDER BY RAND() LIMIT 1")
	if err == nil && len(rows) > 0 {
		_, _ = s.exec(context.Background(), "KILL "+rows[0][0])
	}
}

// TestUntoldFates has the answers of commits lost where nothing tells what became of
// them: they are unknown, and neither done nor undone.
func TestUntoldFates(t *testing.T) {
	impatient(t, 700*time.Millisecond)
	servers(t, func(t *testing.T, d *db, host string) {
		if d.is("postgresql") {
			t.Skip("it always tells")
		}
		d.exec("DROP TABLE IF EXISTS " + ticketTable)
		first, step := thorough.Every(t, 4)
		for at := first; ; at += step {
			w := d.watch(12)
			w.untold = true
			u := w.update(t)
			wire := newWire(t, host)
			w.carryOut(t, u, wire, func(try int) {
				if try == 0 {
					wire.after(at, lose)
				}
			})
			w.holds(t, u)
			if left := wire.after(-1, cut); left > 0 {
				break
			}
		}
	})
}
