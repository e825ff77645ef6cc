package layout

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/zeebo/xxh3"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// Report is what checking a whole table found.
type Report struct {
	Records int
	Fields  []Summary
	Found   []Found
	Unknown []string // headings that are no field and are not ignored
	Absent  []string // fields without a column
}

// Summary is a field's values in short.
type Summary struct {
	Field    string      `json:"field"`
	Kind     schema.Kind `json:"kind"`
	Filled   int         `json:"filled"`
	Distinct int         `json:"distinct"`
	Min      string      `json:"min"` // by value; of texts by their order
	Max      string      `json:"max"`
	Longest  int         `json:"longest"` // characters
	Bad      int         `json:"bad"`

	low, high expr.Value
	values    map[uint64]uint32
}

// Check checks every value and every record of a table whose columns have the
// layout's names. A translation is not applied: the table is taken to be a
// snapshot's or a copy's as it stands.
func (l *Layout) Check(ctx context.Context, m *table.Image) (*Report, error) {
	r := &Report{}
	cols := make([]int, len(l.Fields))
	for i := range l.Fields {
		f := &l.Fields[i]
		if cols[i] = m.Column(f.Name); cols[i] < 0 {
			r.Absent = append(r.Absent, f.Name)
		}
		r.Fields = append(r.Fields, Summary{Field: f.Name, Kind: f.Kind, values: map[uint64]uint32{}})
	}
	for _, h := range m.Heading {
		if h != "" && l.Index(h) < 0 && !l.Ignores(h) {
			r.Unknown = append(r.Unknown, h)
		}
	}
	var t Tally
	err := l.checkRows(ctx, m, cols, r, &t)
	for f := range t.All() {
		f.Where = m.Where(f.Rows)
		r.Found = append(r.Found, *f)
	}
	slices.SortStableFunc(r.Found, func(a, b Found) int { return l.Index(a.Field) - l.Index(b.Field) })
	return r, err
}

func (l *Layout) checkRows(ctx context.Context, m *table.Image, cols []int, r *Report, t *Tally) error {
	keys := newKeys(l, m, t.Note)
	texts := make([]string, len(l.Fields))
	return csv.Each(ctx, m, func(row *csv.Line) error {
		r.Records++
		keys.take(row)
		for i, c := range cols {
			texts[i] = row.Text(c)
			if c < 0 {
				continue
			}
			for _, p := range append(l.Fields[i].checkHere(texts[i]), r.Fields[i].take(&l.Fields[i], texts[i])...) {
				t.Note(p, row.Number())
			}
		}
		in := &expr.Input{New: l.Getter(func(i int) string { return texts[i] }), Act: "none", Row: row.Number()}
		in.Old = in.New
		for _, p := range l.CheckRules(in, nil) {
			t.Note(p, row.Number())
		}
		return nil
	})
}

// keys tells where a table's key is blank, or on several rows.
type keys struct {
	l    *Layout
	m    *table.Image
	cols []int
	name string
	seen map[xxh3.Uint128]int // the first row; 0 where it was said already
	note func(p Problem, row int)
}

func newKeys(l *Layout, m *table.Image, note func(p Problem, row int)) *keys {
	k := &keys{l: l, m: m, name: strings.Join(l.Key, ", "), seen: map[xxh3.Uint128]int{}, note: note}
	for _, name := range l.Key {
		col := m.Column(name)
		if col < 0 {
			k.bad(m.HeadingRow, KeyMissing, "the key %s has no column", name)
			k.cols = nil
			return k
		}
		k.cols = append(k.cols, col)
	}
	return k
}

func (k *keys) bad(row int, code, format string, args ...any) {
	k.note(Problem{code, k.name, "stop", fmt.Sprintf(format, args...)}, row)
}

func (k *keys) take(r *csv.Line) {
	if k.cols == nil {
		return
	}
	key, row := r.Key(k.cols), r.Number()
	if key.Blank() {
		k.bad(row, changeset.KeyBlank.Name, "the key is empty")
		return
	}
	h := xxh3.HashString128(k.l.schema.Key(key).Encoding())
	first, twice := k.seen[h]
	if !twice {
		k.seen[h] = row
		return
	}
	if first > 0 {
		k.bad(first, changeset.Repeat.Name, "%q is the key of several records", key)
		k.seen[h] = 0
	}
	k.bad(row, changeset.Repeat.Name, "%q is the key of several records", key)
}

// checkHere says what is wrong with a value of a table as it stands.
func (f *Field) checkHere(text string) []Problem {
	if text == "" || f.Null != "" && text == f.Null {
		return f.checkBlank()
	}
	if f.Kind == schema.Reference {
		if _, ok := f.List.code(f.Compare.Normal(text)); !ok {
			return []Problem{f.problem(changeset.ValueRef.Name, "%q is not in %s%s", text, f.List.Name, nearWords(f.List.near(text)))}
		}
	}
	return f.check(text)
}

// take takes a value into the summary; of a unique field it says where one
// comes again.
func (s *Summary) take(f *Field, text string) []Problem {
	if text == "" {
		return nil
	}
	s.Filled++
	s.Longest = max(s.Longest, len([]rune(text)))
	h := xxh3.HashString(f.Canonical(text))
	s.values[h]++
	if s.values[h] == 1 {
		s.Distinct++
	}
	v, ok := f.Value(text)
	if !ok {
		s.Bad++
		return nil
	}
	if v == expr.Null {
		return nil
	}
	_, number := v.(interface{ Compare(expr.Value) expr.Value })
	switch {
	case f.exprType() == expr.Text || f.exprType() == expr.Boolean || !number:
		if s.Min == "" || strings.Compare(text, s.Min) < 0 {
			s.Min = text
		}
		if strings.Compare(text, s.Max) > 0 {
			s.Max = text
		}
	default:
		if s.low == nil || less(v, s.low) {
			s.low, s.Min = v, text
		}
		if s.high == nil || less(s.high, v) {
			s.high, s.Max = v, text
		}
	}
	if f.Unique && s.values[h] > 1 {
		return []Problem{f.problem(changeset.ValueUnique.Name, "%q is the value of several records", text)}
	}
	return nil
}
