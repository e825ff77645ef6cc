// Package shape reads tables that have not a row for each record: lists with a row for each field,
// and tables with a column for each month. What comes of one is a table as all others are, and says
// of which rows of the file its rows are made.
package shape

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// Of returns a table as a row for each record, if it has the shape that the layout speaks of, and
// else the table itself. snapshot says that it is a snapshot, in which an empty cell of a wide table
// is no record. Errors are *table.Error.
func Of(l *layout.Layout, m *table.Image, snapshot bool) (*table.Image, error) {
	if l == nil {
		return m, nil
	}
	switch {
	case l.Shape.Long != nil:
		return ofLong(l, m)
	case l.Shape.Wide != nil:
		return ofWide(l, m, snapshot)
	}
	return m, nil
}

// NoOld says that a list lacks the column that says what was there.
const NoOld table.Code = "no-old-column"

// heading is the column with a heading, or -1.
func heading(m *table.Image, text string) int {
	return slices.IndexFunc(m.Heading, func(h string) bool { return layout.HeadingForm(h) == layout.HeadingForm(text) })
}

// keyColumns are the columns of a key's fields; ok is false if one is not there.
func keyColumns(m *table.Image, key []string) (cols []int, ok bool) {
	for _, k := range key {
		col := m.Column(k)
		if col < 0 {
			return nil, false
		}
		cols = append(cols, col)
	}
	return cols, true
}

// passedOver are notes of columns of which nothing is taken.
func passedOver(l *layout.Layout, m *table.Image, used func(col int) bool) (notes []table.Note) {
	for col, h := range m.Heading {
		if !used(col) && h != "" && !l.Ignores(h) {
			notes = append(notes, table.Note{Code: changeset.ColumnExtra.Name, Column: h, Count: 1, Text: fmt.Sprintf("column %q is none that the layout's shape speaks of, and is ignored", h)})
		}
	}
	return notes
}

// entry is what a list says of a record.
type entry struct {
	row    int
	key    []string
	values map[int]record.Value // by the layout's field
	rows   map[int]int          // where it says so
	old    map[int]record.Value
	unlike map[int]bool // fields that are given twice, unlike
}

// list is a list with a row for each field of a record.
type list struct {
	l       *layout.Layout
	m       *table.Image
	cols    []int
	field   int
	value   int
	old     int // -1 without
	entries []*entry
	at      map[record.Key]*entry
	named   []bool // the layout's fields that it names
	unknown map[string]*table.Note
	order   []string
	twice   table.Note
}

func ofLong(l *layout.Layout, m *table.Image) (*table.Image, error) {
	x := &list{l: l, m: m, at: map[record.Key]*entry{}, named: make([]bool, len(l.Fields)), unknown: map[string]*table.Note{}, old: -1}
	var keyed bool
	x.cols, keyed = keyColumns(m, l.Key)
	x.field, x.value = heading(m, l.Shape.Long.Field), heading(m, l.Shape.Long.Value)
	if !keyed || x.field < 0 || x.value < 0 {
		return m, nil
	}
	if l.Shape.Long.Old != "" {
		if x.old = heading(m, l.Shape.Long.Old); x.old < 0 {
			return nil, &table.Error{Code: NoOld, File: m.Name, Row: m.HeadingRow, Text: fmt.Sprintf("there is no column %q, which the layout says has what was there", l.Shape.Long.Old)}
		}
	}
	if err := csv.Each(context.Background(), m, x.row); err != nil {
		return nil, err
	}
	return x.image()
}

