package open

import (
	"context"
	"encoding/csv"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/lend"
	"paletwin/core/table"
	ours "paletwin/core/table/csv"
	"paletwin/core/table/officetest"
)

// quoted writes rows as CSV with all cells in quotes.
func quoted(rows [][]string) []byte {
	var b []byte
	for _, row := range rows {
		for i, c := range row {
			if i > 0 {
				b = append(b, ',')
			}
			b = ours.AppendCell(b, c, ',', true)
		}
		b = append(b, '\n')
	}
	return b
}

// rowsOf opens a file and returns its rows of text.
func rowsOf(t *testing.T, file string) (*table.Image, [][]string) {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	m, err := Open(filepath.Base(file), data, table.Options{})
	require.NoError(t, err)
	all := [][]string{m.Heading}
	for s := ours.Body(m); ; {
		ok, err := s.Next()
		require.NoError(t, err)
		if !ok {
			return m, all
		}
		require.Equal(t, len(all)+1, s.Row)
		var row []string
		for _, c := range ours.Split(nil, s.Raw(), m.Comma) {
			row = append(row, string(ours.Unquote(c)))
		}
		for len(row) < len(m.Heading) {
			row = append(row, "")
		}
		all = append(all, row)
	}
}

func demoRows(t *testing.T) [][]string {
	f, err := os.Open("../../../internal/demo/data/aids.csv")
	require.NoError(t, err)
	defer f.Close()
	want, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	return want
}

// The demo's snapshot, taken by LibreOffice as text under several locales and
// saved in its formats, reads back cell for cell. Left to take numbers and
// dates for what they look like, it wears the cells, and the file is read all
// the same: every record, every text that it did not touch.
func TestLibreOfficeFilesReadExactly(t *testing.T) {
	officetest.Need(t)
	want := demoRows(t)
	file := filepath.Join(t.TempDir(), "aids.csv")
	require.NoError(t, os.WriteFile(file, quoted(want), 0o600))
	name := slices.Index(want[0], "name")
	for locale := range officetest.Languages {
		for _, format := range []string{"xlsx", "ods", officetest.Shown} {
			ext, _, _ := strings.Cut(format, ":")
			t.Run(locale+" "+ext, func(t *testing.T) {
				t.Parallel()
				_, got := rowsOf(t, officetest.Convert(t, file, locale, officetest.Import(locale, true, false), format))
				require.Equal(t, want, got)
				_, worn := rowsOf(t, officetest.Convert(t, file, locale, officetest.Import(locale, false, true), format))
				require.Len(t, worn, len(want))
				require.Equal(t, want[0], worn[0])
				for i := range want {
					require.Equal(t, want[i][name], worn[i][name])
				}
			})
		}
	}
}

// A copy that was lent does not wear in LibreOffice, and is recognised when it
// was saved there, in its format too.
func TestLentCopiesComeBackFromLibreOffice(t *testing.T) {
	officetest.Need(t)
	want := demoRows(t)
	b := quoted(want)
	m, err := Open("aids.csv", b, table.Options{})
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "lent.xlsx")
	w, err := os.Create(file)
	require.NoError(t, err)
	c := &lend.Copy{Snapshot: m, SHA256: strings.Repeat("0f", 32), Key: []string{"aid_no"}}
	lent, err := c.Write(context.Background(), w)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	for _, format := range []string{"xlsx", "ods"} {
		t.Run(format, func(t *testing.T) {
			t.Parallel()
			got, rows := rowsOf(t, officetest.Convert(t, file, "en-GB", "", format))
			assert.Equal(t, lent, got.Lent)
			require.Equal(t, want, rows)
		})
	}
}

func TestWhatIsNoTable(t *testing.T) {
	for name, c := range map[string]struct {
		data string
		code table.Code
	}{
		"old workbook": {"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", table.Binary},
		"cut archive":  {"PK\x03\x04...", table.Broken},
		"empty":        {"", table.Empty},
		"empty array":  {"[]", table.Empty},
		"text in JSON": {`[{"k":1},`, table.Broken},
	} {
		_, err := Open("x", []byte(c.data), table.Options{})
		var e *table.Error
		require.ErrorAs(t, err, &e, name)
		assert.Equal(t, c.code, e.Code, name)
	}
}
