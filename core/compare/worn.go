package compare

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/slip"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/wear"
	"paletwin/core/wear/learn"
)

// Cell is a cell of the copy that is not read as it is seen.
type Cell struct {
	Key      record.Key
	Field    string
	File     string // the copy, where there are several
	Row      int    // of it
	Snapshot string
	Seen     string
	Kind     wear.Kind
	As       wear.As
}

// Wear counts what software did to the copy.
type Wear struct {
	Cells  int               `json:"cells"` // read as the snapshot has them
	ByKind map[wear.Kind]int `json:"by_kind"`
	Held   int               `json:"held"`
}

// reading says how the copy's cells are read: what became of each column on the
// way. Where nothing did it is empty.
type reading struct {
	*pairs
	columns []*wear.Column // of each field of the snapshot, nil where nothing was found
	empties []nullWords    // of each field what words for nothing are shown as
	bulks   []*bulk        // of each field, nil where not many cells differ without a habit
	letters *learn.Letters // what became of letters in the file, where no known program did it
	program string         // what saved the copy, as it is concluded
}

// read looks at how the copy is to be read.
func (p *pairs) read(ctx context.Context) (*reading, error) {
	r := &reading{pairs: p}
	return r, table.Guard(func() error { return r.judgeWear(ctx) })
}

const (
	// sampled is how many pairs of rows that differ show what became of the
	// columns, and sameSampled how many that do not.
	sampled     = 4096
	sameSampled = 512
	// choosing is how many cells of a field that differ, and choosingSame how
	// many that do not, decide which program it was: more cost time and tell
	// nothing new.
	choosing     = 30
	choosingSame = 15
	// choosingColumns is how many columns of which cells differ decide that.
	choosingColumns = 300
	// longestSampled is how long a cell may be that shows what became of a
	// column: longer ones are no values of which a program makes others, and
	// what there is to see in them takes long.
	longestSampled = 64 << 10
	// fewUnmatched is the share of rows, as 1/n, that have to be unmatched
	// before worn keys are looked for.
	fewUnmatched = 100
)

func (t *tables) known() wear.Known {
	return wear.Known{Format: t.format, Year: t.o.Year, SavedIn: t.o.SavedIn, Order: t.o.DayOrder}
}

// wornHeadings matches columns whose headings a program changed as it changes
// cells: 001 to 1, TRUE, a date. Exactly one field has to become what is seen.
func (t *tables) wornHeadings(m *layout.Match, fields, headings []string) {
	if !t.o.Wear {
		return
	}
	for _, col := range slices.Clone(m.Ignored) {
		field := -1
		for f, name := range fields {
			if m.Column[f] >= 0 || !t.becomes(name, headings[col]) {
				continue
			}
			if field >= 0 {
				field = -1
				break
			}
			field = f
		}
		if field >= 0 {
			m.Column[field], m.How[field] = col, layout.ByProgram
			m.Ignored = slices.DeleteFunc(m.Ignored, func(x int) bool { return x == col })
		}
	}
}

// becomes reports whether a program makes seen of a text.
func (t *tables) becomes(text, seen string) bool {
	return slices.ContainsFunc(t.known().All(), func(h wear.Habit) bool {
		worn, kind := h.Wear(text)
		return kind != "" && worn == seen
	})
}

// judgeWear looks at a sample of pairs of rows and concludes which program
// saved the copy, and what became of each column.
func (r *reading) judgeWear(ctx context.Context) error {
	if r.copy == nil || !r.o.Wear {
		return nil
	}
	s := r.sample()
	if err := r.findNulls(s); err != nil {
		return err
	}
	cells, kept, err := r.sampledCells(s)
	if err != nil {
		return err
	}
	v, worn := wear.Choose(some(cells), r.known())
	if all := r.known().All(); !worn && r.o.SavedIn != "" && len(all) > 0 {
		v.Habit = all[0]
	}
	if worn {
		v = v.Among(cells, some(kept))
		r.program = v.Habit.Name()
	}
	r.columns = make([]*wear.Column, len(r.res.Fields))
	err = inTurn(r.o.Cores, len(cells), func(f int) {
		r.columns[f] = wear.Judge(v.Habit, append(cells[f], kept[f]...))
		r.columns[f].Rivals, r.columns[f].Said = v.Rivals, r.o.SavedIn != ""
	})
	if err != nil {
		return err
	}
	if worn {
		wear.Settle(r.columns, r.copy.img.Lent != nil, v.Alone)
	}
	if err := r.learn(v, cells, kept); err != nil {
		return err
	}
	if err := r.judgeBulk(s); err != nil {
		return err
	}
	return ctx.Err()
}

