package open

import (
	"io"

	"paletwin/core/table/document"
	"paletwin/core/table/ods"
	"paletwin/core/table/xlsx"
)

// Spreadsheet returns a writer of a spreadsheet to w: "ods", else an XLSX workbook.
func Spreadsheet(format string, w io.Writer) *document.Writer {
	if format == "ods" {
		return ods.NewWriter(w)
	}
	return xlsx.NewWriter(w)
}
