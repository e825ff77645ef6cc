package sqldb

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/thorough"
)

// lines keeps a change set's lines.
type lines struct{ b []byte }

func (l *lines) WriteEncoded(lines []byte, _ []*changeset.Change) error {
	l.b = append(l.b, lines...)
	return nil
}

// told is what comparing two tables says.
type told struct {
	Lines   string
	Records compare.Records
	Totals  []compare.Total
	Changes changeset.Tally
	Codes   []string
	Refused string
}

// tell compares two sources; where they are a part, in says so.
func tell(t testing.TB, on *desk.Desk, a, b []byte, key []string, l *desk.Layout, in *desk.InPlace, names [2]string) told {
	got := new(lines)
	res, err := on.Preview(context.Background(), &desk.Comparison{Title: "t", By: "lina", Now: time.Now(), InPlace: in, Layout: l, Sink: got,
		Snapshot: desk.Source{Name: names[0], Stream: bytes.NewReader(a), Taken: true}, Edited: &desk.Source{Name: names[1], Stream: bytes.NewReader(b), Taken: true},
		Options: compare.Options{RecordSet: "things", Key: key, SlipSearch: compare.SlipSearch{Slips: compare.SlipsOff}}})
	var no *compare.Refusal
	if errors.As(err, &no) {
		return told{Refused: no.Error()}
	}
	require.NoError(t, err)
	r := told{Lines: string(got.b), Records: res.Records, Totals: res.Totals, Changes: res.Changes}
	for _, f := range res.Findings {
		r.Codes = append(r.Codes, fmt.Sprint(f.Code, " ", f.Count, " ", f.Column))
	}
	return r
}

// twins are two tables with much in common, of random columns.
type twins struct {
	r      *rand.Rand
	a, b   *db
	key    []string
	cols   []string   // their types
	values [][]string // of each, as expressions
	nameA  string
	nameB  string
	unlike bool // they lie in different databases
	slow   bool // behind a slow line
	spread bool // they stand on several servers, so that what a key is all have to know
}

