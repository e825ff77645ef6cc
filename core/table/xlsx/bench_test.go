package xlsx

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
	sheet.WriteString(`<worksheet><sheetData>`)
	for r := 1; r <= 200_000; r++ {
		fmt.Fprintf(&sheet, `<row r="%d">`, r)
		for c := range 16 {
			place := string(rune('A'+c)) + fmt.Sprint(r)
			if r == 1 || c%2 == 0 {
				fmt.Fprintf(&sheet, `<c r="%s" t="inlineStr"><is><t>text %d-%d</t></is></c>`, place, r%999, c)
			} else {
				fmt.Fprintf(&sheet, `<c r="%s" s="0"><v>%d.%02d</v></c>`, place, r*c, r%100)
			}
		}
		sheet.WriteString(`</row>`)
	}
	sheet.WriteString(`</sheetData></worksheet>`)
	data := zipped(b, map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, "xl/worksheets/sheet1.xml": sheet.String()})
	var unzip, read time.Duration
	for b.Loop() {
		start := time.Now()
		z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
		require.NoError(b, err)
		f, err := z.Open("xl/worksheets/sheet1.xml")
		require.NoError(b, err)
		_, err = io.Copy(io.Discard, f)
		require.NoError(b, err)
		unzip += time.Since(start)
		start = time.Now()
		_, err = Open("b.xlsx", data, table.Options{})
		require.NoError(b, err)
		read += time.Since(start)
	}
	b.ReportMetric(read.Seconds()/unzip.Seconds(), "x-unzip")
}
