package compare

import (
	"bytes"
	"fmt"
	"slices"

	"github.com/cockroachdb/apd/v3"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table/csv"
	"paletwin/core/wear"
	"paletwin/core/words"
)

const (
	// bulkShare is the share of a column's cells, as 1/n, that have to differ
	// before they are looked at as a whole, and fewBulk how many at least.
	bulkShare = 5
	fewBulk   = 5
)

// bulk is what the cells of a column that differ look like as a whole, where many
// do and no habit explains them.
type bulk struct {
	strange bool   // most are written as no value of the snapshot's column is
	example string // of a cell
	locale  string // of a program that would show it so; "" is none
	times   string // how many times as much they became, about; "" if not all alike
	to      string // the one value that they got, "" if they got several
}

// judgeBulk looks at the columns of which many sampled cells differ, and no habit
// explains them.
func (r *reading) judgeBulk(pairs []sampledPair) error {
	r.bulks = make([]*bulk, len(r.res.Fields))
	return inTurn(r.o.Cores, len(r.pair), func(f int) {
		col := r.pair[f]
		if col >= 0 && r.columns[f].State != wear.Worn && r.columns[f].State != wear.Doubtful && manyDiffer(pairs, f, col) {
			r.bulks[f] = r.bulkOf(pairs, f, col)
		}
	})
}

// manyDiffer reports whether so many cells of a column are of other bytes that they
// may be looked at as a whole.
func manyDiffer(pairs []sampledPair, f, col int) bool {
	var all, differ float64
	for _, p := range pairs {
		was, is := csv.Unquote(p.was[f]), csv.Unquote(p.is[col])
		if len(was) == 0 || len(is) == 0 {
			continue
		}
		if all += p.weight; !bytes.Equal(was, is) {
			differ += p.weight
		}
	}
	return differ > 0 && differ*bulkShare >= all
}

// bulkOf looks at one column, nil if not many of its cells differ.
func (r *reading) bulkOf(pairs []sampledPair, f, col int) *bulk {
	column := r.columns[f]
	var compared, share float64 // of cells, as the whole files have them
	differ, outside, unchosen := 0, 0, 0
	b := &bulk{}
	for _, p := range pairs {
		was, _ := csv.Value(r.snap.img, p.was[f])
		is, there := csv.Value(r.copy.img, p.is[col])
		if !there || was.Blank() || is.Blank() {
			continue
		}
		compared += p.weight
		from, to := was.String(), is.String()
		if r.o.Layout.Schema().Equal(r.res.Fields[f], was, is) || column.Explains(from, to) {
			continue
		}
		if to = r.means(f, from, to); r.o.Layout.Schema().Equal(r.res.Fields[f], was, record.Text(to)) {
			continue
		}
		share += p.weight
		switch {
		case column.Outside(to):
			outside++
		case column.Unchosen(to):
			unchosen++
		}
		times := column.Ratio(from, to)
		if differ++; differ == 1 {
			b.times, b.to, b.example = times, to, clip(from)+" as "+clip(to)
			b.locale = column.Fits(r.copy.img.Found.Format, to)
		}
		if !near(b.times, times) {
			b.times = ""
		}
		if b.to != to {
			b.to = ""
		}
	}
	if differ < fewBulk || share*bulkShare < compared {
		return nil
	}
	if b.to == "" { // one new value for many is given by somebody; other words for all are not
		outside += unchosen
	}
	b.strange = outside*2 >= differ
	return b
}

// means is a cell as the program that somebody named shows it, and the layout takes it: a name as its code.
func (r *reading) means(f int, from, to string) string {
	if r.columns[f].Said {
		if x := r.columns[f].Read(from, to); x.As == wear.Edit {
			to = x.Value
		}
	}
	if r.l == nil || r.field[f] == nil {
		return to
	}
	if text, problems := r.field[f].Take(to); len(problems) == 0 {
		return text
	}
	return to
}

// whole reports whether all that differs in a column is held, for one decision.
func (r *reading) whole(f int) bool {
	return f >= 0 && r.columns != nil && (r.columns[f].State == wear.Doubtful || r.bulks[f] != nil && r.bulks[f].strange)
}

// columnWords say what is the matter with a column that is held as a whole.
func (r *reading) columnWords(field string, cells int) string {
	f := slices.Index(r.res.Fields, field)
	values := words.Count(cells, "value")
	if cells == 1 {
		values += " is"
	} else {
		values += " are"
	}
	if k := r.bulks[f]; k != nil && k.strange {
		text := values + " written as the snapshot writes none of this column (" + k.example + k.became() + "), and no known program does that: a program, or meant? One decision for the column"
		if k.locale != "" {
			text += "; if those who made the file write so, compare again with --with saved-in=" + k.locale
		}
		return text
	}
	if r.columns[f].Learnt() {
		way := " written in another way" + inBrackets(r.columns[f].Way())
		if t := r.columns[f].Times; t != "" {
			way = " " + t + " times what they were"
		}
		return values + way + ": a program, or meant? One decision for the column"
	}
	return values + doubt(r.columns[f]) + ", as " + r.program + " would have made them: the program, or meant? One decision for the column"
}

// inBrackets puts words in brackets, if there are any.
func inBrackets(s string) string {
	if s == "" {
		return ""
	}
	return " (" + s + ")"
}

// doubt says what the habit may have done to a column.
func doubt(col *wear.Column) string {
	switch {
	case col.Times != "":
		return " " + col.Times + " times what they were"
	case col.Turns == 0:
		return " written otherwise"
	}
	return " other ones than they were"
}

// near reports whether two ratios are one but for the rounding of what was made by
// them.
func near(a, b string) bool {
	x, _, err := apd.NewFromString(a)
	if err != nil {
		return false
	}
	y, _, err := apd.NewFromString(b)
	if err != nil {
		return false
	}
	q := new(apd.Decimal)
	ctx := apd.BaseContext.WithPrecision(15)
	if _, err := ctx.Quo(q, x, y); err != nil {
		return false
	}
	return q.Cmp(apd.New(99, -2)) >= 0 && q.Cmp(apd.New(101, -2)) <= 0
}

// became says what became of the values, as far as that is one thing.
func (b *bulk) became() string {
	if b.to != "" {
		return fmt.Sprintf(", to %q", clip(b.to))
	}
	times, _, err := apd.NewFromString(b.times)
	if err != nil {
		return ""
	}
	if _, err := apd.BaseContext.WithPrecision(3).Round(times, times); err != nil || times.Cmp(apd.New(1, 0)) == 0 {
		return ""
	}
	times.Reduce(times)
	return ", about × " + times.Text('f')
}

// reportBulk says in a line of each column that many cells of it are changed, if
// nothing else is said of them.
func (wr *writer) reportBulk() {
	if wr.bulks == nil {
		return
	}
	said := map[string]bool{}
	for _, f := range wr.found.All() {
		said[f.Column] = said[f.Column] || f.Level != changeset.Note
	}
	changed := map[string]int{}
	for _, n := range wr.res.Changes.ByField {
		changed[n.Field] = n.Changes
	}
	for f, b := range wr.bulks {
		name := wr.res.Fields[f]
		if n := changed[name]; b != nil && !b.strange && !said[name] && n >= fewBulk && n*bulkShare >= wr.matched {
			f := changeset.BulkEdit.Finding("%d of %s changed%s", n, words.Count(wr.matched, "record"), b.became())
			f.Count = n
			wr.find(f, wr.copy.img.Name, name)
		}
	}
}
