package cli

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/table"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
)

// fileFlags say how files are to be read. One value goes for both files; two,
// with a comma between, for the snapshot and for the copy.
type fileFlags struct {
	sheet, encoding, delimiter string
	headingRow                 []int
}

func (f *fileFlags) flags(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.StringVar(&f.sheet, "sheet", "", "the `sheet` of a workbook (default: the first that is not hidden)")
	fl.StringVar(&f.encoding, "encoding", "", "the `encoding` of CSV files (default: found)")
	fl.StringVar(&f.delimiter, "delimiter", "", "the delimiter of CSV files: `comma`, semicolon, tab (default: found)")
	fl.IntSliceVar(&f.headingRow, "heading-row", nil, "the `row` with the headings (default: found)")
}

var delimiters = map[string]string{"comma": ",", ",": ",", "semicolon": ";", ";": ";", "tab": "\t", "\t": "\t", "pipe": "|", "|": "|", "": ""}

func (f *fileFlags) check() error {
	for _, d := range f.each(f.delimiter) {
		if _, ok := delimiters[d]; !ok {
			return usage("--delimiter is comma, semicolon, tab or pipe, not %q", f.delimiter)
		}
	}
	if len(f.headingRow) > 2 {
		return usage("--heading-row takes one row for both files, or two: 3,1")
	}
	for _, n := range f.headingRow {
		if n < 1 {
			return usage("--heading-row counts from 1")
		}
	}
	return nil
}

// each cuts a value into that for the snapshot and that for the copy.
func (f *fileFlags) each(value string) [2]string {
	if one, two, ok := strings.Cut(value, ","); ok && one != "" && two != "" {
		return [2]string{one, two}
	}
	return [2]string{value, value}
}

// options are those of the snapshot (0) or of the copy (1).
func (f *fileFlags) options(which int, password string) table.Options {
	o := table.Options{Password: password, Sheet: f.sheet, Encoding: f.each(f.encoding)[which], Delimiter: delimiters[f.each(f.delimiter)[which]]}
	if n := len(f.headingRow); n > 0 {
		o.HeadingRow = f.headingRow[min(which, n-1)]
	}
	return o
}

// reading are the flags' options of a source that may name its sheet itself.
func (f *fileFlags) reading(s *desk.Source, which int, password string) {
	sheet := s.Options.Sheet
	s.Options = f.options(which, password)
	s.Options.Sheet = cmp.Or(sheet, s.Options.Sheet)
}

// foundWords says what was found out about a file.
func foundWords(f table.Found) string {
	words := []string{f.Format, f.Encoding}
	if f.Delimiter != "" {
		words = append(words, "delimiter "+fmt.Sprintf("%q", f.Delimiter))
	}
	if f.Newline != "" {
		words = append(words, f.Newline)
	}
	if f.BOM {
		words = append(words, "byte-order mark")
	}
	if f.Sheet != "" {
		words = append(words, fmt.Sprintf("sheet %q", screen.Safe(f.Sheet)))
	}
	words = append(words, fmt.Sprintf("headings in row %d", cmp.Or(f.HeadingRow, 1)))
	if f.Program != "" {
		words = append(words, "written by "+screen.Safe(f.Program))
	}
	return strings.Join(words, ", ")
}
