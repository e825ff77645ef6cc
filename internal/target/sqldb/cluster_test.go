package sqldb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/target"
	"paletwin/internal/thorough"
)

// cluster is three nodes of MariaDB, each of which takes writes, of a test's own.
type cluster struct {
	t    testing.TB
	dir  string
	port int
}

func startCluster(t testing.TB) *cluster {
	if os.Getenv("PALETWIN_TEST_MARIADB_URL") == "" || testing.Short() {
		t.Skip("there are no servers")
	}
	dir, err := os.MkdirTemp("", "paletwin-cluster-")
	require.NoError(t, err)
	c := &cluster{t: t, dir: dir, port: freePorts(t, 150)}
	t.Cleanup(func() {
		c.do("stop")
		require.NoError(t, os.RemoveAll(dir))
	})
	c.do("start")
	return c
}

func (c *cluster) do(args ...string) {
	c.t.Helper()
	cmd := exec.Command(filepath.Join("..", "..", "..", ".ci", "galera"), append([]string{args[0], c.dir}, args[1:]...)...)
	cmd.Env = append(os.Environ(), fmt.Sprint("PALETWIN_TEST_GALERA_PORT=", c.port))
	out, err := cmd.CombinedOutput()
	require.NoError(c.t, err, "%s", out)
}

func (c *cluster) at(n int) string { return fmt.Sprintf("127.0.0.1:%d", c.port+n) }

func (c *cluster) db(t testing.TB, n int) *db {
	return newDB(t, base{"mariadb", func(testing.TB) string { return "mariadb://root@" + c.at(n) + "/paletwin" }})
}

// balance listens where every connection goes to another node, one that answers.
func (c *cluster) balance() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(c.t, err)
	c.t.Cleanup(func() { _ = l.Close() })
	go func() {
		for n := 0; ; n++ {
			from, err := l.Accept()
			if err != nil {
				return
			}
			for k := range 3 {
				if to, err := net.Dial("tcp", c.at((n+k)%3)); err == nil {
					for _, way := range [][2]net.Conn{{from, to}, {to, from}} {
						go func() {
							_, _ = io.Copy(way[0], way[1])
							_ = way[0].Close()
							_ = way[1].Close()
						}()
					}
					from = nil
					break
				}
			}
			if from != nil {
				_ = from.Close()
			}
		}
	}()
	return l.Addr().String()
}

// A cluster whose nodes all take writes: what another node committed first is never written over, and what a batch that was
// refused at its commit was to write is not there. Nodes that die tell nothing false.
func TestAClusterThatTakesWritesEverywhere(t *testing.T) {
	impatient(t, 5*time.Second)
	c := startCluster(t)
	t.Run("another node was first", func(t *testing.T) {
		d, there := c.db(t, 0), c.db(t, 1)
		name := d.table("(k varchar(20) NOT NULL PRIMARY KEY, v varchar(20))")
		d.fill(name, []string{"1", "a"}, []string{"2", "b"})
		tgt := d.writable(name, Options{})
		var promised []json.RawMessage
		results, err := tgt.Commit(t.Context(), []target.Step{amend("1", "v", "a", "A"), amend("2", "v", "b", "B")}, func(ticket json.RawMessage, results []target.Result) error {
			if promised = append(promised, ticket); len(promised) == 1 { // between the last statement and the commit
				there.exec("UPDATE " + name + " SET v = 'theirs' WHERE k = '1'")
			}
			return nil
		})
		require.NoError(t, err)
		assert.Equal(t, []target.Fate{target.Moved, target.Done}, []target.Fate{results[0].Fate, results[1].Fate})
		assert.Len(t, promised, 2, "the batch was done again")
		for _, x := range []*db{d, there} {
			assert.Equal(t, [][]string{{"1", "theirs"}, {"2", "B"}}, x.rows("SELECT k, v FROM "+name+" ORDER BY k"))
		}
		elsewhere := there.writable(name, Options{})
		for i, want := range []target.Fate{target.Refused, target.Done} {
			fate, why, err := elsewhere.Fate(t.Context(), promised[i])
			require.NoError(t, err)
			assert.Equal(t, want, fate, "asked at another node: %s", why)
		}
	})
	t.Run("nodes die", func(t *testing.T) {
		seed := rand.Uint64()
		t.Logf("seed %d", seed)
		for round := range thorough.Few(5, 1) {
			r := rand.New(rand.NewPCG(seed, uint64(round)))
			d := c.db(t, 0)
			w := d.watch(150)
			w.balancer = c.balance()
			u := w.update(t)
			stop := make(chan struct{})
			var others sync.WaitGroup
			for n := range 3 {
				a, at := *d.a, *d.a.URL // colleagues at every node
				at.Host = c.at(n)
				a.URL = &at
				others.Go(func() { w.atWork(stop, &a, rand.New(rand.NewPCG(seed, uint64(100*round+n))), 20*time.Millisecond) })
			}
			var deaths sync.WaitGroup
			w.carryOut(t, u, nil, func(try int) {
				if try < 4 {
					deaths.Wait()
					victim := fmt.Sprint(r.IntN(3))
					deaths.Go(func() {
						time.Sleep(time.Duration(r.Int64N(int64(150 * time.Millisecond))))
						c.do("kill", victim)
						c.do("again", victim)
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

// oddCommit is a connection whose commit fails with an error that does not say whether anything was written.
type oddCommit struct {
	session
	does bool // it is committed all the same
}

func (s *oddCommit) exec(ctx context.Context, sql string, params ...param) (int64, error) {
	if sql != "COMMIT" {
		return s.session.exec(ctx, sql, params...)
	}
	if s.does {
		if _, err := s.session.exec(ctx, sql); err != nil {
			return 0, err
		}
	}
	return 0, &failure{kind: other, text: "got error 6 during COMMIT"}
}

// What became of a commit that failed in words nobody knows is asked for, and told as it is.
func TestACommitThatFailsOddly(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		for _, does := range []bool{true, false} {
			tgt := d.writable(d.simple(), Options{Key: []string{"k"}})
			if d.is("postgresql") { // which asks for its own kind of connection
				t.Skip("its tickets are of its connection")
			}
			tgt.s = &oddCommit{tgt.s, does}
			results, err := tgt.Commit(t.Context(), []target.Step{amend("1", "v", "a", "z")}, func(json.RawMessage, []target.Result) error { return nil })
			if does {
				require.NoError(t, err)
				assert.Equal(t, target.Done, results[0].Fate)
			} else {
				var no *target.Unwritten
				require.ErrorAs(t, err, &no)
			}
			want := map[bool]string{true: "z", false: "a"}[does]
			assert.Equal(t, [][]string{{want}}, d.rows("SELECT v FROM "+tgt.table()+" WHERE k = '1'"))
			require.NoError(t, tgt.Close())
		}
	})
}

// What cannot be written to a file here is not said of the database.
func TestADiskThatIsFullIsNotTheDatabase(t *testing.T) {
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("there is none")
	}
	defer full.Close()
	onEach(t, func(t *testing.T, d *db) {
		name := d.table("(k varchar(20) NOT NULL PRIMARY KEY, v varchar(200))")
		_, err := d.open(name, Options{}).Take(t.Context(), full)
		require.ErrorContains(t, err, "no space")
		var of *Error
		assert.False(t, errors.As(err, &of), "%v", err)
	})
}
