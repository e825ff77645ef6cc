package sqldb

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	tablecsv "paletwin/core/table/csv"
	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/target/targettest"
	"paletwin/internal/thorough"
)

// shardServers are three servers of PostgreSQL and a coordinator, of a test's own.
type shardServers struct {
	t    testing.TB
	dir  string
	port int
}

func startShards(t testing.TB) *shardServers {
	if os.Getenv("PALETWIN_TEST_POSTGRES_URL") == "" {
		t.Skip("there are no servers")
	}
	dir, err := os.MkdirTemp("", "paletwin-shards-")
	require.NoError(t, err)
	s := &shardServers{t: t, dir: dir, port: freePorts(t, 4)}
	t.Cleanup(func() {
		s.do("stop")
		require.NoError(t, os.RemoveAll(dir))
	})
	s.do("start")
	return s
}

// freePorts finds the first of some ports in a row that nobody has.
func freePorts(t testing.TB, n int) int {
	for range 100 {
		first := 20_000 + rand.IntN(10_000)
		free := true
		for i := range n {
			l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", first+i))
			if free = free && err == nil; err == nil {
				_ = l.Close()
			}
		}
		if free {
			return first
		}
	}
	t.Fatal("there are no free ports")
	return 0
}

func (s *shardServers) do(args ...string) {
	s.t.Helper()
	cmd := exec.Command(filepath.Join("..", "..", "..", ".ci", "shards"), append([]string{args[0], s.dir}, args[1:]...)...)
	cmd.Env = append(os.Environ(), fmt.Sprint("PALETWIN_TEST_SHARD_PORT=", s.port))
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, "%s", out)
}

// base is one of the servers; 0 is the coordinator.
func (s *shardServers) base(n int) base {
	return base{"postgresql", func(testing.TB) string { return fmt.Sprintf("postgresql://paletwin@127.0.0.1:%d/paletwin", s.port+n) }}
}

// db is the coordinator, which makes tables that stand on the servers.
func (s *shardServers) db(t testing.TB) *db {
	d := newDB(t, s.base(0))
	for n := 1; n <= 3; n++ {
		d.shards = append(d.shards, newDB(t, s.base(n)))
	}
	return d
}

// in is the same for a part of a test.
func (d *db) in(t testing.TB) *db {
	c := *d
	c.t = t
	return &c
}

// connectAll connects to the coordinator and its servers anew.
func (d *db) connectAll() {
	for _, x := range append([]*db{d}, d.shards...) {
		x.connect()
	}
}

// createSpread makes a table on every server, and one over them at the coordinator, parted by a column.
func (d *db) createSpread(name, has, by string, modulus int) {
	d.t.Helper()
	id, model := d.e.ident(name), d.e.ident(name+"_model")
	d.made = append(d.made, model, id)
	d.exec("CREATE TABLE " + model + " " + has)
	d.exec("CREATE TABLE " + id + " (LIKE " + model + ") PARTITION BY HASH (" + by + ")")
	for i := range modulus {
		on := d.shards[i%3]
		part := name
		if i >= 3 {
			part += fmt.Sprint("_", i)
		}
		on.create(part, has)
		d.exec(fmt.Sprintf("CREATE FOREIGN TABLE %s PARTITION OF %s FOR VALUES WITH (MODULUS %d, REMAINDER %d) SERVER s%d OPTIONS (table_name '%s')", d.e.ident(fmt.Sprint(name, "_", i)), id, modulus, i, i%3+1, strings.ReplaceAll(part, "'", "''")))
	}
}

