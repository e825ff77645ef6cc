package derive

import (
	"bytes"
	"context"
	stdcsv "encoding/csv"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/expr"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

var names = []string{"k", "a", "b", "n"}

func fields() []expr.Field {
	var f []expr.Field
	for _, n := range names {
		f = append(f, expr.Field{Name: n, Type: expr.Text})
	}
	return f
}

func env(t require.TestingT) *expr.Env {
	e, err := expr.NewEnv(fields(), nil)
	require.NoError(t, err)
	return e
}

// sheet writes rows as CSV, each cell in quotes or not.
func sheet(t *rapid.T, rows [][]string) []byte {
	var b strings.Builder
	b.WriteString("k,a,b,n\n")
	for _, row := range rows {
		for i, c := range row {
			if i > 0 {
				b.WriteByte(',')
			}
			if strings.ContainsAny(c, ",\"\n") || rapid.IntRange(0, 3).Draw(t, "quoted") == 0 {
				b.WriteString(`"` + strings.ReplaceAll(c, `"`, `""`) + `"`)
			} else {
				b.WriteString(c)
			}
		}
		b.WriteString(rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "end"))
	}
	return []byte(b.String())
}

func open(t require.TestingT, data []byte) *table.Image {
	m, err := csv.Open("s.csv", data)
	require.NoError(t, err)
	return m
}

func draw(t *rapid.T) [][]string {
	var rows [][]string
	for i := range rapid.IntRange(1, 60).Draw(t, "rows") {
		cell := func(name string) string {
			return rapid.SampledFrom([]string{"", "x", "a,b", "two\nlines", `"q"`, "é", " y", "007"}).Draw(t, name)
		}
		rows = append(rows, []string{fmt.Sprintf("%03d", i), cell("a"), cell("b"), fmt.Sprint(rapid.IntRange(-9, 9).Draw(t, "n"))})
	}
	return rows
}

func read(t require.TestingT, data []byte) [][]string {
	r := stdcsv.NewReader(bytes.NewReader(data))
	r.FieldsPerRecord = -1
	rows, err := r.ReadAll()
	require.NoError(t, err)
	return rows[1:]
}

// What is set is set in the selected records and nowhere else, on the values
// of before: a = b with b = a exchanges them. Rows that do not change keep
// their bytes.
func TestSetsSeeTheRecordAsItWas(t *testing.T) {
	e := env(t)
	where, err := e.CompileBool(`number(n) > 0`)
	require.NoError(t, err)
	a, err := e.Compile("b")
	require.NoError(t, err)
	b, err := e.Compile("a")
	require.NoError(t, err)
	n, err := e.Compile("text(number(n) * 2)")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		rows := draw(t)
		m := open(t, sheet(t, rows))
		d := &Derivation{Key: []string{"k"}, Env: e, Where: where, Ops: []Op{{Field: "a", Program: a}, {Field: "b", Program: b}, {Field: "n", Program: n}}}
		var out bytes.Buffer
		res, err := d.Write(context.Background(), m, fields(), &out)
		require.NoError(t, err)
		got := read(t, out.Bytes())
		require.Len(t, got, len(rows))
		selected := 0
		for i, row := range rows {
			want := append([]string(nil), row...)
			var x int
			_, err := fmt.Sscan(row[3], &x)
			require.NoError(t, err)
			if x > 0 {
				selected++
				want[3] = fmt.Sprint(2 * x)
				if row[2] != "" { // what is empty is null, and takes no part
					want[1] = row[2]
				}
				if row[1] != "" {
					want[2] = row[1]
				}
				if row[2] == "" {
					want[1] = ""
				}
				if row[1] == "" {
					want[2] = ""
				}
			}
			assert.Equal(t, want, got[i])
		}
		assert.Equal(t, selected, res.Selected)
		assert.Equal(t, len(rows), res.Records)
	})
}

// A derivation that does nothing gives the rows' bytes.
func TestNothingChangesNothing(t *testing.T) {
	e := env(t)
	same, err := e.Compile("a")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		data := sheet(t, draw(t))
		d := &Derivation{Key: []string{"k"}, Env: e, Ops: []Op{{Field: "a", Program: same}, {Field: "b", From: "b"}}}
		var out bytes.Buffer
		res, err := d.Write(context.Background(), open(t, data), fields(), &out)
		require.NoError(t, err)
		assert.Zero(t, res.Changed)
		assert.Equal(t, strings.ReplaceAll(string(data), "\r\n", "\n"), out.String())
	})
}

type list map[record.Key]int

