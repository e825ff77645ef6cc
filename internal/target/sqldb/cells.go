package sqldb

import (
	"bufio"
	"fmt"
	"io"
	"strconv"
	"unicode/utf8"

	"paletwin/core/record"
	"paletwin/internal/target/spool"
)

// cells writes rows as CSV: null is an empty cell, the empty text one in quotes.
type cells struct {
	out  *bufio.Writer
	line []byte
	rows int64
}

func newCells(w io.Writer) *cells { return &cells{out: bufio.NewWriterSize(w, 1<<16)} }

// cell adds the i-th cell of a row; nil is null.
func (c *cells) cell(i int, text []byte, of *column) error {
	if i > 0 {
		c.line = append(c.line, ',')
	}
	if text == nil {
		return nil
	}
	if err := readable(text, of); err != nil {
		return err
	}
	c.line = spool.AppendCell(c.line, text)
	return nil
}

// row writes a row of values.
func (c *cells) row(row []record.Value, of []*column) error {
	for i, v := range row {
		var text []byte
		if !v.IsNull() {
			text = append([]byte{}, v.String()...)
		}
		if err := c.cell(i, text, of[i]); err != nil {
			return err
		}
	}
	return c.end()
}

// take writes a row as it stands, with its line end.
func (c *cells) take(line []byte) error {
	c.rows++
	_, err := c.out.Write(line)
	return err
}

// end ends a row.
func (c *cells) end() error {
	c.rows++
	_, err := c.out.Write(append(c.line, '\n'))
	c.line = c.line[:0]
	return err
}

// close ends the rows, and returns how many these are.
func (c *cells) close(err error) (int64, error) {
	if err != nil {
		return 0, err
	}
	return c.rows, c.out.Flush()
}

// readable refuses a text that no text file holds.
func readable(text []byte, c *column) error {
	for _, b := range text {
		if b == 0 {
			return &failure{kind: other, text: fmt.Sprintf("a value of %s holds a NUL, which no text file can hold: %s", c.name, strconv.QuoteToASCII(string(text[:min(len(text), 40)])))}
		}
	}
	if !utf8.Valid(text) {
		return &failure{kind: other, text: fmt.Sprintf("a value of %s is no text: %s", c.name, strconv.QuoteToASCII(string(text[:min(len(text), 40)])))}
	}
	return nil
}