// A table whose records stand on several servers is a target as others are, and what two of them differ in is what their
// exports differ in.
func TestTablesOnSeveralServers(t *testing.T) {
	s := startShards(t)
	d := s.db(t)
	t.Run("are targets", func(t *testing.T) {
		d := d.in(t)
		targettest.Run(t, func(t *testing.T) targettest.Place { return d.placeOf([]string{"k"}, targettest.Register) })
		d.modulus = 1 // records that exchange their keys have to be together
		targettest.Prove(t, targettest.Kind{
			Make:  func(t *testing.T, key []string, register string) targettest.Place { return d.placeOf(key, register) },
			Nulls: true,
			Read:  func(name string, b []byte) (*table.Image, error) { return tablecsv.OpenWith(name, b, table.Taken) },
		})
	})
	t.Run("as exported", func(t *testing.T) {
		d := d.in(t)
		seed := rand.Uint64()
		t.Logf("seed %d", seed)
		for _, x := range append([]*db{d}, d.shards...) {
			x.exec(`CREATE TYPE mood AS ENUM ('calm', 'it''s rough', 'sehr hoch, "7"')`)
		}
		on := testDesk(t)
		n := new(counted)
		rounds := thorough.Few(120, 15)
		for round := range rounds {
			w := &twins{r: rand.New(rand.NewPCG(seed, uint64(round))), a: d, b: d, spread: true}
			w.make(t)
			through := d.rows(fmt.Sprintf("SELECT count(*) FROM %s", w.nameA))
			x := d.open(w.nameA, Options{Key: w.key})
			var b bytes.Buffer
			took, err := x.Take(t.Context(), &b)
			require.NoError(t, err)
			require.NotNil(t, x.over, x.def.readOnly)
			require.NoError(t, x.Close())
			assert.Equal(t, through[0][0], fmt.Sprint(took), "as the coordinator counts")
			w.compareBoth(t, on, nil, n)
			if t.Failed() {
				t.Fatalf("round %d", round)
			}
			for _, name := range []string{w.nameA, w.nameB} {
				d.exec("DROP TABLE " + d.e.ident(name))
			}
		}
		t.Logf("%+v", *n)
		assert.Greater(t, n.inside, rounds/4)
	})
	t.Run("are written where they stand alone", func(t *testing.T) {
		d := d.in(t)
		name := d.table("(k varchar(20) NOT NULL PRIMARY KEY, v varchar(20))")
		tgt := d.writable(name, Options{})
		assert.Equal(t, []string{"k"}, tgt.Key(), "the servers' own key")
		var keys []record.Key
		for i := range 40 {
			keys = append(keys, record.NewKey(fmt.Sprint(i)))
		}
		at, err := tgt.Divide(t.Context(), keys)
		require.NoError(t, err)
		other := 1
		for at[other] == at[0] {
			other++
		}
		add := func(i int, link string) target.Step {
			return target.Step{ID: changeset.MakeID("aids", keys[i], changeset.Add), Act: changeset.Add, Key: keys[i], Linked: link, Record: record.Record{{Name: "k", Value: record.Text(keys[i].String())}, {Name: "v", Value: record.Text("x")}}}
		}
		reasons, err := tgt.Check(t.Context(), []target.Step{add(0, "a"), add(other, "a"), add(2, "")})
		require.NoError(t, err)
		assert.Contains(t, reasons[0], "another server")
		assert.Contains(t, reasons[1], "another server")
		assert.Empty(t, reasons[2])
		_, err = tgt.Write(t.Context(), []target.Step{add(0, ""), add(other, "")})
		assert.ErrorContains(t, err, "several servers")
		assert.Empty(t, d.rows("SELECT * FROM "+name))
		numbers := d.writable(d.table("(k integer NOT NULL PRIMARY KEY, v varchar(20))"), Options{})
		one := func(key string) target.Step {
			k := record.NewKey(key)
			return target.Step{ID: changeset.MakeID("aids", k, changeset.Add), Act: changeset.Add, Key: k, Record: record.Record{{Name: "k", Value: record.Text(key)}}}
		}
		reasons, err = numbers.Check(t.Context(), []target.Step{one("1"), one("no number"), one("2")})
		require.NoError(t, err)
		assert.Equal(t, []string{"", "no server has a place for a record of this key", ""}, reasons)
		for _, own := range []string{"ALTER TABLE %s ADD CONSTRAINT short CHECK (length(v) < 5)", "ALTER TABLE %s ENABLE ROW LEVEL SECURITY"} {
			name := d.table("(k varchar(20) NOT NULL PRIMARY KEY, v varchar(20))")
			d.exec(fmt.Sprintf(own, name))
			err := d.open(name, Options{}).Writable(t.Context())
			require.Error(t, err)
			assert.Contains(t, err.Error(), "know nothing of what this one has")
		}
	})
	t.Run("that do not lie together", func(t *testing.T) {
		d := d.in(t)
		has := "(k varchar(20) NOT NULL PRIMARY KEY, v varchar(20))"
		one, two, plain := fmt.Sprint("u", tables.Add(1)), fmt.Sprint("u", tables.Add(1)), fmt.Sprint("u", tables.Add(1))
		d.createSpread(one, has, "k", 3)
		d.createSpread(two, has, "k", 4)
		(&db{t: t, url: d.url, a: d.a, e: d.e, s: d.s}).create(plain, has)
		for i := range 50 {
			for _, name := range []string{one, two, plain} {
				d.exec(fmt.Sprintf("INSERT INTO %s VALUES ('%d', '%d')", name, i, i%7))
			}
		}
		d.exec("UPDATE " + two + " SET v = 'new' WHERE k = '7'")
		for _, b := range []string{two, plain} {
			p, reason, err := NewPair(t.Context(), d.open(one, Options{Key: []string{"k"}}), d.open(b, Options{Key: []string{"k"}}))
			require.NoError(t, err)
			require.Empty(t, reason)
			p.a.o.Slow = b == plain
			require.NoError(t, p.Begin(t.Context()))
			var x, y bytes.Buffer
			got, err := p.Write(t.Context(), &x, &y)
			require.NoError(t, err)
			assert.False(t, got.Inside)
			assert.NotEmpty(t, got.Why)
			assert.Equal(t, b == plain, got.Digests)
			assert.Equal(t, map[string]int{two: 49, plain: 50}[b], got.Alike)
			require.NoError(t, p.Close())
		}
	})
	t.Run("one of which dies", func(t *testing.T) { s.die(t, d.in(t)) })
}

