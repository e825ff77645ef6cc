package compare

import (
	"bytes"
	"context"
	stdcsv "encoding/csv"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

func image(t require.TestingT, name string, rows [][]string) *table.Image {
	var b bytes.Buffer
	w := stdcsv.NewWriter(&b)
	require.NoError(t, w.WriteAll(rows))
	m, err := csv.Open(name, b.Bytes())
	require.NoError(t, err)
	return m
}

// kept is a sink that keeps what it is given.
type kept struct {
	lines   []byte
	changes []*changeset.Change
}

func (k *kept) WriteEncoded(lines []byte, changes []*changeset.Change) error {
	k.lines = append(k.lines, lines...)
	k.changes = append(k.changes, changes...)
	return nil
}

func run(t require.TestingT, snapshot, edited [][]string, o Options) (*Result, *kept) {
	k := new(kept)
	if o.Key == nil {
		o.Key = []string{"k"}
	}
	o.RecordSet = "t"
	res, err := Run(context.Background(), image(t, "snapshot.csv", snapshot), image(t, "edited.csv", edited), o, k)
	require.NoError(t, err)
	return res, k
}

// register draws a snapshot with unique keys, in any order.
func register(t *rapid.T) [][]string {
	rows := [][]string{{"k", "l", "v", "w"}}
	seen := map[string]bool{}
	for range rapid.IntRange(0, 40).Draw(t, "records") {
		k := fmt.Sprint(rapid.IntRange(1, 60).Draw(t, "k"))
		l := rapid.SampledFrom([]string{"a", "b,", "\"", "x\ny"}).Draw(t, "l")
		if !seen[k+"|"+l] {
			seen[k+"|"+l] = true
			rows = append(rows, []string{k, l, rapid.SampledFrom(cells).Draw(t, "v"), fmt.Sprint(rapid.IntRange(-50, 50).Draw(t, "w"))})
		}
	}
	return rows
}

var cells = []string{"", "0", "007", "D03", "a,b", "two\nlines", `"q"`, "é", "8.50"}

// edit draws an edited copy: rows changed, dropped, added, repeated, without
// a key, blank, shuffled.
func edit(t *rapid.T, snapshot [][]string) [][]string {
	edited := [][]string{snapshot[0]}
	for _, row := range snapshot[1:] {
		row = slices.Clone(row)
		switch rapid.IntRange(0, 9).Draw(t, "edit") {
		case 0:
			continue
		case 1:
			row[2] = rapid.SampledFrom(cells).Draw(t, "v")
		case 2:
			row[3] = fmt.Sprint(rapid.IntRange(-50, 50).Draw(t, "w"))
		case 3:
			edited = append(edited, row)
		case 4:
			row[0] = rapid.SampledFrom([]string{"", "61", "62"}).Draw(t, "k")
		case 5:
			edited = append(edited, []string{"", "", "", ""})
		}
		edited = append(edited, row)
	}
	if rapid.Bool().Draw(t, "shuffled") {
		shuffled := rapid.Permutation(edited[1:]).Draw(t, "order")
		edited = append([][]string{edited[0]}, shuffled...)
	}
	return edited
}

// model is the comparison by the book: maps, and nothing clever.
func model(snapshot, edited [][]string) map[string]string {
	want := map[string]string{}
	rows := map[record.Key][][]string{}
	for _, r := range edited[1:] {
		if k := record.NewKey(r[0], r[1]); !k.Blank() {
			rows[k] = append(rows[k], r)
		}
	}
	for _, s := range snapshot[1:] {
		k := record.NewKey(s[0], s[1])
		r := rows[k]
		delete(rows, k)
		switch {
		case len(r) == 0:
			want["delete "+k.String()] = fmt.Sprint(s)
		case len(r) == 1 && !slices.Equal(s, r[0]):
			var parts []string
			for i := range s {
				if s[i] != r[0][i] {
					parts = append(parts, fmt.Sprintf("%s: %q %q", snapshot[0][i], s[i], r[0][i]))
				}
			}
			want["amend "+k.String()] = strings.Join(parts, "; ")
		}
	}
	for k, r := range rows {
		if len(r) == 1 {
			want["add "+k.String()] = fmt.Sprint(r[0])
		}
	}
	return want
}

func found(changes []*changeset.Change) map[string]string {
	got := map[string]string{}
	for _, c := range changes {
		var parts []string
		for _, f := range c.Fields {
			parts = append(parts, fmt.Sprintf("%s: %q %q", f.Field, f.From, f.To))
		}
		text := strings.Join(parts, "; ")
		if c.Act != changeset.Amend {
			var v []string
			for _, f := range c.Record {
				v = append(v, f.Value.String())
			}
			text = fmt.Sprint(v)
		}
		got[c.Act.String()+" "+c.Key.String()] = text
	}
	return got
}

func TestComparisonIsTheModels(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		snapshot := register(t)
		edited := edit(t, snapshot)
		o := Options{Key: []string{"k", "l"}, OtherRegister: true, Room: Room{Cores: rapid.IntRange(1, 3).Draw(t, "cores")}}
		res, k := run(t, snapshot, edited, o)
		assert.Equal(t, model(snapshot, edited), found(k.changes))
		addsUp(t, res)
	})
}