// quoted is a text as SQL has it.
func quoted(d *db, s string) string {
	s = strings.ReplaceAll(s, "'", "''")
	if d.is("mariadb") {
		s = strings.ReplaceAll(s, `\`, `\\`)
	}
	return "'" + s + "'"
}

var keyTexts = []string{"a", "A", "a ", " a", "ab", "a-b", "a\x01", "é", "z", "Z", "ß", "00417", "417", "0417", "10", "9", `"`, "x,y", "x\ny", "😀", "\uffee", "1.0", "1.00"}

// make makes both tables of one engine, or of two.
func (w *twins) make(t testing.TB) {
	r := w.r
	types := awkward[w.a.a.Scheme]
	if w.unlike {
		types = [][]string{{"varchar(30)", "'a'", "''", "' b '", "'x,\"y'"}, {"integer", "1", "-20", "300000"}, {"decimal(12,2)", "1.10", "-0.50", "12345.00"}, {"date", "'2026-02-28'"}}
	}
	n := 1 + r.IntN(5)
	for range n {
		typ := types[r.IntN(len(types))]
		w.cols = append(w.cols, typ[0])
		values := append(slices.Clone(typ[1:]), "NULL")
		if w.a.is("postgresql") && !w.unlike {
			for i := range values {
				values[i] = "(" + values[i] + ")::" + typ[0]
			}
		}
		w.values = append(w.values, values)
	}
	keyTypes := map[string][]string{
		"postgresql": {"integer", "text", "varchar(20)", "numeric", "uuid", "date", `text COLLATE "C"`},
		"mariadb":    {"integer", "varchar(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin", "decimal(8,2)", "date", "varchar(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"},
		"sqlite":     {"INTEGER", "TEXT", "", "NUMERIC", "TEXT COLLATE NOCASE"},
	}
	keyType := func(d *db) string {
		k := keyTypes[d.a.Scheme]
		if w.unlike {
			return map[string]string{"sqlite": "TEXT", "postgresql": "text", "mariadb": "varchar(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin"}[d.a.Scheme]
		}
		return k[r.IntN(len(k))]
	}
	typ := keyType(w.a)
	composite, primary := r.IntN(3) == 0, r.IntN(4) > 0 || w.spread
	w.key = []string{"k"}
	if composite {
		w.key = append(w.key, "part")
	}
	own := func(d *db, typ string) string {
		cols := []string{"k " + typ, "part integer"}
		if primary {
			cols[0] += " NOT NULL"
			cols[1] += " NOT NULL"
		}
		all := make([]string, 0, n)
		for i, c := range w.cols {
			all = append(all, fmt.Sprintf("c%d %s", i, c))
		}
		if r.IntN(3) == 0 && d == w.b {
			r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		}
		if r.IntN(6) == 0 && d == w.b && len(all) > 1 && w.nameB == "" {
			all = all[:len(all)-1]
		}
		cols = append(cols, all...)
		if primary {
			cols = append(cols, "PRIMARY KEY ("+strings.Join(w.key, ", ")+")")
		}
		return "(" + strings.Join(cols, ", ") + ")"
	}
	w.nameA = w.a.table(own(w.a, typ))
	other := typ
	if w.unlike {
		other = keyType(w.b)
	}
	w.nameB = w.b.table(own(w.b, other))
	w.fill(t, typ)
}

// fill adds records, most of them to both.
func (w *twins) fill(t testing.TB, typ string) {
	r := w.r
	has := map[string]bool{}
	for _, c := range w.b.rows(w.columnsOf(w.b, w.nameB)) {
		has[c[0]] = true
	}
	seen := map[string]bool{}
	for i := range r.IntN(40) {
		var key string
		switch {
		case strings.HasPrefix(strings.ToLower(typ), "integer"), strings.HasPrefix(strings.ToLower(typ), "numeric"), strings.HasPrefix(typ, "decimal"):
			key = fmt.Sprint(r.IntN(60))
			if !strings.HasPrefix(strings.ToLower(typ), "int") && r.IntN(3) == 0 {
				key += ".0"
			}
		case typ == "uuid":
			key = fmt.Sprintf("'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a%02d'", i)
		case typ == "date":
			key = fmt.Sprintf("'2026-01-%02d'", 1+r.IntN(28))
		case typ == "" && r.IntN(2) == 0:
			key = []string{"1", "'1'", "1.0", "x'31'", "2", "-0.0", "0.0"}[r.IntN(7)]
		default:
			key = keyTexts[r.IntN(len(keyTexts))] + strings.Repeat("x", r.IntN(3))
			key = "T" + key
		}
		part := fmt.Sprint(r.IntN(3))
		if r.IntN(90) == 0 {
			part = "NULL"
		}
		if r.IntN(90) == 0 {
			key = "NULL"
		}
		row := map[string]string{"part": part}
		for c := range w.cols {
			row[fmt.Sprint("c", c)] = w.values[c][r.IntN(len(w.values[c]))]
		}
		twin := map[string]string{}
		for c, v := range row {
			twin[c] = v
		}
		switch r.IntN(8) {
		case 0:
			c := r.IntN(len(w.cols))
			twin[fmt.Sprint("c", c)] = w.values[c][r.IntN(len(w.values[c]))]
		case 1:
			row = nil
		case 2:
			twin = nil
		}
		if full := key + part; !seen[full] || r.IntN(60) == 0 { // a snapshot with a key twice is refused
			w.insert(w.a, w.nameA, key, row, nil)
			seen[full] = true
		}
		w.insert(w.b, w.nameB, key, twin, has)
	}
}

func (w *twins) columnsOf(d *db, table string) string {
	if d.is("sqlite") {
		return "SELECT name FROM pragma_table_info('" + table + "')"
	}
	return "SELECT column_name FROM information_schema.columns WHERE table_name = '" + table + "'"
}

// insert adds a record, if the table takes it.
func (w *twins) insert(d *db, table, key string, row map[string]string, has map[string]bool) {
	if row == nil {
		return
	}
	if text, ok := strings.CutPrefix(key, "T"); ok {
		key = quoted(d, text)
	}
	names, values := []string{"k"}, []string{key}
	for c, v := range row {
		if has == nil || has[c] {
			names, values = append(names, c), append(values, v)
		}
	}
	_, _ = d.s.exec(context.Background(), "INSERT INTO "+d.e.ident(table)+" ("+strings.Join(names, ", ")+") VALUES ("+strings.Join(values, ", ")+")") // a key may be there already
}

// compareBoth holds what is said of two tables where they are against what is said of their exports.
func (w *twins) compareBoth(t testing.TB, on *desk.Desk, l *desk.Layout, n *counted) {
	ctx := context.Background()
	o := Options{Key: w.key, Slow: w.slow}
	if l != nil {
		o.Of = l.Schema()
	}
	read := func(d *db, name string) []byte {
		var b bytes.Buffer
		x := d.open(name, o)
		_, err := x.Take(ctx, &b)
		require.NoError(t, err)
		require.NoError(t, x.Close())
		return b.Bytes()
	}
	exportA, exportB := read(w.a, w.nameA), read(w.b, w.nameB)
	p, reason, err := NewPair(ctx, w.a.open(w.nameA, o), w.b.open(w.nameB, o))
	require.NoError(t, err)
	if reason != "" {
		n.whole++
		return
	}
	defer p.Close()
	names := p.Names()
	want := tell(t, on, exportA, exportB, w.key, l, nil, names)
	var a, b bytes.Buffer
	require.NoError(t, p.Begin(ctx))
	apart, err := p.Write(ctx, &a, &b)
	if errors.Is(err, ErrOrder) || errors.Is(err, ErrKeysTwice) {
		n.whole++
		return
	}
	require.NoError(t, err)
	got := tell(t, on, a.Bytes(), b.Bytes(), w.key, l, &desk.InPlace{At: time.Now(), Alike: compare.Alike{Records: apart.Alike, Sums: p.Sums, Values: p.Values}}, names)
	if got.Refused != "" {
		n.refused++ // it is compared again then, on both tables
		return
	}
	if !assert.Equal(t, want, got) {
		t.Logf("keys %v, columns %v\n%s\n%s\ninside %v: %d alike\n%s\n%s", w.key, w.cols, exportA, exportB, apart.Inside, apart.Alike, a.Bytes(), b.Bytes())
	}
	if apart.Digests {
		n.digests++
	}
	if apart.Inside {
		n.inside++
	} else {
		n.beside++
	}
	if got.Changes.Changes() > 0 && got.Records.Unchanged > 0 {
		n.mixed++
	}
	if len(got.Totals) > 0 {
		n.sums++
	}
}

// counted is what came of cases: too few of a sort prove nothing.
type counted struct{ inside, beside, digests, whole, refused, mixed, sums int }

func testDesk(t testing.TB) *desk.Desk {
	on, err := desk.Find(disk.OS{}, account.Account{}, t.TempDir(), "")
	require.NoError(t, err)
	return on
}

// What two tables differ in is the same whether they are compared where they are or as exports: changes byte for byte, counts,
// sums, findings.
func TestWhereTheyAreAsExported(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	rounds := thorough.Few(500, 60)
	if testing.Short() {
		rounds = 20
	}
	onEach(t, func(t *testing.T, d *db) {
		if d.is("postgresql") {
			d.exec("DROP TYPE IF EXISTS mood CASCADE")
			d.exec(`CREATE TYPE mood AS ENUM ('calm', 'it''s rough', 'sehr hoch, "7"')`)
		}
		on := testDesk(t)
		n := new(counted)
		for round := range rounds {
			w := &twins{r: rand.New(rand.NewPCG(seed, uint64(round))), a: d, b: d, slow: round%2 == 0}
			w.make(t)
			w.compareBoth(t, on, nil, n)
			if t.Failed() {
				t.Fatalf("round %d", round)
			}
			for _, name := range []string{w.nameA, w.nameB} {
				d.exec("DROP TABLE " + d.e.ident(name))
			}
		}
		t.Logf("%+v", *n)
		if testing.Short() {
			return // too few to be sure of any sort
		}
		assert.Equal(t, !d.is("mariadb"), n.inside > 0)
		assert.Greater(t, n.beside, rounds/40)
		assert.Greater(t, n.mixed, rounds/4)
		assert.Greater(t, n.sums, 0)
	})
}

// The same of tables in two databases.
func TestSideBySideAsExported(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	all := bases(t)
	for i, x := range all {
		for j, y := range all {
			if i == j && x.name != "sqlite" {
				continue
			}
			t.Run(x.name+" and "+y.name, func(t *testing.T) {
				a, b := newDB(t, x), newDB(t, y)
				on := testDesk(t)
				n := new(counted)
				for round := range thorough.Few(60, 12) {
					w := &twins{r: rand.New(rand.NewPCG(seed, uint64(round))), a: a, b: b, unlike: true, slow: round%2 == 0}
					w.make(t)
					w.compareBoth(t, on, nil, n)
					if t.Failed() {
						t.Fatalf("round %d", round)
					}
				}
				t.Logf("%+v", *n)
				assert.Greater(t, n.beside, 2)
				assert.Positive(t, n.digests)
			})
		}
	}
}

// Where the database gives no second connection, what would be found out beside is found out afterwards.
func TestOneConnectionIsEnough(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		if d.is("mariadb") {
			t.Skip("it joins nothing")
		}
		has := "(k integer PRIMARY KEY, n decimal(8,2), v text)"
		a, b := d.table(has), d.table(has)
		for i := range 20 {
			d.exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, %d.5, 'v')", a, i, i))
			d.exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, %d.5, 'v')", b, i, i+i/19))
		}
		p, reason, err := NewPair(t.Context(), d.open(a, Options{}), d.open(b, Options{}))
		require.NoError(t, err)
		require.Empty(t, reason)
		require.NoError(t, p.Begin(t.Context()))
		if p.a.at.URL != nil {
			p.a.at.URL.Host = "127.0.0.1:1"
		}
		var x, y bytes.Buffer
		got, err := p.Write(t.Context(), &x, &y)
		require.NoError(t, err)
		assert.Equal(t, Apart{Records: [2]int{20, 20}, Alike: 19, Inside: true}, *got)
		sums, err := p.Sums(t.Context(), []string{"n"})
		require.NoError(t, err)
		var want compare.Sum
		for i := range 20 {
			want.Add(fmt.Appendf(nil, "%d.%s", i, map[bool]string{true: "5", false: "50"}[d.is("sqlite")]))
		}
		assert.Equal(t, want, sums[0])
	})
}

