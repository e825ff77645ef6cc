package csv

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
)

// Whatever is written reads back, with any delimiter.
func TestWriterReadsBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		cols := rapid.IntRange(1, 4).Draw(t, "columns")
		cell := rapid.StringOfN(rapid.RuneFrom([]rune("ab,;\t\"\r\n é")), 0, 6, -1)
		want := rapid.SliceOfN(rapid.SliceOfN(cell, cols, cols), 0, 5).Draw(t, "rows")
		comma := rapid.SampledFrom([]byte{0, ',', ';', '\t'}).Draw(t, "comma")
		var b bytes.Buffer
		w := &Writer{W: &b, Comma: comma}
		for _, row := range want {
			values := make([]record.Value, cols)
			for i, c := range row {
				values[i] = record.Text(c)
			}
			require.NoError(t, w.Write(values))
		}
		require.NoError(t, w.Close())
		s := NewScanner(b.Bytes(), 0, max(comma, ','))
		if comma == '\t' {
			s = NewScanner(b.Bytes(), 0, comma)
		}
		for _, row := range want {
			ok, err := s.Next()
			require.True(t, ok && err == nil, "%q", b.String())
			for i, c := range Split(nil, s.Raw(), s.Comma) {
				require.Equal(t, row[i], string(Unquote(c)))
			}
		}
		ok, err := s.Next()
		require.False(t, ok || err != nil)
	})
}

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
