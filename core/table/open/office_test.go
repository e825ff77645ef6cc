package open_test

import (
	"context"
	"encoding/csv"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/xuri/excelize/v2"

	"paletwin/core/layout"
	"paletwin/core/lend"
	"paletwin/core/table"
	ours "paletwin/core/table/csv"
	"paletwin/core/table/officetest"
	"paletwin/core/table/open"
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
	m, err := open.Open(filepath.Base(file), data, table.Options{})
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
// was saved there, in whichever format.
func TestLentCopiesComeBackFromLibreOffice(t *testing.T) {
	officetest.Need(t)
	want := demoRows(t)
	b := quoted(want)
	m, err := open.Open("aids.csv", b, table.Options{})
	require.NoError(t, err)
	for _, lentAs := range []string{"xlsx", "ods"} {
		file := filepath.Join(t.TempDir(), "lent."+lentAs)
		w, err := os.Create(file)
		require.NoError(t, err)
		c := &lend.Copy{Snapshot: m, SHA256: strings.Repeat("0f", 32), Key: []string{"aid_no"}, Format: lentAs}
		lent, err := c.Write(context.Background(), w)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		for _, format := range []string{"xlsx", "ods"} {
			t.Run(lentAs+" "+format, func(t *testing.T) {
				t.Parallel()
				got, rows := rowsOf(t, officetest.Convert(t, file, "en-GB", "", format))
				assert.Equal(t, lent, got.Lent)
				require.Equal(t, want, rows)
			})
		}
	}
}

// How a copy looks, what may be chosen in it and what is locked, are the same in both formats, as LibreOffice reads them.
func TestCopiesSayTheSameInBothFormats(t *testing.T) {
	officetest.Need(t)
	l, err := layout.Parse("aids.yaml", []byte("key: no\nfields:\n  no: text\n  zone: {kind: choice, values: [inner, \"a<b, \\\"c\\\"\", outer]}\n  fee: {kind: decimal, scale: 2}\n  n: integer\n  seen: {kind: text, access: system}\n"), nil)
	require.NoError(t, err)
	m, err := open.Open("it's <aids>.csv", []byte("no,zone,fee,n,seen\n007,inner,29.70,5,x\n008,outer,1,007,y\n"), table.Options{})
	require.NoError(t, err)
	books := map[string]*excelize.File{}
	for _, format := range []string{"xlsx", "ods"} {
		file := filepath.Join(t.TempDir(), "lent."+format)
		w, err := os.Create(file)
		require.NoError(t, err)
		_, err = (&lend.Copy{Snapshot: m, SHA256: strings.Repeat("0f", 32), Key: []string{"no"}, Layout: l, Format: format}).Write(t.Context(), w)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		books[format], err = excelize.OpenFile(officetest.Convert(t, file, "en-GB", "", "xlsx"))
		require.NoError(t, err)
	}
	x, o := books["xlsx"], books["ods"]
	require.Equal(t, x.GetSheetList(), o.GetSheetList())
	for _, sheet := range x.GetSheetList() {
		want, err := x.GetRows(sheet)
		require.NoError(t, err)
		got, err := o.GetRows(sheet)
		require.NoError(t, err)
		require.Len(t, got, len(want))
		for i := range want {
			for k := range want[i] {
				require.Equal(t, strings.ReplaceAll(want[i][k], ".xlsx", ".ods"), got[i][k], "%s %d %d", sheet, i, k)
			}
		}
		seen := func(f *excelize.File) bool { v, err := f.GetSheetVisible(sheet); require.NoError(t, err); return v }
		assert.Equal(t, seen(x), seen(o), sheet)
	}
	sheet := x.GetSheetList()[0]
	validations := func(f *excelize.File) []excelize.DataValidation {
		var all []excelize.DataValidation
		vs, err := f.GetDataValidations(sheet)
		require.NoError(t, err)
		for _, v := range vs {
			all = append(all, excelize.DataValidation{AllowBlank: v.AllowBlank, Error: v.Error, ErrorStyle: v.ErrorStyle, ErrorTitle: v.ErrorTitle, ShowErrorMessage: v.ShowErrorMessage, Sqref: v.Sqref, Type: v.Type, Formula1: v.Formula1})
		}
		return all
	}
	require.Len(t, validations(x), 1)
	assert.Equal(t, validations(x), validations(o))
	for _, cell := range []string{"A1", "A2", "B2", "C2", "C3", "D2", "E2", "A9", "B9", "D3"} {
		looks := func(f *excelize.File) []any {
			id, err := f.GetCellStyle(sheet, cell)
			require.NoError(t, err)
			s, err := f.GetStyle(id)
			require.NoError(t, err)
			typ, err := f.GetCellType(sheet, cell)
			require.NoError(t, err)
			format := ""
			if s.CustomNumFmt != nil {
				format = *s.CustomNumFmt
			}
			return []any{s.Protection.Locked, s.NumFmt, format, s.Fill.Color, s.Font.Color, s.Font.Bold, typ}
		}
		assert.Equal(t, looks(x), looks(o), cell)
	}
	panes := func(f *excelize.File) excelize.Panes {
		p, err := f.GetPanes(sheet)
		require.NoError(t, err)
		p.Selection = nil
		return p
	}
	assert.Equal(t, panes(x), panes(o))
	assert.Equal(t, protection(t, x), protection(t, o))
	assert.True(t, protection(t, o))
	assert.Equal(t, filters(t, x), filters(t, o))
	assert.NotEmpty(t, filters(t, o))
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
		_, err := open.Open("x", []byte(c.data), table.Options{})
		var e *table.Error
		require.ErrorAs(t, err, &e, name)
		assert.Equal(t, c.code, e.Code, name)
	}
}

// part is the first sheet's part of a workbook.
func part(t *testing.T, f *excelize.File) string {
	b, ok := f.Pkg.Load("xl/worksheets/sheet1.xml")
	require.True(t, ok)
	return string(b.([]byte))
}

func protection(t *testing.T, f *excelize.File) bool {
	return strings.Contains(part(t, f), `<sheetProtection sheet="true"`)
}

func filters(t *testing.T, f *excelize.File) string {
	return regexp.MustCompile(`<autoFilter[^>]*>`).FindString(part(t, f))
}