// die has one server after the other die while tables are compared and written.
func (s *shardServers) die(t *testing.T, d *db) {
	impatient(t, 3*time.Second)
	has := "(k varchar(20) NOT NULL PRIMARY KEY, v varchar(40), w varchar(40))"
	w := &watched{db: d, n: 300, table: d.table(has)}
	w.log = fmt.Sprint("log", tables.Add(1))
	var logs []string
	for i, on := range d.shards {
		on.exec(fmt.Sprintf("CREATE TABLE %s (k varchar(20), old varchar(40), new varchar(40), was varchar(40), w varchar(40))", w.log))
		on.exec(fmt.Sprintf("CREATE FUNCTION f%s() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO %s VALUES (OLD.k, OLD.v, NEW.v, OLD.w, NEW.w); RETURN NEW; END $$", w.table, w.log))
		part := fmt.Sprint(w.log, "_", i)
		logs = append(logs, "SELECT * FROM "+part)
		d.exec(fmt.Sprintf("CREATE FOREIGN TABLE %s (k varchar(20), old varchar(40), new varchar(40), was varchar(40), w varchar(40)) SERVER s%d OPTIONS (schema_name 'public', table_name '%s')", part, i+1, w.log))
	}
	d.exec("CREATE VIEW " + w.log + " AS " + strings.Join(logs, " UNION ALL "))
	var values []string
	for i := range w.n {
		values = append(values, fmt.Sprintf("('%d', 'old %d', 'x')", i, i))
	}
	d.exec("INSERT INTO " + w.table + " VALUES " + strings.Join(values, ", "))
	for _, on := range d.shards {
		on.exec("CREATE TRIGGER g AFTER UPDATE ON " + w.table + " FOR EACH ROW EXECUTE FUNCTION f" + w.table + "()")
	}
	u := w.update(t)
	r := rand.New(rand.NewPCG(rand.Uint64(), 0))

	// While they are compared: an error, and the same as before once it is there again.
	p, _, err := NewPair(t.Context(), d.open(w.table, Options{}), d.open(w.table, Options{}))
	require.NoError(t, err)
	require.NotNil(t, p.shards)
	require.NoError(t, p.Begin(t.Context()))
	s.do("kill", "2")
	var out bytes.Buffer
	_, err = p.Write(t.Context(), &out, &out)
	require.Error(t, err)
	assert.Contains(t, err.Error(), fmt.Sprint(s.port+2), "it says which")
	require.NoError(t, p.Close())
	_, err = d.open(w.table, Options{}).Take(t.Context(), &out)
	require.Error(t, err)
	s.do("again", "2")
	d.connectAll()

	// What became of a batch is not taken for unknown because nobody can be asked just now.
	own := d.table("(k varchar(20) NOT NULL PRIMARY KEY, v varchar(40))")
	d.exec("INSERT INTO " + own + " VALUES ('1', 'a')")
	tgt := d.writable(own, Options{})
	var ticket json.RawMessage
	_, err = tgt.Commit(t.Context(), []target.Step{amend("1", "v", "a", "z")}, func(raw json.RawMessage, _ []target.Result) error { ticket = raw; return nil })
	require.NoError(t, err)
	at, err := tgt.Divide(t.Context(), []record.Key{record.NewKey("1")})
	require.NoError(t, err)
	victim := fmt.Sprint(at[0] + 1)
	require.NoError(t, tgt.Close())
	s.do("kill", victim)
	_, _, err = d.open(own, Options{}).Fate(t.Context(), ticket)
	assert.ErrorContains(t, err, "only server s"+victim+" knows")
	s.do("again", victim)
	fate, why, err := d.open(own, Options{}).Fate(t.Context(), ticket)
	require.NoError(t, err)
	assert.Equal(t, target.Done, fate, why)
	d.connectAll()

	var deaths sync.WaitGroup
	w.carryOut(t, u, nil, func(try int) {
		if try < thorough.Few(12, 3) {
			deaths.Wait()
			victim := fmt.Sprint(1 + r.IntN(3))
			deaths.Go(func() {
				time.Sleep(time.Duration(r.Int64N(int64(60 * time.Millisecond))))
				s.do("kill", victim)
				s.do("again", victim)
			})
		}
	})
	deaths.Wait()
	d.connectAll()
	w.holds(t, u)
	assert.Equal(t, [][]string{{fmt.Sprint(w.n)}}, d.rows("SELECT count(*) FROM "+w.table+" WHERE v LIKE 'new %'"))
}

