package layout

import (
	"iter"

	"paletwin/core/changeset"
)

// mostTexts is how many different things are said of one table; what is beyond
// is counted.
const mostTexts = 2000

// Tally counts problems by what is said of them, with the first rows and keys
// that have each. The zero Tally is empty.
type Tally struct {
	order []Problem
	at    map[Problem]*Found
}

// Found is something wrong with values, with the rows that have it.
type Found struct {
	Problem
	Rows  []int    `json:"rows"`            // the first of them
	Where string   `json:"where,omitempty"` // of a table of several sheets, instead
	Keys  []string `json:"-"`               // of records that are on no row, the first
	Count int      `json:"count"`
}

// Note counts a problem of a row.
func (t *Tally) Note(p Problem, row int) {
	if f := t.count(p); len(f.Rows) < changeset.MaxRows {
		f.Rows = append(f.Rows, row)
	}
}

// NoteKey counts a problem of a record that is on no row.
func (t *Tally) NoteKey(p Problem, key string) {
	if f := t.count(p); len(f.Keys) < changeset.MaxRows {
		f.Keys = append(f.Keys, key)
	}
}

func (t *Tally) count(p Problem) *Found {
	f := t.at[p]
	if f == nil {
		if len(t.order) >= mostTexts {
			p.Text = "more of the kind"
		}
		f = t.of(p)
	}
	f.Count++
	return f
}

func (t *Tally) of(p Problem) *Found {
	f := t.at[p]
	if f == nil {
		if t.at == nil {
			t.at = map[Problem]*Found{}
		}
		f = &Found{Problem: p}
		t.at[p] = f
		t.order = append(t.order, p)
	}
	return f
}

// Merge takes in what a later part of the work counted.
func (t *Tally) Merge(o *Tally) {
	for x := range o.All() {
		f := t.of(x.Problem)
		f.Count += x.Count
		f.Rows = append(f.Rows, x.Rows[:min(len(x.Rows), changeset.MaxRows-len(f.Rows))]...)
		f.Keys = append(f.Keys, x.Keys[:min(len(x.Keys), changeset.MaxRows-len(f.Keys))]...)
	}
}

// All gives what was counted, in the order in which it was met.
func (t *Tally) All() iter.Seq[*Found] {
	return func(yield func(*Found) bool) {
		for _, p := range t.order {
			if !yield(t.at[p]) {
				return
			}
		}
	}
}