// addsUp asserts the sums of SEMANTICS.
func addsUp(t require.TestingT, res *Result) {
	r, n := res.Records, res.Changes
	assert.Equal(t, r.Snapshot, n.Amend+n.Delete+r.Unchanged+r.Kept+r.StoppedRecords, "snapshot")
	assert.Equal(t, r.Edited, n.Amend+r.Unchanged+n.Add+r.Skipped+r.Stopped, "edited")
}

func TestTheComparisonAddsUpUnderEveryOption(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		snapshot := register(t)
		edited := edit(t, snapshot)
		o := Options{Key: []string{"k", "l"}, OtherRegister: true, SlipSearch: SlipSearch{Slips: rapid.SampledFrom([]string{"", SlipsOff, SlipsWarn, SlipsHold}).Draw(t, "slips")}, Proposals: Proposals{Missing: rapid.SampledFrom([]string{Held, Asked, Ignore}).Draw(t, "missing"), Blank: rapid.SampledFrom([]string{Held, Clear, Ignore}).Draw(t, "blank"), Allow: rapid.SampledFrom([][]changeset.Act{nil, {changeset.Amend}, {changeset.Add, changeset.Delete}}).Draw(t, "allow")}}
		if rapid.Bool().Draw(t, "list") {
			list, err := ReadKeyList("list.csv", []byte("k,l\n1,a\n2,a\n3,a\n1,a\n99,z\n"), o.Key, nil)
			require.NoError(t, err)
			o.DeleteList = list
		}
		res, _ := run(t, snapshot, edited, o)
		addsUp(t, res)
	})
}

func TestComparedWithItselfIsEmpty(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rows := register(t)
		res, k := run(t, rows, rows, Options{Key: []string{"k", "l"}, OtherRegister: true})
		assert.Empty(t, k.changes)
		assert.Equal(t, len(rows)-1, res.Records.Unchanged)
	})
}

func TestOrderOfRowsAndColumnsDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		snapshot := register(t)
		edited := edit(t, snapshot)
		o := Options{Key: []string{"k", "l"}, OtherRegister: true}
		_, want := run(t, snapshot, edited, o)
		turned := make([][]string, len(edited))
		for i, row := range edited {
			turned[i] = []string{row[3], row[1], row[0], row[2]}
		}
		turned = append(turned[:1], rapid.Permutation(turned[1:]).Draw(t, "order")...)
		_, got := run(t, snapshot, turned, o)
		assert.Equal(t, found(want.changes), found(got.changes))
	})
}

// Rows whose cells are the snapshot's in another order, in quotes or not, are told from others as they are where each cell has to be
// looked at, since the copy has a column of its own.
func TestCellsElsewhere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		snapshot := register(t)
		edited := edit(t, snapshot)
		columns := rapid.Permutation([]int{0, 1, 2, 3}).Draw(t, "columns")
		if rapid.IntRange(0, 3).Draw(t, "narrow") == 0 {
			columns = slices.DeleteFunc(columns, func(c int) bool { return c == 2 })
		}
		comma := rapid.SampledFrom([]byte{',', ';', '\t'}).Draw(t, "comma")
		var plain, wide []byte
		for n, row := range edited {
			for i, c := range columns {
				quoted := n > 0 && rapid.IntRange(0, 3).Draw(t, "quoted") == 0
				plain = csv.AppendCell(plain, row[c], comma, quoted)
				wide = csv.AppendCell(wide, row[c], comma, quoted)
				if i < len(columns)-1 {
					plain, wide = append(plain, comma), append(wide, comma)
				}
			}
			plain, wide = append(plain, '\n'), append(wide, comma, "zq"[min(n, 1)], '\n')
		}
		compare := func(data []byte) map[string]string {
			k := new(kept)
			m, err := csv.OpenWith("edited.csv", data, table.Options{Delimiter: string(comma)})
			require.NoError(t, err)
			_, err = Run(context.Background(), image(t, "snapshot.csv", snapshot), m, Options{Key: []string{"k", "l"}, OtherRegister: true, RecordSet: "t"}, k)
			require.NoError(t, err)
			return found(k.changes)
		}
		require.Equal(t, compare(wide), compare(plain))
	})
}

