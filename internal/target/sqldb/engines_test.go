package sqldb

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"paletwin/core/schema"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// base is a database of an engine, in which tests make their tables.
type base struct {
	name string // of the engine
	url  func(t testing.TB) string
}

// bases are the databases that there are: the servers are said by the environment, as
// .ci/servers does.
func bases(t testing.TB) []base {
	all := []base{{"sqlite", func(t testing.TB) string {
		file := filepath.Join(t.TempDir(), "register.db")
		require.NoError(t, os.WriteFile(file, nil, 0o600))
		return "sqlite:" + file
	}}}
	for name, variable := range map[string]string{"postgresql": "PALETWIN_TEST_POSTGRES_URL", "mariadb": "PALETWIN_TEST_MARIADB_URL"} {
		if url := os.Getenv(variable); url != "" {
			all = append(all, base{name, func(testing.TB) string { return url }})
		} else {
			require.NotEqual(t, "required", os.Getenv("PALETWIN_TEST_SERVERS"), "%s is not set", variable)
		}
	}
	slices.SortFunc(all, func(a, b base) int { return strings.Compare(a.name, b.name) })
	return all
}

// onEach runs a test on every engine.
func onEach(t *testing.T, test func(t *testing.T, b *db)) {
	for _, b := range bases(t) {
		t.Run(b.name, func(t *testing.T) { test(t, newDB(t, b)) })
	}
}

// db is a database with a colleague at work in it.
type db struct {
	t    testing.TB
	url  string
	a    *target.Address
	e    engine
	s    session
	made []string

	shards  []*db // of a coordinator: the servers on which its tables stand
	modulus int   // in how many parts; 0 is 3
}

func newDB(t testing.TB, b base) *db {
	d := &db{t: t, url: b.url(t)}
	var err error
	d.a, err = target.ParseAddress(d.url + "#nothing")
	require.NoError(t, err)
	d.e = engines[d.a.Scheme]
	d.connect()
	t.Cleanup(func() {
		for _, table := range slices.Backward(d.made) {
			_, _ = d.s.exec(context.Background(), "DROP TABLE IF EXISTS "+table)
		}
		d.s.close()
	})
	return d
}

// connect connects the colleague, perhaps anew.
func (d *db) connect() {
	d.t.Helper()
	if d.s != nil {
		d.s.close()
	}
	var err error
	d.s, err = d.e.connect(context.Background(), d.a, "", "")
	require.NoError(d.t, err)
}

// is reports whether the database is one of some engines.
func (d *db) is(names ...string) bool { return slices.Contains(names, d.a.Scheme) }

func (d *db) exec(sql string, params ...string) {
	d.t.Helper()
	_, err := d.s.exec(context.Background(), sql, plain(params...)...)
	require.NoError(d.t, err, sql)
}

// rows are what a query gives, as texts.
func (d *db) rows(sql string) [][]string {
	d.t.Helper()
	r, err := all(context.Background(), d.s, sql)
	require.NoError(d.t, err, sql)
	return r
}

var tables atomic.Int64

// table makes a table of a name of its own; %s in what it has is the name.
func (d *db) table(has string) string {
	d.t.Helper()
	name := fmt.Sprintf("t%d_%d", os.Getpid(), tables.Add(1))
	d.create(name, has)
	return name
}

func (d *db) create(name, has string) {
	d.t.Helper()
	if d.shards != nil {
		d.createSpread(name, has, firstColumn(has), cmp.Or(d.modulus, 3))
		return
	}
	d.made = append(d.made, d.e.ident(name))
	d.exec("DROP TABLE IF EXISTS " + d.e.ident(name))
	d.exec("CREATE TABLE " + d.e.ident(name) + " " + has)
}

// firstColumn is the first that a table has.
func firstColumn(has string) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(has, "("), " ")
	return name
}

// fill adds rows of texts; "NULL" is null.
func (d *db) fill(table string, rows ...[]string) {
	d.t.Helper()
	for _, r := range rows {
		var values []string
		var params []string
		for _, v := range r {
			if v == "NULL" {
				values = append(values, "NULL")
				continue
			}
			params = append(params, v)
			values = append(values, d.param(len(params)))
		}
		d.exec("INSERT INTO "+d.e.ident(table)+" VALUES ("+strings.Join(values, ", ")+")", params...)
	}
}

func (d *db) param(n int) string {
	if d.is("postgresql") {
		return fmt.Sprintf("$%d", n)
	}
	return "?"
}

// open opens a table as a target.
func (d *db) open(table string, o Options) *Table {
	d.t.Helper()
	if o.Dir == "" {
		o.Dir = d.t.TempDir()
	}
	t, err := Open(context.Background(), disk.OS{}, d.url+(&url.URL{Fragment: target.Qualified(table)}).String(), o)
	require.NoError(d.t, err)
	d.t.Cleanup(func() { _ = t.Close() })
	return t
}

// writable opens a table to be written.
func (d *db) writable(table string, o Options) *Table {
	d.t.Helper()
	t := d.open(table, o)
	require.NoError(d.t, t.Writable(context.Background()))
	require.NoError(d.t, t.Prepare(context.Background()))
	return t
}

// place is a table for the suites that prove targets.
type place struct {
	d     *db
	table string
	key   []string
	dup   bool
}

func (p *place) Open(t *testing.T) target.Target {
	if p.dup {
		return p.d.open(p.table, Options{Key: p.key})
	}
	return p.d.writable(p.table, Options{Key: p.key, Of: new(schema.Schema)})
}

func (p *place) Set(t *testing.T, key, field, value string) {
	id := p.d.e.ident
	p.d.exec(fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s = %s", id(p.table), id(field), p.d.param(1), id(p.key[0]), p.d.param(2)), value, key)
}

// schemaOf is what a dossier says of its values.
func (d *db) schemaOf(x *desk.Dossier) *schema.Schema {
	s, err := x.Schema()
	require.NoError(d.t, err)
	return s
}
