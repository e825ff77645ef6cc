package document_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/document"
	"paletwin/core/table/ods"
	"paletwin/core/table/xlsx"
)

// forms are all there are, and how each is read.
var forms = map[string]struct {
	open  func(string, []byte, table.Options) (*table.Image, error)
	write func(*bytes.Buffer) *document.Writer
}{
	"xlsx": {xlsx.Open, func(b *bytes.Buffer) *document.Writer { return xlsx.NewWriter(b) }},
	"ods":  {ods.Open, func(b *bytes.Buffer) *document.Writer { return ods.NewWriter(b) }},
}

// anyText are texts that a spreadsheet would take for something else, and
// texts that XML and workbooks have to escape.
func anyText() *rapid.Generator[string] {
	return rapid.OneOf(
		rapid.SampledFrom([]string{"", "00417", "1E5", "MAR-2", "29.70", "2031000417650012", "=1+2", "TRUE", "_x0041_", "a\nb", "a\r\nb", "  x ", "<&>\"'", "\t", "Åsa Brandvold", "\U0001F6A2", "#N/A", "'07",
			"\n", " ", "]]>", "\ufffd", "\u00a0", "\u2028", "-0", "0.10", "1e400", "1" + strings.Repeat("0", 400)}),
		rapid.StringOfN(rapid.RuneFrom([]rune("ab 0_x<&\r\n\t\"é€\U0001F6A2")), 0, 12, -1))
}

// Whatever a table holds, a document gives it back to the letter, whatever its columns are.
func TestWhatIsWrittenReadsBack(t *testing.T) {
	for name, form := range forms {
		t.Run(name, func(t *testing.T) {
			rapid.Check(t, func(t *rapid.T) {
				cols := rapid.IntRange(1, 4).Draw(t, "columns")
				want := rapid.SliceOfN(rapid.SliceOfN(anyText(), cols, cols), 0, 6).Draw(t, "rows")
				var b bytes.Buffer
				w := form.write(&b)
				w.Sheet = rapid.SampledFrom([]string{"", "aids", "the keeper's <aids>", "a.b", "5 \"x\" & y"}).Draw(t, "sheet")
				w.Columns = []document.Column{{Locked: true}, {Values: []string{"a", "<b> & \"c\"", ""}}, {Kind: document.AsNumber, Decimals: rapid.IntRange(-1, 2).Draw(t, "decimals"), Locked: true}}
				w.Lent = &table.Lent{Version: 1, Snapshot: strings.Repeat("ab", 32), Name: "á<i>ds\".csv", Fields: []string{strings.Repeat("lång", 100)}, Records: 3, All: 4}
				w.Pages = []document.Page{{Name: "how to edit", Lines: []string{"How", "Do <this> & that"}}}
				heading := make([]record.Value, cols)
				for i := range heading {
					heading[i] = record.Text(fmt.Sprintf("h%d", i))
				}
				require.NoError(t, w.Write(heading))
				for i, row := range want {
					row[0] = fmt.Sprint("k", i) // a wholly blank row would be none
					values := make([]record.Value, cols)
					for j, c := range row {
						values[j] = record.Text(c)
					}
					require.NoError(t, w.Write(values))
				}
				require.NoError(t, w.Close())
				m, err := form.open("w."+name, b.Bytes(), table.Options{Sheet: w.Sheet})
				require.NoError(t, err)
				require.Equal(t, w.Lent, m.Lent)
				require.True(t, m.Lent.Narrow())
				got := readAll(t, m, cols)
				require.Len(t, got, len(want))
				for i := range want {
					for j := range want[i] { // numbers are written without zeros at their end
						if text, is := w.Number(j, record.Text(want[i][j])); is {
							want[i][j] = text
						}
					}
					require.Equal(t, want[i], got[i])
				}
			})
		})
	}
}

// readAll reads rows of so many cells each.
func readAll(t require.TestingT, m *table.Image, cols int) [][]string {
	var all [][]string
	for s := csv.Body(m); ; {
		ok, err := s.Next()
		require.NoError(t, err)
		if !ok {
			return all
		}
		row := make([]string, cols)
		for i, c := range csv.Split(nil, s.Raw(), m.Comma) {
			row[i] = string(csv.Unquote(c))
		}
		all = append(all, row)
	}
}

func TestWriterRefusesWhatASheetCannotHold(t *testing.T) {
	for name, form := range forms {
		t.Run(name, func(t *testing.T) {
			w := form.write(&bytes.Buffer{})
			require.NoError(t, w.Write([]record.Value{record.Text("k"), record.Text("v")}))
			var e *table.Error
			for _, text := range []string{strings.Repeat("x", document.MaxText+1), strings.Repeat("\U0001F6A2", document.MaxText/2+1), "a\x00", "\x1b[1m", "\uffff"} {
				require.ErrorAs(t, w.Write([]record.Value{record.Text("1"), record.Text(text)}), &e)
				assert.Equal(t, []int{2, 2}, []int{e.Row, e.Column})
			}
			require.ErrorAs(t, w.Write(make([]record.Value, document.MaxColumns+1)), &e)
			w.Rows = document.MaxRows
			require.ErrorAs(t, w.Write(nil), &e)
		})
	}
}
