package file

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"

	"golang.org/x/text/encoding"
	"golang.org/x/text/transform"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/target"
)

// csvRows are the rows of a CSV file.
type csvRows struct {
	*File
	encoder *encoding.Encoder // nil for UTF-8

	// Room for a row that is made.
	cells     [][]byte
	room, row []byte
	had       []byte
	hadCells  [][]byte
}

// check refuses a file that would not come back to the letter: one that is
// not in the encoding that it seemed to be in.
func (c *csvRows) check() error {
	if c.encoder == nil {
		return csv.CheckText(c.img.Name, c.m.Data, 0, len(c.m.Data))
	}
	text := c.img.Data
	if c.cr() {
		text = bytes.ReplaceAll(text, []byte{'\n'}, []byte{'\r'})
	}
	if back, err := c.encoder.Bytes(text); err != nil || !bytes.Equal(back, c.m.Data) {
		return &table.Error{Code: table.NotUTF8, File: c.img.Name, Text: "the file is not all " + c.img.Found.Encoding + ", and could not be written back as it is"}
	}
	return nil
}

func (c *csvRows) text() ([]byte, int) { return c.img.Data, c.img.Body }

// cr reports whether the file's lines end with CR alone; in the image they end
// with LF.
func (c *csvRows) cr() bool { return c.img.Found.Newline == "cr" }

func (c *csvRows) newline() string { return c.img.LineEnd() }

func (c *csvRows) each(ctx context.Context, row func(key []byte, r span) error) error {
	return c.table(ctx, c.img, func(key []byte, sc *csv.Line) error {
		start, end, next := sc.At()
		return row(key, span{start, end, next})
	})
}

func (c *csvRows) record(into record.Record, raw []byte, text string) record.Record {
	return csv.AppendRecord(into, c.img, raw, text)
}

// amended returns the row with the step's fields written into it. A cell
// that stood in quotes stays in quotes. Where a row was kept that says the
// same, it is taken to the letter. It holds until the next.
func (c *csvRows) amended(s *target.Step, kept *target.Form, raw []byte) []byte {
	comma := c.img.Comma
	cells := csv.Split(c.cells[:0], raw, comma)
	room := c.room[:0]
	for _, fc := range s.Fields {
		col := c.img.Column(fc.Field)
		for col >= len(cells) {
			cells = append(cells, nil)
		}
		quoted := len(cells[col]) > 0 && cells[col][0] == '"'
		from := len(room)
		room = csv.AppendCell(room, fc.To.String(), comma, quoted)
		cells[col] = room[from:]
	}
	c.cells, c.room = cells, room
	if kept.Kept {
		c.had = append(c.had[:0], kept.Row...)
		if c.hadCells = csv.Split(c.hadCells[:0], c.had, comma); sameCells(c.hadCells, cells) {
			return c.had
		}
	}
	c.row = c.row[:0]
	for i, cell := range cells {
		if i > 0 {
			c.row = append(c.row, comma)
		}
		c.row = append(c.row, cell...)
	}
	return c.row
}

func sameCells(a, b [][]byte) bool {
	return slices.EqualFunc(a, b, func(x, y []byte) bool { return bytes.Equal(csv.Unquote(x), csv.Unquote(y)) })
}

// added returns a new row; fields that the record lacks are empty.
func (c *csvRows) added(r record.Record) []byte {
	var row []byte
	get := r.Finder()
	for i, h := range c.img.Heading {
		if i > 0 {
			row = append(row, c.img.Comma)
		}
		v, _ := get(h)
		row = csv.AppendCell(row, v.String(), c.img.Comma, c.img.Found.Quoted)
	}
	return row
}

// least is 0: the heading says which fields there are.
func (c *csvRows) least() int { return 0 }

// refuse names the first letter that the file's encoding lacks, or that would
// not be told from its line ends.
func (c *csvRows) refuse(v record.Value) string {
	if c.cr() && bytes.ContainsRune([]byte(v.String()), '\r') {
		return "the file's lines end with CR, which cannot stand in a text of it"
	}
	if c.encoder == nil {
		return ""
	}
	for _, r := range v.String() {
		if _, err := c.encoder.String(string(r)); err != nil {
			return fmt.Sprintf("the file is %s, which has no letter %q", c.img.Found.Encoding, r)
		}
	}
	return ""
}

func (c *csvRows) encode(w io.Writer) io.WriteCloser {
	out := io.WriteCloser(nopCloser{w})
	if c.encoder != nil {
		out = transform.NewWriter(w, c.encoder)
	}
	if c.cr() {
		return crCloser{csv.ToCR(out), out}
	}
	return out
}

// crCloser writes through ToCR, and closes what is behind it.
type crCloser struct {
	io.Writer
	io.Closer
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }
