// Package refs is about the references of a spreadsheet: to which cells a formula, a name or a rule points, and to which it
// has to point once rows of a sheet were taken out or put in.
//
// The rules are those by which spreadsheets move rows: a reference goes with its cells; a range loses the rows that are
// taken out of it and gains those that are put between its first and its last; what points at nothing but rows that are
// gone becomes #REF!.
package refs

import (
	"maps"
	"slices"
	"sort"
)

// MaxRows and MaxColumns are how many a sheet has.
const (
	MaxRows    = 1_048_576
	MaxColumns = 16_384
)

// Moves says where the rows of a sheet go, which count from 1, when some are taken out and others put in between. Those that are put
// in behind a row are put in before that one is taken out. The zero value moves nothing.
type Moves struct {
	gone []int // ascending
	put  []put
}

// put are rows that are put in.
type put struct{ after, sum int } // sum: of these and those before

// NewMoves returns the moves that take out the rows that are gone, and put as many in as put says, by the row behind which they
// go; 0 is before the first.
func NewMoves(gone []int, in map[int]int) *Moves {
	m := &Moves{gone: slices.Compact(slices.Sorted(slices.Values(gone)))}
	sum := 0
	for _, after := range slices.Sorted(maps.Keys(in)) {
		sum += in[after]
		m.put = append(m.put, put{after, sum})
	}
	return m
}

// None reports whether every row stays where it is.
func (m *Moves) None() bool { return len(m.gone) == 0 && len(m.put) == 0 }

// First returns the first row that another one, or none, has the place of.
func (m *Moves) First() int {
	first := MaxRows + 1
	if len(m.gone) > 0 {
		first = m.gone[0]
	}
	if len(m.put) > 0 {
		first = min(first, m.put[0].after+1)
	}
	return first
}

// before counts the rows before row n that go.
func (m *Moves) before(n int) int { return sort.SearchInts(m.gone, n) }

// in counts the rows that are put in somewhere before row n.
func (m *Moves) in(n int) int {
	i := sort.Search(len(m.put), func(i int) bool { return m.put[i].after >= n })
	if i == 0 {
		return 0
	}
	return m.put[i-1].sum
}

// Gone reports whether row n is taken out.
func (m *Moves) Gone(n int) bool {
	i := m.before(n)
	return i < len(m.gone) && m.gone[i] == n
}

// Row returns where row n goes; of one that is taken out, where what followed it goes, and false.
func (m *Moves) Row(n int) (int, bool) {
	to := n - m.before(n) + m.in(n)
	return to, !m.Gone(n) && to <= MaxRows
}

// Rows returns where a range of rows goes; false says that nothing is left of it. A range that ends with the sheet
// ends with it afterwards.
func (m *Moves) Rows(top, bottom int) (int, int, bool) {
	first, _ := m.Row(top)
	last := bottom - m.before(bottom+1) + m.in(bottom)
	if bottom >= MaxRows {
		last = MaxRows
	}
	last = min(last, MaxRows)
	return first, last, first <= last
}

// Across reports whether a row of the range goes, or one is put into it.
func (m *Moves) Across(top, bottom int) bool {
	return m.before(bottom+1) > m.before(top) || m.in(bottom) > m.in(top)
}

// Put returns the row at which the first of those stands that are put in behind row n.
func (m *Moves) Put(n int) int { return n - m.before(n+1) + m.in(n) + 1 }
