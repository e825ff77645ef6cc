package table

import "fmt"

// Formulas are the cells of a sheet that hold formulas, by column.
type Formulas map[int]*formulas

type formulas struct {
	count int
	rows  []int
}

// Add notes a formula in a column, from 0, and a row, as a spreadsheet counts
// it.
func (f Formulas) Add(column, row int) {
	c := f[column]
	if c == nil {
		c = new(formulas)
		f[column] = c
	}
	if c.count++; c.count <= MaxNoted {
		c.rows = append(c.rows, row)
	}
}

// Notes says which columns hold formulas, a note a column, in order.
func (f Formulas) Notes(heading []string) []Note {
	var notes []Note
	last := -1
	for col := range f {
		last = max(last, col)
	}
	for col := range last + 1 {
		c := f[col]
		if c == nil {
			continue
		}
		name := fmt.Sprintf("column %d", col+1)
		if col < len(heading) {
			name = heading[col]
		}
		if c.count > MaxNoted {
			c.rows = nil
		}
		notes = append(notes, Note{Code: "formula-cells", Column: name, Count: c.count, Rows: c.rows,
			Text: fmt.Sprintf("%d cells of %q hold formulas; what was last computed for them is taken", c.count, name)})
	}
	return notes
}