// Rows of the same bytes that say something else: their columns stand elsewhere, or another delimiter parts them.
func TestSameBytesElsewhere(t *testing.T) {
	for edited, want := range map[string]int{"k,w,v\n1,a;b,5\n": 2, "k,v,w\n1,a;b,5\n": 0, "k,w,v\n1,5,a;b\n": 0, "v,k\na;b,1\n": 0, "v,k\na,1\n": 1} {
		res := new(kept)
		snapshot, err := csv.Open("s.csv", []byte("k,v,w\n1,a;b,5\n"))
		require.NoError(t, err)
		m, err := csv.OpenWith("e.csv", []byte(edited), table.Options{Delimiter: edited[1:2]})
		require.NoError(t, err)
		_, err = Run(context.Background(), snapshot, m, Options{Key: []string{"k"}, OtherRegister: true, RecordSet: "t"}, res)
		require.NoError(t, err)
		n := 0
		for _, c := range res.changes {
			n += len(c.Fields)
		}
		assert.Equal(t, want, n, "%q", edited)
	}
}

// Where both tables tell null from the empty text, quotes are a difference.
func TestNullAndQuotedNothing(t *testing.T) {
	for _, tells := range []bool{false, true} {
		o := table.Options{Delimiter: ",", Known: table.Found{Nulls: tells}}
		snapshot, err := csv.OpenWith("s.csv", []byte("k,v,w\n1,,x\n"), o)
		require.NoError(t, err)
		edited, err := csv.OpenWith("e.csv", []byte("k,v,w\n1,\"\",\"x\"\n"), o)
		require.NoError(t, err)
		res := new(kept)
		_, err = Run(context.Background(), snapshot, edited, Options{Key: []string{"k"}, OtherRegister: true, RecordSet: "t"}, res)
		require.NoError(t, err)
		require.Len(t, res.changes, map[bool]int{true: 1}[tells])
	}
}

func TestSameBytesOnAnyNumberOfCores(t *testing.T) {
	rows, edited := [][]string{{"k", "v"}}, [][]string{{"k", "v"}}
	for i := range 3 * chunk {
		rows = append(rows, []string{fmt.Sprint(i * 7919 % 100003), "a"})
		v := "a"
		if i%5 == 0 {
			v = fmt.Sprint(i)
		}
		edited = append(edited, []string{rows[i+1][0], v})
	}
	for i := range 2 * chunk {
		edited = append(edited, []string{fmt.Sprintf("new-%d", i), "b"})
	}
	_, one := run(t, rows, edited, Options{Room: Room{Cores: 1}})
	_, many := run(t, rows, edited, Options{Room: Room{Cores: 7}})
	assert.True(t, bytes.Equal(one.lines, many.lines))
	assert.NotEmpty(t, one.lines)
}

func TestTotalsAreExact(t *testing.T) {
	rows := [][]string{{"k", "fee", "hours", "code", "text"},
		{"1", "0.10", "9", "20310001", "x"}, {"2", "0.20", "10", "20310002", "y"}, {"3", "99999999999999.99", "-3", "20310003", "z"}}
	edited := [][]string{rows[0], {"1", "0.30", "9.5", "20310009", "q"}, rows[2], rows[3]}
	res, _ := run(t, rows, edited, Options{})
	assert.Equal(t, []Total{{"fee", "100000000000000.29", "100000000000000.49"}, {"hours", "16.0", "16.5"}}, res.Totals,
		"ids of one length and texts are not summed")
}