// A table with partitions of its own here and others there is read, and not written.
func TestPartsHereAndThere(t *testing.T) {
	s := startShards(t)
	d := s.db(t)
	d.exec("CREATE TABLE mixed (k integer, v text) PARTITION BY HASH (k)")
	d.shards[0].create("mixed", "(k integer PRIMARY KEY, v text)")
	d.exec("CREATE FOREIGN TABLE mixed_0 PARTITION OF mixed FOR VALUES WITH (MODULUS 2, REMAINDER 0) SERVER s1 OPTIONS (table_name 'mixed')")
	d.exec("CREATE TABLE mixed_1 PARTITION OF mixed FOR VALUES WITH (MODULUS 2, REMAINDER 1)")
	d.exec("INSERT INTO mixed SELECT n, 'v' FROM generate_series(1, 20) n")
	tgt, err := Open(context.Background(), disk.OS{}, d.url+"#mixed", Options{Key: []string{"k"}})
	require.NoError(t, err)
	defer tgt.Close()
	var b bytes.Buffer
	n, err := tgt.Take(t.Context(), &b)
	require.NoError(t, err)
	assert.Equal(t, int64(20), n)
	assert.ErrorContains(t, tgt.Writable(t.Context()), "some of its parts are here")
}

// A server that the coordinator finds on its own machine is on that machine, and not on the one from which it is asked.
func TestWhereServersAre(t *testing.T) {
	for _, c := range []struct{ coordinator, host, port, want string }{
		{"postgresql://r@far/db", "localhost", "5433", "postgresql://u@far:5433/part#s.t"},
		{"postgresql://r@far/db", "127.0.0.1", "", "postgresql://u@far/part#s.t"},
		{"postgresql://r@far/db?sslmode=require", "/run/pg", "5433", "postgresql://u@far:5433/part?sslmode=require#s.t"},
		{"postgresql://r@far/db", "", "5433", "postgresql://u@far:5433/part#s.t"},
		{"postgresql://r@far/db", "other", "", "postgresql://u@other/part#s.t"},
		{"postgresql://r@127.0.0.1:6000/db", "localhost", "6001", "postgresql://u@localhost:6001/part#s.t"},
		{"postgresql://r@localhost/db", "/run/pg", "5433", "postgresql://u@/part?host=%2Frun%2Fpg&port=5433#s.t"},
		{"postgresql://r@/db?host=/run/pg&port=6000", "", "6001", "postgresql://u@/part?host=%2Frun%2Fpg&port=6001#s.t"},
		{"postgresql://r@/db?host=/run/pg", "other", "6001", "postgresql://u@other:6001/part#s.t"},
	} {
		of, err := target.ParseAddress(c.coordinator + "#aids")
		require.NoError(t, err)
		p := partition{host: c.host, port: c.port, database: "part", user: "u", schema: "s", table: "t"}
		assert.Equal(t, c.want, p.address(of), c)
	}
}
