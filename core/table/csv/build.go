package csv

import (
	"cmp"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/words"
)

// absent reports whether a cell, as it stands in its row, is of a field that
// the record does not have.
func absent(cell []byte) bool { return len(cell) == 1 && cell[0] == Absent[0] }

// AppendRaw appends a cell as it stands in the row of a built image to a row of
// a CSV file, in which a field that a record does not have is empty.
func AppendRaw(dst, cell []byte) []byte {
	if absent(cell) {
		return dst
	}
	return append(dst, cell...)
}

// Builder makes the CSV image of a table that came in another format, cell by
// cell, so that row numbers stay those of the source.
type Builder struct {
	Name string
	// Came, if not nil, is how many bytes of the source were read so far. What repeats in it may be written out
	// to Unfolds times as much (0 is twice), and freely more, and not further.
	Came    func() int64
	Unfolds int64

	out    []byte
	next   int   // so many bytes may be there before they are counted again
	err    error // it became too much
	row    int   // the row that was begun last, from 1
	col    int   // cells written in it
	widest int   // cells of the widest row so far
	merged []Merged
}

// MaxImage is the most bytes of an image that is built: beyond it a file is
// refused rather than memory filled.
const MaxImage = 4 << 30

// freely is how many bytes an image may have, whatever the source.
const freely = 64 << 20

// Absent stands in the cell of a field that a record does not have at all,
// in formats that tell that from empty. No text holds a NUL byte.
const Absent = "\x00"

// Row begins the row with the given number, from 1, if it is not the current
// one; rows between are blank. A row that is narrower than one before it is
// filled up with empty cells.
func (b *Builder) Row(n int) error {
	if n == b.row || b.err != nil {
		return b.err
	}
	b.fillUp()
	for ; b.row < n; b.row++ {
		if b.row > 0 {
			b.out = append(b.out, '\n')
		}
	}
	b.col = 0
	return b.check()
}

// Cell writes a cell of the current row at column col, from 0; columns ascend.
// An empty cell is written with quotes where the format tells it from null.
func (b *Builder) Cell(col int, value string, quoted bool) {
	if len(b.out) > b.next && b.check() != nil {
		return
	}
	for ; b.col <= col; b.col++ {
		if b.col > 0 {
			b.out = append(b.out, ',')
		}
	}
	b.out = AppendCell(b.out, value, ',', quoted)
}

// fillUp ends the current row.
func (b *Builder) fillUp() {
	if b.col == 0 {
		return
	}
	b.widest = max(b.widest, b.col)
	for ; b.col < b.widest; b.col++ {
		b.out = append(b.out, ',')
	}
}

// check ends a table that became too large, or for which what was read of the source is too little to be one.
func (b *Builder) check() error {
	if b.err != nil || len(b.out) <= b.next {
		return b.err
	}
	came := int64(MaxImage)
	if b.Came != nil {
		came = b.Came()
	}
	b.next, b.err = Unfolds(b.Name, b.row, len(b.out), came, cmp.Or(b.Unfolds, 2))
	return b.err
}

// Unfolds is an error where so many bytes that were made by a row are too many, of so many that came: more than so many times as much, and
// freely more. Up to next bytes it need not be asked again.
func Unfolds(name string, row, made int, came, times int64) (next int, err error) {
	limit := min(MaxImage, freely+times*came)
	switch n := int64(made); {
	case n > MaxImage:
		err = &table.Error{Code: table.TooLarge, File: name, Row: row, Text: "the table is larger than " + words.Size(MaxImage)}
	case n > limit:
		err = &table.Error{Code: table.TooLarge, File: name, Row: row, Text: "what repeats in the file would make a table of more than " + words.Size(limit)}
	}
	return int(limit), err
}

// Image reads the heading of what was built. found tells what the source was.
func (b *Builder) Image(o table.Options, found table.Found) (*table.Image, error) {
	b.fillUp()
	if err := b.check(); err != nil {
		return nil, err
	}
	if b.row > 0 {
		b.out = append(b.out, '\n')
	}
	if len(b.out) == 0 {
		return nil, &table.Error{Code: table.Empty, File: b.Name, Text: "the table is empty"}
	}
	o.Delimiter = ","
	m, err := readHeading(b.Name, b.out, "utf-8", o)
	if err != nil {
		return nil, err
	}
	if err := mergeHeadings(m, b.merged); err != nil {
		return nil, err
	}
	found.Delimiter, found.Newline, found.HeadingRow = "", "", m.Found.HeadingRow
	m.Found = found
	return m, nil
}

// Built reads a table that was made of one in another form: UTF-8, with commas, the headings in
// its first row, and text in quotes.
func Built(name string, data []byte, found table.Found) (*table.Image, error) {
	m, err := readHeading(name, data, "utf-8", table.Options{Delimiter: ",", HeadingRow: 1})
	if err != nil {
		return nil, err
	}
	m.Found, m.Nulls = found, true
	return m, nil
}

// Value returns a cell's content as a value: null where the format knows null
// and the cell is empty. there is false where the record has no such field.
func Value(m *table.Image, cell []byte) (v record.Value, there bool) {
	return valueOf(m, cell, string(cell))
}

// valueOf is Value of a cell that is a text, too, of which the value may be a part.
func valueOf(m *table.Image, cell []byte, text string) (v record.Value, there bool) {
	switch {
	case len(cell) == 0 && m.Nulls:
		return record.Null(), true
	case m.Nulls && absent(cell):
		return record.Value{}, false
	}
	switch plain := Unquote(cell); len(plain) {
	case 0:
		return record.Text(""), true
	case len(cell):
		return record.Text(text), true
	case len(cell) - 2: // no quotes stand between those around it
		return record.Text(text[1 : len(text)-1]), true
	default:
		return record.Text(string(plain)), true
	}
}
