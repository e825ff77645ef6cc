package changeset

import "fmt"

const (
	// MaxRows is the most rows that one finding names.
	MaxRows = 20
	// MostAlike is how many findings of one code on one column are told one by
	// one; the others are told together.
	MostAlike = 10
)

// Findings gathers findings in the order in which they are made. Of those of one
// code on one column the first MostAlike are told, and of the others how many
// there are and where; those about a record that they name are all told. The zero
// Findings is empty.
type Findings struct {
	all    []Finding
	alike  map[cause]int
	others map[cause]*others
}

// cause is what findings are alike in.
type cause struct{ code, column string }

// others are the findings of a cause that are not told one by one.
type others struct{ at, n int }

// Add takes a finding in.
func (l *Findings) Add(f Finding) {
	if f.Key != "" {
		l.all = append(l.all, f)
		return
	}
	if l.alike == nil {
		l.alike, l.others = map[cause]int{}, map[cause]*others{}
	}
	c := cause{f.Code, f.Column}
	if l.alike[c]++; l.alike[c] <= MostAlike {
		l.all = append(l.all, f)
		return
	}
	o := l.others[c]
	if o == nil {
		o = &others{at: len(l.all)}
		l.others[c] = o
		l.all = append(l.all, Finding{Code: f.Code, Level: f.Level, Scope: f.Scope, File: f.File, Column: f.Column})
	}
	g := &l.all[o.at]
	o.n++
	g.Text = fmt.Sprintf("%d more of the kind", o.n)
	g.Count += max(1, f.Count)
	rows := f.Rows
	if len(rows) == 0 && f.Row > 0 {
		rows = []int{f.Row}
	}
	if g.Rows = append(g.Rows, rows[:min(len(rows), MaxRows-len(g.Rows))]...); len(g.Rows) > 0 {
		g.Row = g.Rows[0]
	}
}

// All returns the findings.
func (l *Findings) All() []Finding { return l.all }