func (l list) Has(k record.Key) bool { _, ok := l[k]; return ok }
func (l list) Len() int              { return len(l) }
func (l list) Row(k record.Key) int  { return l[k] }
func (l list) Repeats() []int        { return nil }
func (l list) Keys() (all []record.Key) {
	for k := range l {
		all = append(all, k)
	}
	return all
}

// Records go, come, are filled, cleared and overlaid.
func TestTheOtherWays(t *testing.T) {
	m := open(t, []byte("k,a,b,n\n1,x,,5\n2,,y,6\n3,z,w,7\n"))
	e := env(t)
	text, err := e.Compile(`"filled " + k`)
	require.NoError(t, err)
	bad, err := e.Compile(`text(1 / (number(n) - 6))`)
	require.NoError(t, err)
	one := list{record.NewKey("2"): 1, record.NewKey("9"): 2}
	for _, c := range []struct {
		d     Derivation
		want  string
		codes string
	}{
		{Derivation{Ops: []Op{{Field: "a", Program: text, OnlyEmpty: true}}}, "1,x,,5\n2,filled 2,y,6\n3,z,w,7\n", ""},
		{Derivation{Ops: []Op{{Field: "a"}}, Keys: list{record.NewKey("3"): 1}}, "1,x,,5\n2,,y,6\n3,,w,7\n", ""},
		{Derivation{Delete: true, Keys: one, List: "l.txt"}, "1,x,,5\n3,z,w,7\n", "selected-unknown"},
		{Derivation{Ops: []Op{{Field: "b", From: "a"}, {Field: "a"}}}, "1,,x,5\n2,,,6\n3,,z,7\n", ""},
		{Derivation{Adds: [][]string{{"4", "a,b", "", "1"}}, Keys: list{}}, "1,x,,5\n2,,y,6\n3,z,w,7\n4,\"a,b\",,1\n", ""},
		{Derivation{From: &Overlay{Name: "o", Fields: []string{"a"}, Values: map[record.Key][]string{record.NewKey("1"): {"new"}, record.NewKey("2"): {""}}, Rows: map[record.Key]int{}}}, "1,new,,5\n2,,y,6\n3,z,w,7\n", ""},
		{Derivation{Ops: []Op{{Field: "b", Program: bad}}}, "1,x,-1,5\n2,,y,6\n3,z,1,7\n", "derive-failed"},
		{Derivation{Ops: []Op{{Field: "a"}}, Keys: list{}}, "1,x,,5\n2,,y,6\n3,z,w,7\n", "derive-none"},
	} {
		c.d.Key, c.d.Env = []string{"k"}, e
		var out bytes.Buffer
		res, err := c.d.Write(context.Background(), m, fields(), &out)
		require.NoError(t, err)
		assert.Equal(t, "k,a,b,n\n"+c.want, out.String())
		var codes []string
		for _, f := range res.Findings {
			codes = append(codes, f.Code)
		}
		assert.Equal(t, c.codes, strings.Join(codes, " "))
	}
	_, err = (&Derivation{Key: []string{"nope"}, Env: e}).Write(context.Background(), m, fields(), &bytes.Buffer{})
	var missing *FieldError
	require.ErrorAs(t, err, &missing)
	ctx, stop := context.WithCancel(context.Background())
	stop()
	_, err = (&Derivation{Key: []string{"k"}, Env: e}).Write(ctx, m, fields(), &bytes.Buffer{})
	assert.ErrorIs(t, err, context.Canceled)
}

// BenchmarkDerive derives two fields of a million records by a condition, and
// reads the same records with encoding/csv, in turn.
func BenchmarkDerive(b *testing.B) {
	var s bytes.Buffer
	s.WriteString("k,a,b,n,c1,c2,c3,c4,c5,c6,c7,c8,c9,c10,c11,c12\n")
	for i := range 1_000_000 {
		fmt.Fprintf(&s, "%07d,Old Pier %d,D0%d,%d.50,57.12345,-2.34567,Fl(2) R 10s,U-1004,2031444412341234,230123456,2020-01-01,2026-09-01,in_service,true,outer,see visit sheet\n", i, i, i%8, i%300)
	}
	m := open(b, s.Bytes())
	var all []expr.Field
	for _, h := range m.Heading {
		all = append(all, expr.Field{Name: h, Type: expr.Text})
	}
	e, err := expr.NewEnv(all, nil)
	require.NoError(b, err)
	where, err := e.CompileBool(`b == "D03"`)
	require.NoError(b, err)
	fee, err := e.Compile(`text(round(number(n) * 1.04, 2))`)
	require.NoError(b, err)
	depot, err := e.Compile(`"D07"`)
	require.NoError(b, err)
	var derive, plain time.Duration
	for b.Loop() {
		start := time.Now()
		d := &Derivation{Key: []string{"k"}, Env: e, Where: where, Ops: []Op{{Field: "n", Program: fee}, {Field: "b", Program: depot}}}
		_, err := d.Write(context.Background(), m, all, new(bytes.Buffer))
		require.NoError(b, err)
		derive += time.Since(start)
		start = time.Now()
		r := stdcsv.NewReader(bytes.NewReader(s.Bytes()))
		r.ReuseRecord = true
		for {
			if _, err := r.Read(); err != nil {
				break
			}
		}
		plain += time.Since(start)
	}
	b.ReportMetric(float64(derive)/float64(plain), "derive/read")
}