// row takes in a row of the list.
func (x *list) row(r *csv.Line) error {
	k := r.Key(x.cols)
	e := x.at[x.l.Schema().Key(k)]
	if e == nil || k.Blank() {
		e = &entry{row: r.Number(), key: k.Parts(), values: map[int]record.Value{}, rows: map[int]int{}, old: map[int]record.Value{}, unlike: map[int]bool{}}
		x.entries = append(x.entries, e)
		if !k.Blank() {
			x.at[x.l.Schema().Key(k)] = e
		}
	}
	name := strings.TrimSpace(r.Text(x.field))
	f := x.l.FieldCalled(name)
	if f == nil || slices.Contains(x.l.Key, f.Name) {
		x.noField(name, r.Number(), f != nil)
		return nil
	}
	i := x.l.Index(f.Name)
	x.named[i] = true
	v, there := r.Value(x.value)
	if !there {
		return nil
	}
	if was, twice := e.values[i]; twice && !x.l.Schema().Equal(f.Name, was, v) {
		if e.unlike[i] = true; len(x.twice.Rows) < changeset.MaxRows {
			x.twice.Rows = append(x.twice.Rows, r.Number())
		}
		x.twice.Count++
		return nil
	}
	e.values[i], e.rows[i] = v, r.Number()
	if x.old >= 0 {
		if was, there := r.Value(x.old); there {
			e.old[i] = was
		}
	}
	return nil
}

// noField notes that a row names no field that can be changed.
func (x *list) noField(name string, row int, key bool) {
	n := x.unknown[name]
	if n == nil {
		n = &table.Note{Code: changeset.ListedField.Name, Text: fmt.Sprintf("%q is no field of %s; nothing is taken from these rows", name, x.l.RecordSet)}
		if key {
			n.Text = fmt.Sprintf("%q is the key, which a list of fields cannot change", name)
		}
		x.unknown[name], x.order = n, append(x.order, name)
	}
	if n.Count++; len(n.Rows) < changeset.MaxRows {
		n.Rows = append(n.Rows, row)
	}
}

// image writes the list as a table.
func (x *list) image() (*table.Image, error) {
	var fields []int
	for i, named := range x.named {
		if named {
			fields = append(fields, i)
		}
	}
	img, err := x.write(fields, func(e *entry) map[int]record.Value { return e.values })
	if err != nil {
		return nil, err
	}
	if x.old >= 0 {
		if img.Old, err = x.write(fields, func(e *entry) map[int]record.Value { return e.old }); err != nil {
			return nil, err
		}
	}
	at := make(map[int]*entry, len(x.entries))
	for _, e := range x.entries {
		at[e.row] = e
	}
	img.At = func(row int, field string) int {
		if e := at[row]; e != nil && e.rows[x.l.Index(field)] > 0 {
			return e.rows[x.l.Index(field)]
		}
		return row
	}
	used := append(slices.Clone(x.cols), x.field, x.value, x.old)
	img.Notes = append(slices.Clone(img.Notes), passedOver(x.l, x.m, func(col int) bool { return slices.Contains(used, col) })...)
	for _, name := range x.order {
		img.Notes = append(img.Notes, *x.unknown[name])
	}
	if x.twice.Count > 0 {
		x.twice.Code, x.twice.Text = changeset.ListedTwice.Name, "a field of a record is listed with several values; none of them is taken"
		img.Notes = append(img.Notes, x.twice)
	}
	return img, nil
}

// write writes a row for each record, with what is listed of some fields.
func (x *list) write(fields []int, values func(*entry) map[int]record.Value) (*table.Image, error) {
	b := &csv.Builder{Name: x.m.Name, Came: func() int64 { return int64(len(x.m.Data)) }, Unfolds: 8} // not all fields need be listed
	if err := b.Row(x.m.HeadingRow); err != nil {
		return nil, err
	}
	for i, k := range x.l.Key {
		b.Cell(i, k, false)
	}
	for n, i := range fields {
		b.Cell(len(x.l.Key)+n, x.l.Fields[i].Name, false)
	}
	for _, e := range x.entries {
		if err := b.Row(e.row); err != nil {
			return nil, err
		}
		for i, part := range e.key {
			b.Cell(i, part, true)
		}
		all := values(e)
		for n, i := range fields {
			switch v, there := all[i]; {
			case !there || e.unlike[i]:
				b.Cell(len(x.l.Key)+n, csv.Absent, false)
			case v.IsNull():
				b.Cell(len(x.l.Key)+n, "", false)
			default:
				b.Cell(len(x.l.Key)+n, v.String(), true)
			}
		}
	}
	img, err := b.Image(table.Options{HeadingRow: x.m.HeadingRow}, x.m.Found)
	if err == nil {
		img.Built, img.Part, img.Nulls, img.Found, img.Notes, img.Sheets = true, true, true, x.m.Found, x.m.Notes, x.m.Sheets
	}
	return img, err
}

