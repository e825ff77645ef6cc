package csv

import (
	"bytes"
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
