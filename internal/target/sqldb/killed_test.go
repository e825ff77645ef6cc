package sqldb

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/target"
	"paletwin/internal/thorough"
)

// killable are servers of a test's own, which it may kill.
type killable struct {
	t   *testing.T
	dir string
	env []string
}

func newKillable(t *testing.T) *killable {
	if os.Getenv("PALETWIN_TEST_POSTGRES_URL") == "" || os.Getenv("PALETWIN_TEST_MARIADB_URL") == "" {
		t.Skip("there are no servers")
	}
	dir, err := os.MkdirTemp("", "paletwin-killed-")
	require.NoError(t, err)
	k := &killable{t: t, dir: dir, env: append(os.Environ(), "PALETWIN_TEST_PG_PORT="+freePort(t), "PALETWIN_TEST_MARIA_PORT="+freePort(t))}
	t.Cleanup(func() {
		k.do("kill")
		require.NoError(t, os.RemoveAll(dir))
	})
	k.do("start")
	return k
}

func (k *killable) do(what string) {
	k.t.Helper()
	cmd := exec.Command(filepath.Join("..", "..", "..", ".ci", "servers"), what, k.dir)
	cmd.Env = k.env
	out, err := cmd.CombinedOutput()
	require.NoError(k.t, err, "%s", out)
}

// base is one of its databases, by the variable that says where it is.
func (k *killable) base(name, variable string) base {
	return base{name, func(t testing.TB) string {
		b, err := os.ReadFile(filepath.Join(k.dir, "env"))
		require.NoError(t, err)
		m := regexp.MustCompile(variable + `="(.*)"`).FindSubmatch(b)
		require.NotNil(t, m)
		return string(m[1])
	}}
}

func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
}

// A server that dies gives no number of a transaction again for which somebody has a
// ticket.
func TestNumbersAreNotGivenAgain(t *testing.T) {
	k := newKillable(t)
	b := k.base("postgresql", "PALETWIN_TEST_POSTGRES_URL")
	d := newDB(t, b)
	table := d.simple()
	for range 3 {
		tgt := d.writable(table, Options{Key: []string{"k"}})
		ctx := t.Context()
		require.NoError(t, run(ctx, tgt.s, tgt.e.begin()...))
		_, err := tgt.s.exec(ctx, "UPDATE "+tgt.table()+" SET v = 'lost'")
		require.NoError(t, err)
		ticket, err := tgt.e.draw(ctx, tgt.s, tgt.def, tgt.mark, "")
		require.NoError(t, err)
		require.NoError(t, tgt.e.firm(ctx, tgt.s))
		assert.False(t, ticket.Loose)
		k.do("kill")
		k.do("again")
		d.connect()
		for range 20 { // others' transactions
			d.exec("UPDATE " + table + " SET v = 'theirs' WHERE k = '1'")
		}
		fate, why, err := tgt.Fate(ctx, ticket.json())
		require.NoError(t, err)
		assert.Equal(t, target.Refused, fate, why)
		require.NoError(t, tgt.Close())
	}
}

// Where the number cannot be kept, what is said to be committed is not believed.
func TestNumbersThatCannotBeKept(t *testing.T) {
	servers(t, func(t *testing.T, d *db, _ string) {
		if !d.is("postgresql") {
			t.Skip("its tickets are rows")
		}
		tgt := d.writable(d.simple(), Options{Key: []string{"k"}})
		ctx := t.Context()
		s := tgt.s.(*pgSession)
		s.cfg = s.cfg.Copy()
		s.cfg.Port, s.cfg.Fallbacks = 1, nil // there is no second connection
		steps := []target.Step{amend("1", "v", "a", "z")}
		var tickets []ticket
		results, err := tgt.Commit(ctx, steps, func(raw json.RawMessage, _ []target.Result) error {
			var k ticket
			require.NoError(t, json.Unmarshal(raw, &k))
			tickets = append(tickets, k)
			return nil
		})
		require.NoError(t, err)
		assert.Equal(t, target.Done, results[0].Fate)
		require.Len(t, tickets, 2, "the batch is done again")
		assert.Equal(t, []bool{false, true}, []bool{tickets[0].Loose, tickets[1].Loose})
		for i, want := range []target.Fate{target.Refused, target.Unknown} {
			fate, _, err := tgt.Fate(ctx, tickets[i].json())
			require.NoError(t, err)
			assert.Equal(t, want, fate)
		}
	})
}

// TestServersThatAreKilled has the server itself die while a run writes and a colleague
// writes the same records, and come up again: what was committed is done, what was not is
// not, and neither is said of the other.
func TestServersThatAreKilled(t *testing.T) {
	impatient(t, 3*time.Second)
	k := newKillable(t)
	for _, b := range []base{k.base("mariadb", "PALETWIN_TEST_MARIADB_URL"), k.base("postgresql", "PALETWIN_TEST_POSTGRES_URL")} {
		t.Run(b.name, func(t *testing.T) {
			for round := range thorough.Few(10, 2) {
				seed := rand.Uint64()
				t.Logf("round %d, seed %d", round, seed)
				r := rand.New(rand.NewPCG(seed, 0))
				d := newDB(t, b)
				w := d.watch(300)
				u := w.update(t)
				stop := make(chan struct{})
				var others sync.WaitGroup
				others.Go(func() { w.atWork(stop, d.a, rand.New(rand.NewPCG(seed, 1)), 4*time.Millisecond) })
				var deaths sync.WaitGroup
				w.carryOut(t, u, nil, func(try int) {
					if try < 8 {
						deaths.Wait()
						deaths.Go(func() {
							time.Sleep(time.Duration(r.Int64N(int64(80 * time.Millisecond))))
							k.do("kill")
							k.do("again")
						})
					}
				})
				close(stop)
				others.Wait()
				deaths.Wait()
				d.connect()
				w.holds(t, u)
			}
		})
	}
}

// atWork is a colleague who works until it is time to stop, with pauses of at most so long, and connects anew where the
// connection is lost.
func (w *watched) atWork(stop <-chan struct{}, at *target.Address, own *rand.Rand, pause time.Duration) {
	for {
		s, err := w.e.connect(context.Background(), at, "", "")
		for err == nil {
			select {
			case <-stop:
				s.close()
				return
			case <-time.After(time.Duration(own.Int64N(int64(pause)))):
				w.colleague(s, own)
			}
			if _, err = s.exec(context.Background(), "SELECT 1"); err != nil {
				s.close()
			}
		}
		select {
		case <-stop:
			return
		case <-time.After(50 * time.Millisecond):
		}
	}
}
