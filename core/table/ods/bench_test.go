package ods

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"paletwin/core/table"
)

// BenchmarkAgainstUnzip reads a sheet of 200,000 rows of 16 cells, and says
// how many times as long that takes as unzipping its part.
func BenchmarkAgainstUnzip(b *testing.B) {
	var sheet strings.Builder
	sheet.WriteString(start + `<table:table table:name="Aids">`)
	for r := range 200_000 {
		sheet.WriteString(`<table:table-row>`)
		for c := range 16 {
			if r == 0 || c%2 == 0 {
				fmt.Fprintf(&sheet, `<table:table-cell office:value-type="string"><text:p>text %d-%d</text:p></table:table-cell>`, r%999, c)
			} else {
				fmt.Fprintf(&sheet, `<table:table-cell office:value-type="float" office:value="%d.%02d"><text:p>%d.%02d</text:p></table:table-cell>`, r*c, r%100, r*c, r%100)
			}
		}
		sheet.WriteString(`</table:table-row>`)
	}
	sheet.WriteString(`</table:table></office:spreadsheet></office:body></office:document-content>`)
	data := zipped(b, sheet.String())
	var unzip, read time.Duration
	for b.Loop() {
		at := time.Now()
		z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
		require.NoError(b, err)
		f, err := z.Open("content.xml")
		require.NoError(b, err)
		_, err = io.Copy(io.Discard, f)
		require.NoError(b, err)
		unzip += time.Since(at)
		at = time.Now()
		_, err = Open("b.ods", data, table.Options{})
		require.NoError(b, err)
		read += time.Since(at)
	}
	b.ReportMetric(read.Seconds()/unzip.Seconds(), "x-unzip")
}
