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

// fileFlags say how the file that a command reads is to be read; of compare, the edited copy. A snapshot's
// stand in its layout, or are found.
type fileFlags struct {
	sheet, encoding, delimiter string
	headingRow                 int
}

func (f *fileFlags) flags(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.StringVar(&f.sheet, "sheet", "", "the `sheet` of a workbook (default: the first that is not hidden)")
	fl.StringVar(&f.encoding, "encoding", "", "the `encoding` of CSV files (default: found)")
	fl.StringVar(&f.delimiter, "delimiter", "", "`comma|semicolon|tab|pipe` between the cells of CSV files (default: found)")
	fl.IntVar(&f.headingRow, "heading-row", 0, "the `row` with the headings (default: found)")
}

var delimiters = map[string]string{"comma": ",", ",": ",", "semicolon": ";", ";": ";", "tab": "\t", "\t": "\t", "pipe": "|", "|": "|", "": ""}

func (f *fileFlags) check() error {
	if _, ok := delimiters[f.delimiter]; !ok {
		return usage("--delimiter is comma, semicolon, tab or pipe, not %q", f.delimiter)
	}
	if f.headingRow < 0 {
		return usage("--heading-row counts from 1")
	}
	return nil
}

// options are those that the flags say.
func (f *fileFlags) options(password string) table.Options {
	return table.Options{Password: password, Sheet: f.sheet, Encoding: f.encoding, Delimiter: delimiters[f.delimiter], HeadingRow: f.headingRow}
}

// reading are the flags' options of a source that may name its sheet itself.
func (f *fileFlags) reading(s *desk.Source, password string) {
	sheet := s.Options.Sheet
	s.Options = f.options(password)
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