// learn learns what became of the columns that no known habit explains.
func (r *reading) learn(v wear.Verdict, cells, kept [][]wear.Pair) (err error) {
	x := wear.File{Columns: r.columns, Cells: make([][]wear.Pair, len(cells)), Known: r.known(), Shown: r.snap.img.Shown, Marks: r.marks()}
	for f := range cells {
		x.Cells[f] = append(cells[f][:len(cells[f]):len(cells[f])], kept[f]...)
	}
	chosenBy := some(cells)
	x.Unexplained = func(marks []int) int { return v.Unexplained(chosenBy, marks) }
	x.Each = func(n int, f func(i int)) { err = errors.Join(err, inTurn(r.o.Cores, n, f)) }
	r.letters = x.Learn()
	return err
}

// marks counts what else of the copy shows that a program saved it: words for nothing,
// keys.
func (r *reading) marks() int {
	n := 0
	if slices.ContainsFunc(r.empties, func(w nullWords) bool { return len(w) > 0 }) {
		n++
	}
	if r.keyWorn {
		n++
	}
	return n
}

// some takes of each of the first columns so many cells that differ, and so many that do not.
func some(cells [][]wear.Pair) [][]wear.Pair {
	few := make([][]wear.Pair, len(cells))
	columns := 0
	for f, col := range cells {
		if columns == choosingColumns {
			break
		}
		differ, same := 0, 0
		for _, p := range col {
			n, most := &same, choosingSame
			if p.Snapshot != p.Seen {
				n, most = &differ, choosing
			}
			if *n < most {
				*n++
				few[f] = append(few[f], p)
			}
		}
		if differ > 0 {
			columns++
		}
	}
	return few
}

// sampledPair is the cells of a record and of the copy's row for it.
type sampledPair struct {
	was, is [][]byte
	weight  float64 // how many pairs of the files it stands for
}

// sample reads pairs of rows at fixed places: of those that are not known to
// be equal, and fewer of those that are.
func (r *reading) sample() []sampledPair {
	var there, taken [2]int // of rows that are not known to be equal, and of those that are
	kind := func(i int) int {
		if r.equal.has(uint32(i)) {
			return 1
		}
		return 0
	}
	for i, m := range r.mate {
		if m >= mateRow {
			there[kind(i)]++
		}
	}
	var pairs []sampledPair
	var kinds []int
	columns := max(len(r.snap.img.Heading), len(r.copy.img.Heading))
	seen, step, sameStep := 0, there[0]/slip.Sampled(sampled, columns)+1, len(r.mate)/slip.Sampled(sameSampled, columns)+1
	for i, m := range r.mate {
		if m < mateRow {
			continue
		}
		k := kind(i)
		take := i%sameStep == 0
		if k == 0 {
			take = take || seen%step == 0
			seen++
		}
		if !take {
			continue
		}
		p := sampledPair{was: csv.Split(make([][]byte, 0, len(r.snap.img.Heading)), r.snap.raw(uint32(i)), r.snap.img.Comma),
			is: csv.Split(make([][]byte, 0, len(r.copy.img.Heading)), r.copy.raw(m-mateRow), r.copy.img.Comma)}
		if len(p.was) >= len(r.pair) && len(p.is) > slices.Max(r.pair) {
			pairs, kinds = append(pairs, p), append(kinds, k)
			taken[k]++
		}
	}
	for n, k := range kinds {
		pairs[n].weight = float64(there[k]) / float64(taken[k])
	}
	return pairs
}

// sampledCells are the sampled cells by field: those of the columns of which some
// differ, and fewer of those that are as they were, which can only speak against a
// habit.
func (r *reading) sampledCells(pairs []sampledPair) (cells, kept [][]wear.Pair, err error) {
	cells, kept = make([][]wear.Pair, len(r.res.Fields)), make([][]wear.Pair, len(r.res.Fields))
	return cells, kept, inTurn(r.o.Cores, len(r.pair), func(f int) {
		col := r.pair[f]
		if col < 0 {
			return
		}
		to, most := &kept[f], sameSampled
		if slices.ContainsFunc(pairs, func(p sampledPair) bool { return !bytes.Equal(csv.Unquote(p.was[f]), csv.Unquote(p.is[col])) }) {
			to, most = &cells[f], len(pairs)
		}
		for _, p := range pairs {
			if len(*to) == most {
				break
			}
			a, _ := csv.Value(r.snap.img, p.was[f])
			b, there := csv.Value(r.copy.img, p.is[col])
			if there && !a.Blank() && !b.Blank() && max(len(a.String()), len(b.String())) <= longestSampled {
				*to = append(*to, wear.Pair{Snapshot: a.String(), Seen: b.String()})
			}
		}
	})
}

