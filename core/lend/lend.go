// Package lend makes the copy of a snapshot that a person edits: a workbook
// in which nothing can wear, and which is recognised with certainty when it
// comes back.
package lend

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"paletwin/core/expr"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/document"
	"paletwin/core/table/open"
)

// Copy is a copy to be made.
type Copy struct {
	Snapshot *table.Image
	SHA256   string         // of the snapshot's file, hexadecimal
	Key      []string       // fields of the snapshot
	Fields   []string       // the fields to lend; nil is all. The key's always come along
	Layout   *layout.Layout // or nil; the snapshot's columns have its fields' names
	Where    *expr.Program  // which records; nil is all
	// Edits, if not nil, says which records are lent and how they are edited
	// already. Those that the snapshot lacks come last, as new ones.
	Edits map[record.Key]Edit
	// All lends the records that have no edits, too; Gone are records that are lent and taken out
	// again, so that their rows say that they are to be deleted.
	All  bool
	Gone map[record.Key]bool
	// Only, if not nil, says which records are lent, by their keys.
	Only func(record.Key) bool
	// Beside are headings of columns that stand behind the key where it comes
	// first, and are not read back.
	Beside []string
	Pages  []document.Page // sheets of text behind the instructions
	Texts  bool            // all cells are texts, numbers and dates too
	Format string          // "xlsx" or "ods"; "" is xlsx
}

// Edit is what a lent record has in the place of the snapshot's values.
type Edit struct {
	Values record.Record
	Beside []string // what stands in the columns beside
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
	cols, err := c.Columns()
	if err != nil {
		return nil, err
	}
	lent := &table.Lent{Version: 1, Snapshot: c.SHA256, Name: c.Snapshot.Name, Key: c.Key, Of: len(c.Snapshot.Heading), Beside: c.Beside}
	x := open.Spreadsheet(c.Format, w)
	x.Name, x.Sheet, x.Lent = c.Snapshot.Name, sheetName(c.Snapshot.Name), lent
	p := &paper{Copy: c, x: x, lent: lent, cols: cols, row: make([]record.Value, len(cols)), at: c.leading(cols), met: map[record.Key]bool{}}
	for i, col := range cols {
		h := c.Snapshot.Heading[col]
		lent.Fields = append(lent.Fields, h)
		p.row[i] = record.Text(h)
		p.kinds = append(p.kinds, c.column(h))
	}
	lent.Locked = locked(lent.Fields, p.kinds)
	x.Columns = slices.Insert(slices.Clone(p.kinds), p.at, slices.Repeat([]document.Column{{Locked: true}}, len(c.Beside))...)
	if err := p.write(c.Beside); err != nil {
		return nil, err
	}
	if err := table.Guard(func() error { return p.rows(ctx) }); err != nil {
		return nil, err
	}
	lent.SetRows(p.lends)
	x.Pages = append([]document.Page{instructions(lent, x.Sheet, c.Edits != nil, c.Format)}, c.Pages...)
	return lent, x.Close()
}

// paper is the sheet of a copy that is being written.
type paper struct {
	*Copy
	x     *document.Writer
	lent  *table.Lent
	cols  []int             // the snapshot's that are lent
	kinds []document.Column // how they are written
	row   []record.Value    // of these columns
	at    int               // where the columns beside stand
	met   map[record.Key]bool
	lends table.Bits // which of the snapshot's records
}

