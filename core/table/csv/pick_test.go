package csv

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What is picked is what splitting gives, however quotes, delimiters and line ends stand in cells.
func TestPickedCellsAreThoseThatSplitGives(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		comma := rapid.SampledFrom([]byte{',', ';', '\t', '|'}).Draw(t, "comma")
		var cols []int
		for c := range rapid.IntRange(1, 12).Draw(t, "columns asked") {
			if rapid.Bool().Draw(t, "asked") {
				cols = append(cols, c)
			}
		}
		width := rapid.SampledFrom([]int{0, 0, 1, 2, 5, 9, 14}).Draw(t, "width")
		quotes := rapid.Bool().Draw(t, "quotes")
		p := NewPicker(comma, cols, width, quotes)
		for range 3 { // it keeps nothing of the row before
			var raw []byte
			least, most := 1, 14
			if width > 0 {
				least, most = width, width
			}
			letters := "ab1.é"
			if quotes {
				letters += ",;\t|\"\n\r"
			}
			for i, text := range rapid.SliceOfN(rapid.StringOf(rapid.SampledFrom([]rune(letters))), least, most).Draw(t, "cells") {
				if i > 0 {
					raw = append(raw, comma)
				}
				raw = AppendCell(raw, text, comma, quotes && rapid.Bool().Draw(t, "quoted"))
			}
			want := Split(nil, raw, comma)
			for n, cell := range p.Cells(raw) {
				if cols[n] >= len(want) {
					require.Nil(t, cell)
				} else {
					require.Equal(t, string(want[cols[n]]), string(cell), "%q of %d", raw, cols[n])
				}
			}
		}
	})
}