// readWorn reads a differing cell by what became of its column, and reports
// whether it is a change.
func (dr *drafter) readWorn(b *batch, f int, i, j uint32, fc *changeset.FieldChange) bool {
	if was, is := fc.From.String(), fc.To.String(); dr.empties[f].shows(was, is) {
		b.tally.wear(f, wear.NullToken, cmp.Or(was, "nothing"), cmp.Or(is, "nothing"))
		return false
	}
	if fc.To.Blank() {
		return true
	}
	r, alone := wear.Alone(fc.From.String(), fc.To.String())
	if !alone {
		if dr.columns == nil || dr.columns[f] == nil {
			return true
		}
		r = dr.columns[f].Read(fc.From.String(), fc.To.String())
	}
	if dr.o.Worn != nil && r.Kind != "" {
		b.worn = append(b.worn, Cell{Key: dr.snap.key(i), Field: fc.Field, Row: dr.copy.rowNumber(j), Snapshot: fc.From.String(), Seen: fc.To.String(), Kind: r.Kind, As: r.As})
	}
	switch r.As {
	case wear.Snapshot:
		b.tally.wear(f, r.Kind, fc.From.String(), fc.To.String())
		return false
	case wear.Held:
		if dr.o.Layout.Schema().Equal(fc.Field, fc.From, fc.To) {
			return false
		}
		fc.Held = append(fc.Held, changeset.WearHeld.Name)
		words := heldWords(r.Kind)
		if !alone && dr.columns[f].Learnt() {
			words = "may be what a program wrote" + inBrackets(dr.columns[f].Way())
		}
		if !alone && dr.columns[f].State == wear.Doubtful {
			words = "" // they are found when the cells are counted
		}
		dr.note(b, layout.Problem{Code: changeset.WearHeld.Name, Field: fc.Field, Level: "warn", Text: words}, j)
		b.tally.wornHeld++
	case wear.Unknown:
		dr.unknown(b, fc.Field, fc.To.String(), r, j)
		fc.Stop = append(fc.Stop, changeset.WearUnknown.Name)
	default:
		if r.Value != fc.To.String() {
			fc.To = record.Text(r.Value)
		}
		if k := dr.bulks[f]; k != nil && k.strange {
			fc.Held = append(fc.Held, changeset.Strange.Name)
			dr.note(b, layout.Problem{Code: changeset.Strange.Name, Field: fc.Field, Level: "warn", Text: ""}, j)
		}
	}
	return fc.To != fc.From
}

// heldWords says why a cell is held.
func heldWords(k wear.Kind) string {
	switch k {
	case wear.Formula:
		return "was a formula's text, or has an apostrophe now: a program may have done it (formula)"
	case wear.Unicode:
		return "differs in quotes and dashes alone: a program may have done it (unicode)"
	}
	return fmt.Sprintf("looks like what a program does (%s), in a column where it was not done to other cells", k)
}

func (dr *drafter) unknown(b *batch, field, seen string, r wear.Reading, j uint32) {
	dr.note(b, layout.Problem{Code: changeset.WearUnknown.Name, Field: field, Level: "stop", Text: fmt.Sprintf("%q was changed, and what was meant cannot be told (%s)", seen, r.Kind)}, j)
}

// readAdd reads a new record's values by what became of their columns.
func (dr *drafter) readAdd(b *batch, ch *changeset.Change, j uint32) {
	f := -1
	for i := range ch.Record { // its fields stand in their order
		for f++; f < len(dr.res.Fields) && dr.res.Fields[f] != ch.Record[i].Name; f++ {
		}
		if f == len(dr.res.Fields) {
			break
		}
		if ch.Record[i].Value.Blank() {
			continue
		}
		seen := ch.Record[i].Value.String()
		if dr.empties[f].shows("", seen) {
			ch.Record[i].Value = record.Text("")
			continue
		}
		r, alone := wear.Alone("", seen)
		if !alone {
			if dr.columns == nil || dr.columns[f] == nil {
				continue
			}
			r = dr.columns[f].ReadNew(seen)
		}
		switch {
		case r.As == wear.Unknown:
			dr.unknown(b, ch.Record[i].Name, seen, r, j)
			if !slices.Contains(ch.Stop, changeset.WearUnknown.Name) {
				ch.Stop = append(ch.Stop, changeset.WearUnknown.Name)
			}
		case dr.bulks[f] != nil && dr.bulks[f].strange && dr.columns[f].Outside(seen):
			if !slices.Contains(ch.Held, changeset.Strange.Name) {
				ch.Held = append(ch.Held[:len(ch.Held):len(ch.Held)], changeset.Strange.Name)
			}
			dr.note(b, layout.Problem{Code: changeset.Strange.Name, Field: ch.Record[i].Name, Level: "warn", Text: ""}, j)
		case r.Value != seen:
			ch.Record[i].Value = record.Text(r.Value)
		}
	}
	parts := ch.Key.Parts()
	get := ch.Record.Finder()
	for i, k := range dr.o.Key {
		if v, ok := get(k); ok {
			parts[i] = v.String()
		}
	}
	ch.Key = record.NewKey(parts...)
}

// guarded runs the look at worn keys on mapped files.
func (p *pairs) guardedWornKeys() error {
	return table.Guard(func() error { p.wornKeys(); return nil })
}