func TestTotalsAgreeWithRationals(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rows := [][]string{{"k", "v"}}
		want := new(big.Rat)
		for i := range rapid.IntRange(2, 30).Draw(t, "n") {
			s := rapid.StringMatching(`-?(0|[1-9][0-9]{0,12})\.[0-9]{1,5}`).Draw(t, "v")
			rows = append(rows, []string{fmt.Sprint(i), s})
			r, ok := new(big.Rat).SetString(s)
			require.True(t, ok)
			want.Add(want, r)
		}
		edited := append([][]string{rows[0]}, rows[2:]...)
		edited = append(edited, []string{"0", "1.5"})
		res, _ := run(t, rows, edited, Options{})
		if len(res.Totals) == 0 { // the first value was 1.5 already
			return
		}
		got, ok := new(big.Rat).SetString(res.Totals[0].Before)
		require.True(t, ok)
		assert.Zero(t, want.Cmp(got), "%s, want %s", got, want)
	})
}

// Where records come and go the sums of all columns are made ahead, whatever their changes turn out to move: each total is still the sum of
// its column in both files, and a column with anything but numbers has none.
func TestTotalsAreTheSumsOfBothFiles(t *testing.T) {
	sum := func(rows [][]string, col int) (*big.Rat, bool) {
		total := new(big.Rat)
		for _, r := range rows[1:] {
			if x, ok := new(big.Rat).SetString(r[col]); ok {
				total.Add(total, x)
			} else if r[col] != "" {
				return nil, false
			}
		}
		return total, true
	}
	rapid.Check(t, func(t *rapid.T) {
		cell := rapid.StringMatching(`|-?(0|[1-9][0-9]{0,3})(\.[0-9]{1,3})?`)
		odd := rapid.IntRange(0, 3).Draw(t, "odd cells") == 0
		row := func(key int) []string {
			r := []string{fmt.Sprint("k", key), cell.Draw(t, "a"), cell.Draw(t, "b"), cell.Draw(t, "c")}
			if odd && rapid.IntRange(0, 9).Draw(t, "is odd") == 0 {
				r[rapid.IntRange(1, 3).Draw(t, "column")] = "none"
			}
			return r
		}
		rows, edited := [][]string{{"k", "a", "b", "c"}}, [][]string{{"k", "a", "b", "c"}}
		for key := range 3 { // so that it is a copy of the snapshot
			r := row(-1 - key)
			rows, edited = append(rows, r), append(edited, r)
		}
		for key := range rapid.IntRange(1, 30).Draw(t, "records") {
			r := row(key)
			switch rapid.IntRange(0, 5).Draw(t, "fate") {
			case 0:
				rows = append(rows, r)
			case 1:
				edited = append(edited, r)
			case 2:
				rows, edited = append(rows, r), append(edited, row(key))
			default:
				rows, edited = append(rows, r), append(edited, r)
			}
		}
		res, _ := run(t, rows, edited, Options{OtherRegister: true, Proposals: Proposals{Missing: Asked, AllMissing: true, Blank: Clear}})
		told := map[string]Total{}
		for _, x := range res.Totals {
			told[x.Field] = x
		}
		for col, f := range rows[0] {
			before, ok := sum(rows, col)
			after, still := sum(edited, col)
			x, there := told[f]
			if !ok || !still || col == 0 {
				require.False(t, there && (!ok || col == 0), "%s is no number in all rows", f)
				continue
			}
			if !there {
				continue // nothing moves it, or it has no number
			}
			for want, got := range map[*big.Rat]string{before: x.Before, after: x.After} {
				is, ok := new(big.Rat).SetString(got)
				require.True(t, ok)
				require.Zero(t, want.Cmp(is), "%s: %s, want %s", f, is, want)
			}
		}
		require.Equal(t, len(res.Totals), len(told))
	})
}

func TestRowNumbersAreASpreadsheets(t *testing.T) {
	m, err := csv.Open("e.csv", []byte("k,v\n1,a\n\n2,b\n,\n3,\"x\ny\"\n,z\n"))
	require.NoError(t, err)
	s := newSide(m, []int{0})
	require.NoError(t, s.scan(context.Background(), 1))
	assert.Equal(t, []int{2, 4, 6, 7}, s.rowNumbers([]uint32{0, 1, 2, 3}))
	assert.Equal(t, []uint32{3}, s.noKey)
	assert.Equal(t, `3,"x`+"\n"+`y"`, string(s.raw(2)))
	assert.Equal(t, "1,a", string(s.raw(0)), "the blank rows behind a row are not its own")
}

