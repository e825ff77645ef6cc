// Package lend makes the copy of a snapshot that a person edits: a workbook
// in which nothing can wear, and which is recognised with certainty when it
// comes back.
package lend

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/xlsx"
)

// Copy is a copy to be made.
type Copy struct {
	Snapshot *table.Image
	SHA256   string   // of the snapshot's file, hexadecimal
	Key      []string // fields of the snapshot
	Fields   []string // the fields to lend; nil is all. The key's always come along
}

// FieldError is a field that the snapshot does not have.
type FieldError struct {
	Field   string
	Columns []string
}

func (e *FieldError) Error() string { return fmt.Sprintf("the snapshot has no column %q", e.Field) }

// Write writes the copy as a workbook and returns what it says of itself.
// Errors are *FieldError, and *table.Error where a sheet cannot hold it.
func (c *Copy) Write(ctx context.Context, w io.Writer) (*table.Lent, error) {
	cols, err := c.columns()
	if err != nil {
		return nil, err
	}
	lent := &table.Lent{Version: 1, Snapshot: c.SHA256, Name: c.Snapshot.Name, Key: c.Key, Of: len(c.Snapshot.Heading)}
	x := xlsx.NewWriter(w)
	x.Name, x.Sheet, x.Lent = c.Snapshot.Name, sheetName(c.Snapshot.Name), lent
	row := make([]record.Value, len(cols))
	for i, col := range cols {
		h := c.Snapshot.Heading[col]
		lent.Fields = append(lent.Fields, h)
		row[i] = record.Text(h)
		if slices.Contains(c.Key, h) {
			x.Locked = append(x.Locked, i)
		}
	}
	if err := x.Write(row); err != nil {
		return nil, err
	}
	if err := table.Guard(func() error { return c.rows(ctx, x, cols, row, lent) }); err != nil {
		return nil, err
	}
	x.Pages = []xlsx.Page{instructions(lent, x.Sheet)}
	return lent, x.Close()
}

// columns are the snapshot's columns that are lent, in its order.
func (c *Copy) columns() ([]int, error) {
	for _, f := range append(slices.Clone(c.Key), c.Fields...) {
		if c.Snapshot.Column(f) < 0 {
			return nil, &FieldError{f, c.Snapshot.Heading}
		}
	}
	var cols []int
	for i, h := range c.Snapshot.Heading {
		if len(c.Fields) == 0 || slices.Contains(c.Fields, h) || slices.Contains(c.Key, h) {
			cols = append(cols, i)
		}
	}
	return cols, nil
}

func (c *Copy) rows(ctx context.Context, x *xlsx.Writer, cols []int, row []record.Value, lent *table.Lent) error {
	var cells [][]byte
	for sc := csv.Body(c.Snapshot); ; {
		if lent.All&0xfff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		ok, err := sc.Next()
		if !ok || err != nil {
			return err
		}
		if csv.BlankRow(sc.Raw(), c.Snapshot.Comma) {
			continue
		}
		lent.All++
		lent.Records++
		cells = csv.Split(cells[:0], sc.Raw(), c.Snapshot.Comma)
		for i, col := range cols {
			row[i] = record.Value{}
			if col < len(cells) {
				row[i], _ = csv.Value(c.Snapshot, cells[col])
			}
		}
		if err := x.Write(row); err != nil {
			return err
		}
	}
}

// sheetName is a name for the sheet: the file's without its ending, and
// without what a sheet's name cannot have.
func sheetName(file string) string {
	if i := strings.LastIndexByte(file, '.'); i > 0 {
		file = file[:i]
	}
	name := strings.Trim(strings.Map(func(r rune) rune {
		if strings.ContainsRune(`:\/?*[]`, r) || r < ' ' {
			return '-'
		}
		return r
	}, file), "' ")
	if r := []rune(name); len(r) > 31 {
		name = string(r[:31])
	}
	if name == "" || name == howTo {
		return "records"
	}
	return name
}

// howTo is the name of the sheet with the instructions.
const howTo = "how to edit"

// instructions say what can be done with the copy.
func instructions(l *table.Lent, sheet string) xlsx.Page {
	key := strings.Join(l.Key, ", ")
	lines := []string{
		"How to edit this copy",
		fmt.Sprintf("The sheet %q holds %d records of %s, as they were exported.", sheet, l.Records, l.Name),
		"Change what is to change. Leave the headings as they are; columns may be hidden, moved or added, and what is added is ignored.",
		"All cells are text, so that no program rounds an id, drops a zero or takes a code for a date. Type numbers and dates the way the other cells of the column have them.",
		"To compute, use a column of your own on the right, and paste its values into the column that is meant.",
		fmt.Sprintf("The grey cells (%s) say which record a row is and are locked. A new record goes into a new row below, with %s filled in.", key, key),
		"To sort the rows or to take some out, lift the sheet's protection first; it has no password.",
	}
	if l.Narrow() {
		lines = append(lines, "Only a part of the snapshot was lent: a row that is taken out deletes nothing, and fields that are not here stay as they are.")
	} else {
		lines = append(lines, "A row that is taken out is proposed as a deletion, and waits for a decision of its own.")
	}
	lines = append(lines, "Save it as it is, as an .xlsx workbook, and bring it back: it is recognised by a property that is kept inside.")
	return xlsx.Page{Name: howTo, Lines: lines}
}