// ofWide reads a table with a column for each value of a field of the key.
func ofWide(l *layout.Layout, m *table.Image, snapshot bool) (*table.Image, error) {
	x := &wide{l: l, m: m, periods: map[int]string{}, first: map[string]int{}}
	if fits, err := x.headings(); !fits || err != nil {
		return m, err
	}
	return x.image(snapshot)
}

// wide is a table with a column for each value of a field of the key.
type wide struct {
	l       *layout.Layout
	m       *table.Image
	periods map[int]string // what the headings of columns stand for
	first   map[string]int // the columns by that, as the field has it
	cols    []int          // these columns
	others  []int          // those of other fields
}

// headings reads what the headings stand for, and reports whether the table is of this shape.
func (x *wide) headings() (fits bool, err error) {
	w := x.l.Shape.Wide
	if x.m.Column(w.Key) >= 0 || x.m.Column(w.Value) >= 0 {
		return false, nil // a row a record
	}
	for _, k := range x.l.Key {
		if k != w.Key && x.m.Column(k) < 0 {
			return false, nil
		}
	}
	field := x.l.Field(w.Key)
	for col, h := range x.m.Heading {
		if x.l.Index(h) >= 0 {
			x.others = append(x.others, col)
			continue
		}
		text, named := w.Headings[layout.HeadingForm(h)]
		if !named {
			text = strings.TrimSpace(h)
		}
		taken, problems := field.Take(text)
		if len(problems) > 0 || taken == "" {
			continue
		}
		one := field.Canonical(taken)
		if other, twice := x.first[one]; twice {
			return false, &table.Error{Code: table.TwiceHeading, File: x.m.Name, Row: x.m.HeadingRow, Text: fmt.Sprintf("the columns %q and %q are both %s %s", x.m.Heading[other], h, w.Key, taken)}
		}
		x.first[one] = col
		x.periods[col], x.cols = taken, append(x.cols, col)
	}
	return len(x.cols) > 0, nil
}

// image writes a row for each record.
func (x *wide) image(snapshot bool) (*table.Image, error) {
	w := x.l.Shape.Wide
	out := headingLine(x.m, x.others, w)
	var rows []int
	err := csv.Each(context.Background(), x.m, func(r *csv.Line) error {
		for _, col := range x.cols {
			v, there := r.Value(col)
			if !there || snapshot && v.Blank() {
				continue
			}
			for _, o := range x.others {
				out = append(csv.AppendCell(out, r.Text(o), ',', false), ',')
			}
			out = csv.AppendCell(out, x.periods[col], ',', false)
			out = csv.AppendCell(append(out, ','), v.String(), ',', false)
			out = append(out, '\n')
			rows = append(rows, r.Number())
		}
		_, err := csv.Unfolds(x.m.Name, r.Number(), len(out), int64(len(x.m.Data)), 64) // other columns stand in each row anew
		return err
	})
	if err != nil {
		return nil, err
	}
	img, err := csv.OpenWith(x.m.Name, out, table.Options{Delimiter: ",", Encoding: "utf-8", HeadingRow: 1})
	if err != nil {
		return nil, err
	}
	img.Built, img.Rows, img.Found, img.Sparse, img.Sheets = true, rows, x.m.Found, w.Value, x.m.Sheets
	img.Notes = append(slices.Clone(x.m.Notes), passedOver(x.l, x.m, func(col int) bool { return slices.Contains(x.others, col) || x.periods[col] != "" })...)
	at := slices.Index(x.l.Key, w.Key)
	img.Covers = func(k record.Key) bool {
		_, there := x.first[x.l.Field(w.Key).Canonical(k.Parts()[at])]
		return there
	}
	return img, nil
}

func headingLine(m *table.Image, others []int, w *layout.Wide) (line []byte) {
	for _, col := range others {
		line = append(csv.AppendCell(line, m.Heading[col], ',', false), ',')
	}
	line = append(csv.AppendCell(line, w.Key, ',', false), ',')
	return append(csv.AppendCell(line, w.Value, ',', false), '\n')
}
