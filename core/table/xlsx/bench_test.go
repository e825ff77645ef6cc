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

	"paletwin/core/record"
	"paletwin/core/table"
)

// bigBook is a workbook of so many rows of 16 cells, texts and numbers, as programs write it.
func bigBook(b *testing.B, rows int) []byte {
	var sheet, texts strings.Builder
	sheet.WriteString(`<worksheet><sheetData>`)
	for r := 1; r <= rows; r++ {
		fmt.Fprintf(&sheet, `<row r="%d">`, r)
		for c := range 16 {
			place := string(rune('A'+c)) + fmt.Sprint(r)
			switch {
			case r == 1:
				fmt.Fprintf(&sheet, `<c r="%s" t="inlineStr"><is><t>field %d</t></is></c>`, place, c)
			case c%4 == 0:
				fmt.Fprintf(&sheet, `<c r="%s" s="1" t="s"><v>%d</v></c>`, place, (r*7+c)%5000)
			case c%4 == 2:
				fmt.Fprintf(&sheet, `<c r="%s" t="inlineStr"><is><t>text %d-%d</t></is></c>`, place, r, c)
			default:
				fmt.Fprintf(&sheet, `<c r="%s" s="0"><v>%d.%02d</v></c>`, place, r*c, r%99+1)
			}
		}
		sheet.WriteString(`</row>`)
	}
	sheet.WriteString(`</sheetData></worksheet>`)
	texts.WriteString(`<sst>`)
	for i := range 5000 {
		fmt.Fprintf(&texts, `<si><t>depot %d on the old pier</t></si>`, i)
	}
	texts.WriteString(`</sst>`)
	return zipped(b, map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, "xl/worksheets/sheet1.xml": sheet.String(), "xl/sharedStrings.xml": texts.String()})
}

// unzipped is how long it takes to unzip all parts, and rezipped to zip them again besides.
func unzipped(b *testing.B, data []byte, to *zip.Writer) time.Duration {
	start := time.Now()
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(b, err)
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(b, err)
		out := io.Discard
		if to != nil {
			out, err = to.Create(f.Name)
			require.NoError(b, err)
		}
		_, err = io.Copy(out, r)
		require.NoError(b, err)
	}
	if to != nil {
		require.NoError(b, to.Close())
	}
	return time.Since(start)
}

// BenchmarkAgainstUnzip reads a sheet of 100,000 rows of 16 cells, and says
// how many times as long that takes as unzipping it.
func BenchmarkAgainstUnzip(b *testing.B) {
	data := bigBook(b, 100_000)
	var unzip, read time.Duration
	for b.Loop() {
		unzip += unzipped(b, data, nil)
		start := time.Now()
		_, err := Open("b.xlsx", data, table.Options{})
		require.NoError(b, err)
		read += time.Since(start)
	}
	b.ReportMetric(read.Seconds()/unzip.Seconds(), "x-unzip")
}

// BenchmarkEditAgainstZip writes a thousand changes into such a sheet, and says how many times as long that takes as unzipping and zipping
// the same bytes.
func BenchmarkEditAgainstZip(b *testing.B) {
	data := bigBook(b, 100_000)
	for name, kind := range map[string]table.OpKind{"amends": table.SetCells, "deletes": table.RemoveRow} {
		b.Run(name, func(b *testing.B) {
			var ops []table.Op
			for i := range 1000 {
				op := table.Op{Kind: kind, Row: 7 + i*100}
				if kind == table.SetCells {
					op.Cells = []table.Cell{{Col: 0, Value: record.Text(fmt.Sprint("quay ", i))}, {Col: 1, Value: record.Text("77.5")}}
				}
				ops = append(ops, op)
			}
			var zipped, edited time.Duration
			for b.Loop() {
				var out bytes.Buffer
				zipped += unzipped(b, data, zip.NewWriter(&out))
				out.Reset()
				start := time.Now()
				book := load(b, data)
				_, err := book.Refuse(ops)
				require.NoError(b, err)
				require.NoError(b, book.Edit(1, ops, &out))
				edited += time.Since(start)
			}
			b.ReportMetric(edited.Seconds()/zipped.Seconds(), "x-zip")
		})
	}
}
