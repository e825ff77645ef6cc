package term

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// Table lines up cells in columns. Cells may hold styles; their width is
// what is seen.
type Table struct {
	Indent  string
	Right   []bool // columns that align right
	Heading []string
	rows    [][]string
}

// Row adds a row.
func (t *Table) Row(cells ...string) { t.rows = append(t.rows, cells) }

// Len returns the number of rows.
func (t *Table) Len() int { return len(t.rows) }

// Print writes the table; columns that are empty throughout are left out.
func (t *Table) Print(s *Screen) {
	rows := t.rows
	if t.Heading != nil {
		head := make([]string, len(t.Heading))
		for i, h := range t.Heading {
			head[i] = Dim(h)
		}
		rows = append([][]string{head}, rows...)
	}
	widths, filled := t.widths(rows)
	for _, row := range rows {
		var b strings.Builder
		b.WriteString(t.Indent)
		for i, cell := range row {
			if !filled[i] {
				continue
			}
			pad := strings.Repeat(" ", widths[i]-ansi.StringWidth(cell))
			if i < len(t.Right) && t.Right[i] {
				cell = pad + cell
			} else {
				cell += pad
			}
			b.WriteString(cell)
			b.WriteString("  ")
		}
		s.Line("%s", strings.TrimRight(b.String(), " "))
	}
}

func (t *Table) widths(rows [][]string) (widths []int, filled []bool) {
	for n, row := range rows {
		for i, cell := range row {
			if i == len(widths) {
				widths, filled = append(widths, 0), append(filled, false)
			}
			w := ansi.StringWidth(cell)
			widths[i] = max(widths[i], w)
			filled[i] = filled[i] || w > 0 && (n > 0 || t.Heading == nil)
		}
	}
	return widths, filled
}