// Files beside the snapshot are read by their headings, and what is wrong with
// them is said with its row.
func TestFilesBesideTheSnapshot(t *testing.T) {
	m := open(t, []byte("k,a,b,n\n1,x,,5\n"))
	o, err := ReadOverlay(open(t, []byte("why,b,k\nz,new,1\n,,2\n")), []string{"k"}, m, new(schema.Schema))
	require.NoError(t, err)
	assert.Equal(t, []string{"b"}, o.Fields)
	assert.Equal(t, []string{"new"}, o.Values[record.NewKey("1")])
	assert.Equal(t, 3, o.Rows[record.NewKey("2")])
	adds, fields, err := ReadAdds(open(t, []byte("b,k\ny,7\n")), m)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"7", "", "y", ""}}, adds)
	assert.Equal(t, []string{"b", "k"}, fields)
	for text, want := range map[string]string{
		"k\n1\n":           "s.csv: it has no field of the snapshot beside its key; it has k",
		"a,x\n1,2\n":       `s.csv: it has no column for the key "k"; it has a, x`,
		"k,a\n1,x\n1,y\n":  "s.csv row 3: 1 stands on row 2, too",
		"k,a\n1,x\n,y\n\n": "s.csv row 3: it has no key",
	} {
		_, err := ReadOverlay(open(t, []byte(text)), []string{"k"}, m, new(schema.Schema))
		assert.EqualError(t, err, want)
	}
	_, _, err = ReadAdds(open(t, []byte("k,zzz\n1,2\n")), m)
	assert.EqualError(t, err, `s.csv: it has a column "zzz", and the snapshot has no such field`)
}

// All lines of a derived state end as the snapshot's heading does, those of new records too.
func TestLinesEndAsTheHeading(t *testing.T) {
	e := env(t)
	p, err := e.Compile(`a + "!"`)
	require.NoError(t, err)
	for data, want := range map[string]string{
		"k,a,b,n\r\n1,x,,\r\n\r\n2,y,,": "k,a,b,n\r\n1,x!,,\r\n2,y!,,\r\n9,,,\r\n",
		"k,a,b,n\n1,x,,\r\n2,y,,\n":     "k,a,b,n\n1,x!,,\n2,y!,,\n9,,,\n",
	} {
		var out bytes.Buffer
		d := &Derivation{Key: []string{"k"}, Env: e, Ops: []Op{{Field: "a", Program: p}}, Adds: [][]string{{"9", "", "", ""}}}
		_, err := d.Write(context.Background(), open(t, []byte(data)), fields(), &out)
		require.NoError(t, err)
		assert.Equal(t, want, out.String())
	}
}

// A record's key is there for each expression that names it, whether it selects or sets.
func TestExpressionsKnowTheKey(t *testing.T) {
	e := env(t)
	where, err := e.CompileBool(`key == "2"`)
	require.NoError(t, err)
	set, err := e.Compile(`key + "!"`)
	require.NoError(t, err)
	plain, err := e.Compile(`b + "?"`)
	require.NoError(t, err)
	const data = "k,a,b,n\n1,x,u,\n2,y,v,\n"
	for _, c := range []struct {
		d    Derivation
		want string
	}{
		{Derivation{Where: where, Ops: []Op{{Field: "a", Program: plain}}}, "k,a,b,n\n1,x,u,\n2,v?,v,\n"},
		{Derivation{Ops: []Op{{Field: "b", Program: plain}, {Field: "a", Program: set}}}, "k,a,b,n\n1,1!,u?,\n2,2!,v?,\n"},
	} {
		c.d.Key, c.d.Env = []string{"k"}, e
		var out bytes.Buffer
		_, err := c.d.Write(context.Background(), open(t, []byte(data)), fields(), &out)
		require.NoError(t, err)
		assert.Equal(t, c.want, out.String())
	}
}