func TestRefusals(t *testing.T) {
	good := [][]string{{"k", "v"}, {"1", "a"}, {"2", "b"}}
	for _, c := range []struct {
		name             string
		snapshot, edited [][]string
		code             table.Code
		rows             []int
	}{
		{"blank key", [][]string{{"k", "v"}, {"1", "a"}, {"", "b"}}, good, KeyBlank, []int{3}},
		{"repeat", [][]string{{"k", "v"}, {"2", "a"}, {"1", "b"}, {"2", "c"}}, good, KeyRepeat, []int{2, 4}},
		{"repeat of neighbours", [][]string{{"k", "v"}, {"1", "a"}, {"1", "b"}}, good, KeyRepeat, []int{2, 3}},
		{"another register", good, [][]string{{"k", "v"}, {"8", "a"}, {"9", "b"}, {"1", "a"}}, NotACopy, nil},
		{"no key column", good, [][]string{{"key", "v"}, {"1", "a"}}, NoKeyColumn, nil},
		{"nothing in common", good, [][]string{{"x"}, {"1"}}, NoCommon, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Run(context.Background(), image(t, "s.csv", c.snapshot), image(t, "e.csv", c.edited), Options{Key: []string{"k"}}, nil)
			var r *Refusal
			require.ErrorAs(t, err, &r)
			assert.Equal(t, c.code, r.Code)
			assert.Equal(t, c.rows, r.Rows)
		})
	}
}

// Different keys with one hash must stay different: the index confirms on
// the key's bytes.
func TestEqualHashesAreConfirmed(t *testing.T) {
	m := image(t, "s.csv", [][]string{{"k"}, {"a"}, {"b"}, {"c"}})
	s := newSide(m, []int{0})
	require.NoError(t, s.scan(context.Background(), 1))
	x := newSlots(s, 1)
	for i := range uint32(3) {
		_, there := x.insert(i, 42)
		assert.False(t, there)
	}
	_, there := x.insert(1, 42)
	assert.True(t, there)
	r, ok := x.find(42, record.AppendPart(nil, "c"))
	assert.True(t, ok)
	assert.EqualValues(t, 2, r)
	_, ok = x.find(42, record.AppendPart(nil, "d"))
	assert.False(t, ok)
}

// However little memory there is, and whatever is spilled, the change set
// has the same bytes.
func TestSameBytesWithLittleMemory(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		snapshot := register(t)
		edited := edit(t, snapshot)
		o := Options{Key: []string{"k", "l"}, OtherRegister: true}
		res, want := run(t, snapshot, edited, o)
		spilled := 0
		o.Memory = rapid.Int64Range(1, 4000).Draw(t, "memory")
		o.Cores = rapid.IntRange(1, 3).Draw(t, "cores")
		o.Spill = func(n int64) ([]byte, error) { spilled++; return make([]byte, n), nil }
		got, k := run(t, snapshot, edited, o)
		assert.Equal(t, string(want.lines), string(k.lines))
		assert.Equal(t, res, got)
	})
}

// A shuffled copy of a sorted snapshot takes the way over the index, in one
// round or in many.
func TestShuffledAtEveryMemory(t *testing.T) {
	rows, edited := [][]string{{"k", "v"}}, [][]string{{"k", "v"}}
	const n = 5000
	for i := range n {
		rows = append(rows, []string{fmt.Sprintf("%05d", i), "a"})
	}
	for i := range n {
		edited = append(edited, []string{fmt.Sprintf("%05d", i*7919%n), "b"})
	}
	_, want := run(t, rows, edited, Options{})
	require.Len(t, want.changes, n)
	for _, memory := range []int64{1, 60_000, 90_000, 250_000} {
		spilled := 0
		_, got := run(t, rows, edited, Options{Room: Room{Memory: memory, Spill: func(n int64) ([]byte, error) { spilled++; return make([]byte, n), nil }}})
		assert.True(t, bytes.Equal(want.lines, got.lines))
		assert.Equal(t, memory < 250_000, spilled > 0, "%d bytes", memory)
	}
}

func TestOffsetsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var o offsets
		var want []int64
		at := int64(0)
		for range rapid.IntRange(0, 100).Draw(t, "n") {
			at += rapid.SampledFrom([]int64{0, 1, 20, 3000, 70_000, 1 << 33}).Draw(t, "length")
			o.append(at)
			want = append(want, at)
		}
		require.Equal(t, len(want), o.len())
		for i, w := range want {
			assert.Equal(t, w, o.at(uint32(i)))
		}
	})
}
