// Package document describes the spreadsheets that are written anew: a table, so that no program can wear it, and pages of text beside it.
// Each kind of file writes it as a Form.
package document

import (
	"fmt"
	"strings"
	"unicode/utf16"

	"paletwin/core/record"
	"paletwin/core/table"
)

// Document is what there is beside the rows.
type Document struct {
	Name  string // for messages
	Sheet string // the sheet's name; "" is "records"
	// Columns say how the table's columns are written; those beyond are texts.
	// Where one is locked the sheet is protected.
	Columns []Column
	Lent    *table.Lent
	// Pages are sheets of text behind the table: how to use the file.
	Pages []Page
}

// Column is how a column is written.
type Column struct {
	Locked   bool
	Kind     CellKind
	Decimals int      // of numbers: how many are shown; negative is as many as there are
	Values   []string // what may be chosen; nil is anything
}

// CellKind is what the cells of a column are where their values allow it.
type CellKind int

const (
	AsText CellKind = iota
	AsNumber
)

// Page is a sheet of text: lines of which the first is a heading.
type Page struct {
	Name  string
	Lines []string
}

const (
	MaxRows    = 1_048_576 // of a sheet
	MaxColumns = 16_384
	MaxText    = 32_767 // UTF-16 code units of a cell
	Below      = 1_000  // so many rows below the table may be chosen in, too
	widthRows  = 500    // so many rows decide the widths of columns
)

// What all forms say alike.
const (
	Lists     = "lists" // the hidden sheet with what may be chosen
	NotAmong  = "not among the values"
	ChooseOne = "Choose a value from the list."
	Program   = "Pale Twin"
)

// Form writes a kind of file. Its methods are called in their order here, Row once for each row, from 1 on.
type Form interface {
	// Unwritable says why a cell cannot hold a text, or "".
	Unwritable(text string) string
	// Begin opens the sheet. The first rows are known, and how many columns they have.
	Begin(w *Writer) error
	Row(n int, row []record.Value) error
	// End writes what stands behind the rows. An io.Writer stays open.
	End() error
}

// Writer writes a document with one table: every cell is text and formatted as text, unless its column says
// otherwise. The heading is frozen, columns are as wide as what they hold, and there is a filter.
// It is a table.Writer; set its fields before the first Write.
type Writer struct {
	Document
	Rows int // that were written
	Wide int // columns of the first rows

	form  Form
	held  [][]record.Value // the first rows, from which the widths are taken
	begun bool
}

// New returns a Writer in a form.
func New(f Form) *Writer { return &Writer{form: f} }

// Write writes a row: first the headings, then records. Errors are
// *table.Error where a sheet cannot hold the table.
func (w *Writer) Write(row []record.Value) error {
	if err := w.fits(row); err != nil {
		return err
	}
	w.Rows++
	if w.begun {
		return w.form.Row(w.Rows, row)
	}
	w.Wide = max(w.Wide, len(row))
	if w.held = append(w.held, append([]record.Value(nil), row...)); len(w.held) < widthRows {
		return nil
	}
	return w.begin()
}

// begin opens the sheet and writes the rows that were held back.
func (w *Writer) begin() error {
	w.begun = true
	if w.Sheet == "" {
		w.Sheet = "records"
	}
	if err := w.form.Begin(w); err != nil {
		return err
	}
	for i, row := range w.held {
		if err := w.form.Row(i+1, row); err != nil {
			return err
		}
	}
	w.held = nil
	return nil
}

// Close writes what is left of the document; the io.Writer stays open.
func (w *Writer) Close() error {
	if !w.begun {
		if err := w.begin(); err != nil {
			return err
		}
	}
	return w.form.End()
}

func (w *Writer) fits(row []record.Value) error {
	fail := func(column int, format string, args ...any) error {
		return &table.Error{Code: table.TooLarge, File: w.Name, Row: w.Rows + 1, Column: column, Text: fmt.Sprintf(format, args...)}
	}
	if w.Rows == MaxRows {
		return fail(0, "a sheet has %d rows, and there are more records", MaxRows)
	}
	if len(row) > MaxColumns {
		return fail(0, "a sheet has %d columns, and there are %d fields", MaxColumns, len(row))
	}
	for i, v := range row {
		if why := w.form.Unwritable(v.String()); why != "" {
			return fail(i+1, "cell %d: %s", i+1, why)
		}
	}
	return nil
}

// Unwritable says why no cell of any document can hold a text, or "": XML 1.0 has no place for some characters.
func Unwritable(text string) string {
	if len(text) > MaxText {
		if n := len(utf16.Encode([]rune(text))); n > MaxText {
			return fmt.Sprintf("a cell of a workbook holds %d characters, and the value has %d", MaxText, n)
		}
	}
	for _, r := range text {
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0xfffe || r == 0xffff {
			return fmt.Sprintf("the value has the character U+%04X, which a workbook cannot hold", r)
		}
	}
	return ""
}

// Column is how a column is written.
func (d *Document) Column(i int) Column {
	if i < len(d.Columns) {
		return d.Columns[i]
	}
	return Column{}
}

// Protected reports whether any cell is locked.
func (d *Document) Protected() bool {
	for _, c := range d.Columns {
		if c.Locked {
			return true
		}
	}
	return false
}

// Width is that of the widest of a column's first cells, in characters. It is known while the sheet begins.
func (w *Writer) Width(col int) int {
	widest := 6
	for _, row := range w.held {
		if col < len(row) {
			widest = max(widest, len([]rune(row[col].String())))
		}
	}
	return min(widest, 48) + 2
}

// Number is the number that a column's cell gets for a value, without zeros at the end of its decimals; false where it gets the value's text:
// the column is none of numbers, or programs would not show the value as it is.
func (d *Document) Number(col int, v record.Value) (string, bool) {
	if d.Column(col).Kind != AsNumber {
		return "", false
	}
	text := v.String()
	if strings.Contains(text, ".") {
		text = strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
	}
	return text, table.IsNumber(text)
}
