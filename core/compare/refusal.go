package compare

import (
	"fmt"
	"slices"

	"paletwin/core/table"
)

// Refusal is why no change set can be made of the files as they are. Code is
// one of table's codes or of those below; Rows are all rows concerned, as a
// spreadsheet counts.
type Refusal struct {
	Code    table.Code
	File    string
	Column  string
	Rows    []int
	Columns []string // the columns there are, where one was not found
	Text    string
}

func (r *Refusal) Error() string { return r.Text }

// Codes of refusals.
const (
	NoKeyColumn   table.Code = "no-key-column"
	NoCommon      table.Code = "no-common-column"
	NotACopy      table.Code = "not-a-copy"
	KeyBlank      table.Code = "key-blank"
	KeyRepeat     table.Code = "repeat"
	LentElsewhere table.Code = "lent-elsewhere"
	KeysOnly      table.Code = "keys-only"
	LongTable     table.Code = "row-a-field"
	OtherTable    table.Code = "other-table"
)

// checkHeading refuses a snapshot whose headings do not name its fields.
func checkHeading(m *table.Image) error {
	seen := make(map[string]bool, len(m.Heading))
	for i, h := range m.Heading {
		if h == "" {
			return &table.Error{Code: table.BlankHeading, File: m.Name, Row: m.HeadingRow, Column: i + 1,
				Text: fmt.Sprintf("column %d has no heading", i+1)}
		}
		if seen[h] {
			return twice(m, h)
		}
		seen[h] = true
	}
	return nil
}

func twice(m *table.Image, heading string) error {
	first := slices.Index(m.Heading, heading)
	second := first + 1 + slices.Index(m.Heading[first+1:], heading)
	return &table.Error{Code: table.TwiceHeading, File: m.Name, Row: m.HeadingRow, Column: second + 1,
		Text: fmt.Sprintf("the heading %q stands in columns %d and %d", heading, first+1, second+1)}
}