// What differs in one byte, in being null, in its class, or in how often its key stands there is not alike.
func TestWhatIsNotAlike(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		for _, held := range []bool{true, false} {
			text := map[string]string{"mariadb": "varchar(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci"}[d.a.Scheme]
			if text == "" {
				text = "text"
			}
			has := "(k varchar(20) NOT NULL PRIMARY KEY, v " + text + ", n " + map[string]string{"sqlite": "", "postgresql": "numeric", "mariadb": "decimal(8,2)"}[d.a.Scheme] + ")"
			if !held {
				has = strings.Replace(has, " PRIMARY KEY", "", 1)
			}
			a, b := d.table(has), d.table(has)
			rows := [][4]string{{"'1'", "'same'", "'same'", "1"}, {"'2'", "NULL", "''", "1"}, {"'3'", "'a'", "'A'", "1"}, {"'4'", "'a'", "'a '", "1"}, {"'5'", "NULL", "NULL", "1"}}
			for _, r := range rows {
				d.exec(fmt.Sprintf("INSERT INTO %s VALUES (%s, %s, %s)", a, r[0], r[1], r[3]))
				d.exec(fmt.Sprintf("INSERT INTO %s VALUES (%s, %s, %s)", b, r[0], r[2], r[3]))
			}
			alike := 2
			if !d.is("mariadb") { // which has one text of each number there
				d.exec("UPDATE " + b + " SET n = 1.0 WHERE k = '5'")
				alike--
			}
			if !held {
				d.exec("INSERT INTO " + b + " SELECT * FROM " + b + " WHERE k = '1'")
				alike--
			}
			p, reason, err := NewPair(t.Context(), d.open(a, Options{Key: []string{"k"}}), d.open(b, Options{Key: []string{"k"}}))
			require.NoError(t, err)
			require.Empty(t, reason)
			require.NoError(t, p.Begin(t.Context()))
			var x, y bytes.Buffer
			got, err := p.Write(t.Context(), &x, &y)
			require.NoError(t, err)
			assert.Equal(t, held && !d.is("mariadb"), got.Inside)
			assert.Equal(t, alike, got.Alike, "%s\n%s", x.Bytes(), y.Bytes())
			require.NoError(t, p.Close())
		}
	})
}

