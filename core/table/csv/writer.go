package csv

import (
	"io"

	"paletwin/core/record"
)

// Writer writes a table as CSV in UTF-8, RFC 4180, one line a row. It is a
// table.Writer.
type Writer struct {
	W     io.Writer
	Comma byte // 0 is a comma
	line  []byte
}

// Write writes a row; null and the empty text look alike. A row that holds
// nothing but one empty cell is written in quotes, since an empty line would
// be no row.
func (w *Writer) Write(row []record.Value) error {
	comma := w.Comma
	if comma == 0 {
		comma = ','
	}
	w.line = w.line[:0]
	for i, v := range row {
		if i > 0 {
			w.line = append(w.line, comma)
		}
		w.line = AppendCell(w.line, v.String(), comma, len(row) == 1 && v.Blank())
	}
	w.line = append(w.line, '\n')
	_, err := w.W.Write(w.line)
	return err
}

// Close ends the table; the io.Writer stays open.
func (w *Writer) Close() error { return nil }