// Columns are the snapshot's columns that are lent, in its order.
func (c *Copy) Columns() ([]int, error) {
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

// rows writes the records that are lent.
func (p *paper) rows(ctx context.Context) error {
	m := p.Snapshot
	keys := make([]int, len(p.Key))
	for i, k := range p.Key {
		keys[i] = m.Column(k)
	}
	err := csv.Each(ctx, m, func(r *csv.Line) error {
		p.lent.All++
		if take, err := p.takes(r); err != nil || !take {
			return err
		}
		var edit Edit
		if p.Edits != nil {
			key := r.Key(keys)
			there := false
			if edit, there = p.Edits[key]; p.met[key] || !there && !p.All || p.Only != nil && !p.Only(key) {
				return nil
			}
			p.met[key] = true
			if p.Gone[key] {
				p.lent.Records++
				p.lends.Add(p.lent.All - 1)
				return nil
			}
		}
		for i, col := range p.cols {
			p.row[i], _ = r.Value(col)
		}
		p.lends.Add(p.lent.All - 1)
		p.lent.Records++
		return p.put(&edit)
	})
	if err != nil {
		return err
	}
	return p.newOnes()
}

// newOnes writes the edited records that the snapshot lacks, by their keys. They are none of
// those that are lent.
func (p *paper) newOnes() error {
	var keys []record.Key
	for k := range p.Edits {
		if !p.met[k] {
			keys = append(keys, k)
		}
	}
	slices.SortFunc(keys, func(a, b record.Key) int { return slices.Compare(a.Parts(), b.Parts()) })
	for _, k := range keys {
		edit := Edit{p.Edits[k].Values.Clone(), p.Edits[k].Beside}
		for i, f := range p.Key {
			edit.Values.Set(f, record.Text(k.Parts()[i]))
		}
		clear(p.row)
		if err := p.put(&edit); err != nil {
			return err
		}
	}
	return nil
}

// put writes a record, with what is edited in it.
func (p *paper) put(edit *Edit) error {
	for i, col := range p.cols {
		field := p.Snapshot.Heading[col]
		if v, edited := edit.Values.Get(field); edited {
			p.row[i] = v
		}
	}
	return p.write(edit.Beside)
}

// write writes the row, and what stands beside.
func (p *paper) write(beside []string) error {
	if len(p.Beside) == 0 {
		return p.x.Write(p.row)
	}
	cells := make([]record.Value, len(p.Beside))
	for i, text := range beside {
		cells[i] = record.Text(text)
	}
	return p.x.Write(slices.Insert(slices.Clone(p.row), p.at, cells...))
}

// leading is how many columns of the key come first.
func (c *Copy) leading(cols []int) int {
	n := 0
	for n < len(cols) && slices.Contains(c.Key, c.Snapshot.Heading[cols[n]]) {
		n++
	}
	return n
}

// column says how a field is written: as text, unless the layout knows it to
// be a number, which then is just that and looks as it does there. Dates are
// text, too: a program that saves a date as CSV writes it in an order of day
// and month of its own, and nothing in the file says which.
func (c *Copy) column(field string) document.Column {
	col := document.Column{Locked: slices.Contains(c.Key, field)}
	f := c.Layout.Field(field)
	if f == nil {
		return col
	}
	col.Locked = col.Locked || f.Access != schema.Free
	switch f.Kind {
	case schema.Choice:
		col.Values = f.Values
	case schema.Reference:
		if col.Values = f.List.Codes(); f.List.As != "" { // chosen by its name, or typed as a code
			col.Values = append(f.List.Shown(), col.Values...)
		}
	case schema.Boolean:
		col.Values = []string{f.True, f.False}
	case schema.Decimal:
		if col.Kind, col.Decimals = document.AsNumber, -1; f.Scale > 0 {
			col.Decimals = f.Scale
		}
	case schema.Integer:
		col.Kind = document.AsNumber
	}
	if col.Locked && col.Kind != document.AsText || c.Texts || slices.Contains(c.Key, field) {
		col.Kind, col.Decimals = document.AsText, 0
	}
	return col
}

// locked lists the fields whose cells are locked.
func locked(fields []string, columns []document.Column) []string {
	var all []string
	for i, f := range fields {
		if columns[i].Locked {
			all = append(all, f)
		}
	}
	return all
}

// takes reports whether a record is lent.
func (c *Copy) takes(r *csv.Line) (bool, error) {
	if c.Where == nil {
		return true, nil
	}
	get := func(i int) expr.Value { // without a layout all are texts
		if v := r.Text(i); v != "" {
			return expr.TextValue(v)
		}
		return expr.Null
	}
	if c.Layout != nil {
		get = c.Layout.Getter(func(i int) string { return r.Text(c.Snapshot.Column(c.Layout.Fields[i].Name)) })
	}
	ok, err := c.Where.Holds(&expr.Input{Old: get, New: get, Row: r.Number()})
	if errors.Is(err, expr.ErrNull) {
		return false, nil
	}
	if err != nil {
		err = &expr.Error{Source: c.Where.Source, Line: 1, Column: 1, Text: fmt.Sprintf("it cannot be evaluated for %s: %v", c.Snapshot.RowWords(r.Number()), err)}
	}
	return ok, err
}

// sheetName is a name for the sheet: the file's without its ending, and
// without what a sheet's name cannot have.
func sheetName(file string) string {
	if i := strings.LastIndexByte(file, '.'); i > 0 {
		file = file[:i]
	}
	name := strings.Map(func(r rune) rune {
		switch {
		case strings.ContainsRune(`:\/?*[]`, r), r < ' ':
			return '-'
		case r == '\'': // it ends names in formulas, and some programs do not double it there
			return '’'
		}
		return r
	}, strings.Trim(file, "' "))
	if r := []rune(name); len(r) > 31 {
		name = string(r[:31])
	}
	if name == "" || slices.ContainsFunc([]string{howTo, document.Lists, LeftOut, Deletions}, func(s string) bool { return strings.EqualFold(s, name) }) {
		return "records"
	}
	return name
}

// Names of pages that stand in some copies.
const (
	LeftOut   = "left out"
	Deletions = "deletions"
)

// howTo is the name of the sheet with the instructions.
const howTo = "how to edit"

// instructions say what can be done with the copy.
func instructions(l *table.Lent, sheet string, edited bool, format string) document.Page {
	key := strings.Join(l.Key, ", ")
	lines := []string{
		"How to edit this copy",
		fmt.Sprintf("The sheet %q holds %d records of %s, as they were exported.", sheet, l.Records, l.Name),
		"Change what is to change. Leave the headings as they are; columns may be hidden, moved or added, and what is added is ignored.",
		"Ids and codes are text, so that no program rounds them, drops a zero or takes them for a date. Type into a cell what the other cells of its column look like.",
		"To compute, use a column of your own on the right, and paste its values into the column that is meant.",
		fmt.Sprintf("The grey cells (%s) are locked. %s says which record a row is; a new record goes into a new row below, with that filled in.", strings.Join(l.Locked, ", "), key),
		"To sort the rows or to take some out, lift the sheet's protection first; it has no password.",
	}
	if edited {
		lines[1] = fmt.Sprintf("The sheet %q holds %d records of %s with the edits that were made to them. What else stands beside the key is there to be read.", sheet, l.Records, l.Name)
	}
	if l.Narrow() {
		lines = append(lines, "Only a part of the snapshot was lent: a row that is taken out deletes nothing, and fields that are not here stay as they are.")
	} else {
		lines = append(lines, "A row that is taken out is proposed as a deletion, and waits for a decision of its own.")
	}
	lines = append(lines, fmt.Sprintf("Save it as it is, as an .%s workbook, and bring it back: it is recognised by a property that is kept inside.", cmp.Or(format, "xlsx")))
	return document.Page{Name: howTo, Lines: lines}
}
