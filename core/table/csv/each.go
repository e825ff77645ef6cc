package csv

import (
	"context"
	"io"

	"paletwin/core/record"
	"paletwin/core/table"
)

// Each walks over the rows of a table that are not blank. The row that it gives is
// good until the next. io.EOF from row ends the walk; a ctx that is done ends it
// with its error, and so does a mapped file that went away, with table.ErrChanged,
// wherever in row it was touched.
func Each(ctx context.Context, m *table.Image, row func(r *Line) error) error {
	err := table.Guard(func() error {
		r := &Line{m: m, sc: Body(m)}
		for n := 0; ; n++ {
			if n&0xfff == 0 && ctx.Err() != nil {
				return ctx.Err()
			}
			ok, err := r.sc.Next()
			if !ok || err != nil {
				return err
			}
			if BlankRow(r.sc.Raw(), m.Comma) {
				continue
			}
			r.split = false
			if err := row(r); err != nil {
				return err
			}
		}
	})
	if err == io.EOF { // itself: one that is wrapped is an error like others
		return nil
	}
	return err
}

// Line is a row of a table that is walked over. Columns count from 0.
type Line struct {
	m     *table.Image
	sc    *Scanner
	cells Row
	split bool
}

// Number is the row's number as a spreadsheet counts.
func (r *Line) Number() int {
	if r.m.Rows != nil {
		return r.m.Rows[r.sc.Row-r.m.HeadingRow-1]
	}
	return r.sc.Row
}

// Raw is the row's bytes, without its line end.
func (r *Line) Raw() []byte { return r.sc.Raw() }

// At says where the row's bytes start and end in the table's, and where the next
// row starts.
func (r *Line) At() (start, end, next int) { return r.sc.Start(), r.sc.End(), r.sc.Pos() }

// Len is how many cells the row has.
func (r *Line) Len() int {
	if !r.split {
		r.cells.Split(r.sc.Raw(), r.m.Comma, 0)
		r.split = true
	}
	return r.cells.Len()
}

// Cell is what a cell holds, without quotes; nil where the row has none.
func (r *Line) Cell(col int) []byte {
	if col < 0 || col >= r.Len() {
		return nil
	}
	return Unquote(r.cells.Cell(col))
}

// Value is a cell's value; there is false where the record has no such field: a
// cell that the row lacks, or a member that a JSON object does not have.
func (r *Line) Value(col int) (v record.Value, there bool) {
	if col < 0 || col >= r.Len() {
		return record.Value{}, false
	}
	return Value(r.m, r.cells.Cell(col))
}

// AppendValue appends a cell of a row to another row, as it tells null from the empty text
// where its table does.
func AppendValue(dst []byte, m *table.Image, r *Line, col int) []byte {
	v, there := r.Value(col)
	if !there || v.IsNull() {
		return dst
	}
	return AppendCell(dst, v.String(), ',', m.Nulls && v.Blank())
}

// Text is a cell's value as text; "" where there is none.
func (r *Line) Text(col int) string {
	v, _ := r.Value(col)
	return v.String()
}

// AppendKey appends the key that stands in some columns, as record.Key encodes it.
func (r *Line) AppendKey(dst []byte, cols []int) []byte {
	return AppendKey(dst, r.sc.Raw(), cols, r.m.Comma)
}

// Key is the key that stands in some columns.
func (r *Line) Key(cols []int) record.Key { return record.KeyOf(r.AppendKey(nil, cols)) }

// Record is the row as a record.
func (r *Line) Record() record.Record { return Record(r.m, r.sc.Raw()) }

// KeyColumns returns the columns of the key's fields. The error is a *table.Error
// that names one that is not there.
func KeyColumns(m *table.Image, key []string) ([]int, error) {
	cols := make([]int, len(key))
	for i, k := range key {
		if cols[i] = m.Column(k); cols[i] < 0 {
			return nil, &table.Error{Code: "no-key-column", File: m.Name, Row: m.HeadingRow, Text: "there is no column " + k}
		}
	}
	return cols, nil
}