// A row that is too long for a digest is read.
func TestRowsTooLongForADigest(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		if !d.is("mariadb") {
			t.Skip("it has digests of all rows")
		}
		has := "(k varchar(20) NOT NULL PRIMARY KEY, v longtext, w longtext)"
		a, b := d.table(has), d.table(has)
		for _, table := range []string{a, b} {
			d.exec("INSERT INTO " + table + " VALUES ('1', REPEAT('x', 9000000), REPEAT('y', 9000000)), ('2', 'x', 'y')")
		}
		d.exec("UPDATE " + b + " SET w = REPEAT('z', 9000000) WHERE k = '1'")
		p, _, err := NewPair(t.Context(), d.open(a, Options{Slow: true}), d.open(b, Options{}))
		require.NoError(t, err)
		require.NoError(t, p.Begin(t.Context()))
		var x, y bytes.Buffer
		got, err := p.Write(t.Context(), &x, &y)
		require.NoError(t, err)
		assert.Equal(t, Apart{Records: [2]int{2, 2}, Alike: 1, Digests: true}, *got)
		assert.Greater(t, y.Len(), 18_000_000)
	})
}

// With a layout there are values that may be one although they are not written alike, limits, and values that no two records may have.
func TestWhereTheyAreByALayout(t *testing.T) {
	l, err := layout.Parse("layout.yaml", []byte("record_set: things\nkey: k\nkey_form: {trim: true, zeros: 3, case: ignore}\nfields:\n  k: {kind: text}\n  name: {kind: text, unique: true}\n  fee: {kind: decimal, scale: 2}\n  zone: {kind: choice, values: [inner, outer]}\nlimits: {amend: 30%, delete: \"2\"}\n"), nil)
	require.NoError(t, err)
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	onEach(t, func(t *testing.T, d *db) {
		on := testDesk(t)
		n := new(counted)
		for round := range thorough.Few(60, 15) {
			r := rand.New(rand.NewPCG(seed, uint64(round)))
			w := &twins{r: r, a: d, b: d, key: []string{"k"}}
			has := "(k varchar(20) NOT NULL PRIMARY KEY, name varchar(20), fee varchar(20), zone varchar(10))"
			w.nameA, w.nameB = d.table(has), d.table(has)
			value := func() map[string]string {
				return map[string]string{"name": quoted(d, fmt.Sprint("n", r.IntN(60))), "fee": quoted(d, []string{"1.50", "1.5", "2", "", "x"}[r.IntN(5)]), "zone": quoted(d, []string{"inner", "outer", "Outer", ""}[r.IntN(4)])}
			}
			for i := range 30 {
				row := value()
				twin := row
				if r.IntN(5) == 0 {
					twin = value()
				}
				written := func() string { // in one of the ways in which a key may be written
					switch r.IntN(30) {
					case 0:
						return fmt.Sprintf("T%d", i)
					case 1:
						return fmt.Sprintf("T %03d", i)
					case 2:
						return fmt.Sprintf("T%03dA", i)
					}
					return fmt.Sprintf("T%03da", i)
				}
				key := written()
				if r.IntN(15) > 0 {
					w.insert(d, w.nameA, key, row, nil)
				}
				if r.IntN(20) == 0 {
					key = written()
				}
				if r.IntN(15) > 0 {
					w.insert(d, w.nameB, key, twin, nil)
				}
				if r.IntN(300) == 0 { // twice, in both
					for _, twice := range []string{fmt.Sprintf("T%d", i), fmt.Sprintf("T%03d", i)} {
						w.insert(d, w.nameA, twice, row, nil)
						w.insert(d, w.nameB, twice, row, nil)
					}
				}
			}
			w.compareBoth(t, on, &desk.Layout{Layout: l}, n)
			if t.Failed() {
				t.Fatalf("round %d", round)
			}
		}
		t.Logf("%+v", *n)
		assert.Greater(t, n.mixed, 5)
		if thorough.All() {
			assert.Greater(t, n.whole, 0, "keys that stand twice")
		}
	})
}
