package xlsx

import (
	"archive/zip"
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"paletwin/core/record"
	"paletwin/core/table"
)

// register fills a sheet with a heading and five records: k, v.
func register(t *testing.T, f *excelize.File) {
	for i, k := range []string{"k", "1", "2", "3", "4", "5"} {
		require.NoError(t, f.SetCellStr("Sheet1", place(0, i+1), k))
		require.NoError(t, f.SetCellValue("Sheet1", place(1, i+1), i*10))
	}
	require.NoError(t, f.SetCellStr("Sheet1", "B1", "v"))
	_, err := f.NewSheet("Other")
	require.NoError(t, err)
}

func set(f *excelize.File, sheet, at, formula, typ, ref string) error {
	return f.SetCellFormula(sheet, at, formula, excelize.FormulaOpts{Type: &typ, Ref: &ref})
}

// What the library would damage is refused, and said; the same op on a
// workbook that has nothing of the kind, or elsewhere in it, is not.
func TestWhatWouldDamageAWorkbookIsRefused(t *testing.T) {
	amend := Op{Kind: Set, Row: 3, Cells: []Cell{{1, record.Text("7")}}}
	takeOut := Op{Kind: Remove, Row: 3}
	for name, c := range map[string]struct {
		make func(f *excelize.File) error
		op   Op
		why  string
	}{
		"nothing special, amend":        {func(*excelize.File) error { return nil }, amend, ""},
		"nothing special, delete":       {func(*excelize.File) error { return nil }, takeOut, ""},
		"shared formula":                {func(f *excelize.File) error { return set(f, "Sheet1", "C2", "B2*2", "shared", "C2:C6") }, takeOut, "several cells share"},
		"array formula, delete":         {func(f *excelize.File) error { return set(f, "Sheet1", "D2", "B2:B3*2", "array", "D2:D3") }, takeOut, "several cells share"},
		"array formula, cell beside it": {func(f *excelize.File) error { return set(f, "Sheet1", "D2", "B2:B3*2", "array", "D2:D3") }, amend, ""},
		"array formula, a cell of it":   {func(f *excelize.File) error { return set(f, "Sheet1", "B2", "A2:A3*2", "array", "B2:B3") }, amend, "array formula"},
		"a pointer from another sheet":  {func(f *excelize.File) error { return f.SetCellFormula("Other", "A1", "Sheet1!$B$3") }, takeOut, "points at row 3"},
		"a pointer to another row":      {func(f *excelize.File) error { return f.SetCellFormula("Other", "A1", "Sheet1!$B$4") }, takeOut, ""},
		"a pointer to another sheet":    {func(f *excelize.File) error { return f.SetCellFormula("Other", "A1", "B3") }, takeOut, ""},
		"a text like a pointer":         {func(f *excelize.File) error { return f.SetCellFormula("Other", "A1", `"Sheet1!B3"`) }, takeOut, ""},
		"the row's own formula":         {func(f *excelize.File) error { return f.SetCellFormula("Sheet1", "C3", "B3*2") }, takeOut, ""},
		"a range over it":               {func(f *excelize.File) error { return f.SetCellFormula("Other", "A1", "SUM(Sheet1!B2:B6)") }, takeOut, ""},
		"a range that begins with it":   {func(f *excelize.File) error { return f.SetCellFormula("Other", "A1", "SUM(Sheet1!B3:B6)") }, takeOut, "points at row 3"},
		"a name": {func(f *excelize.File) error {
			return f.SetDefinedName(&excelize.DefinedName{Name: "best", RefersTo: "Sheet1!$B$3"})
		}, takeOut, "the name best points at row 3"},
		"a comment": {func(f *excelize.File) error {
			return f.AddComment("Sheet1", excelize.Comment{Cell: "B5", Text: "ask Noor"})
		}, takeOut, "comments"},
		"a comment on another sheet": {func(f *excelize.File) error {
			return f.AddComment("Other", excelize.Comment{Cell: "B5", Text: "ask Noor"})
		}, takeOut, ""},
		"a chart":                        {chart, takeOut, "a chart"},
		"a rule that begins with it":     {func(f *excelize.File) error { return rule(f, "B3:B6") }, takeOut, "points at row 3"},
		"a rule over it":                 {func(f *excelize.File) error { return rule(f, "B2:B6") }, takeOut, ""},
		"an error value":                 {func(f *excelize.File) error { return f.SetCellValue("Sheet1", "C3", "=") }, amend, ""},
		"protection that stays as it is": {protect(excelize.SheetProtectionOptions{Password: "lantern", AlgorithmName: "SHA-512"}), amend, ""},
	} {
		t.Run(name, func(t *testing.T) {
			data := workbook(t, func(f *excelize.File) { register(t, f); require.NoError(t, c.make(f)) })
			refused, err := Refuse("r.xlsx", data, table.Options{}, 1, []Op{c.op})
			require.NoError(t, err)
			if c.why != "" {
				assert.Contains(t, refused[0], c.why)
				return
			}
			require.Empty(t, refused)
			var out bytes.Buffer
			require.NoError(t, Edit("r.xlsx", data, table.Options{}, 1, []Op{c.op}, &out))
		})
	}
}

func chart(f *excelize.File) error {
	return f.AddChart("Other", "D2", &excelize.Chart{Type: excelize.Line, Series: []excelize.ChartSeries{{Name: "v", Categories: "Sheet1!$A$2:$A$6", Values: "Sheet1!$B$2:$B$6"}}})
}

func rule(f *excelize.File, cells string) error {
	v := excelize.NewDataValidation(true)
	v.Sqref = cells
	if err := v.SetDropList([]string{"10", "20"}); err != nil {
		return err
	}
	return f.AddDataValidation("Sheet1", v)
}

func protect(o excelize.SheetProtectionOptions) func(f *excelize.File) error {
	return func(f *excelize.File) error { return f.ProtectSheet("Sheet1", &o) }
}

// part replaces something in a part of a workbook.
func part(t *testing.T, data []byte, name, old, now string) []byte {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	hit := false
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		if f.Name == name {
			hit = strings.Contains(string(text), old)
			text = []byte(strings.Replace(string(text), old, now, 1))
		}
		out, err := w.Create(f.Name)
		require.NoError(t, err)
		_, err = out.Write(text)
		require.NoError(t, err)
	}
	require.True(t, hit, "%s has no %s", name, old)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// A protection that would not come out as it is keeps the workbook from being
// written at all, whatever the library drops of it.
func TestProtectionStays(t *testing.T) {
	data := workbook(t, func(f *excelize.File) { register(t, f) })
	for name, c := range map[string][2]string{
		"ranges that some may edit":   {"xl/worksheets/sheet1.xml", `</sheetData><sheetProtection sheet="1"/><protectedRanges><protectedRange sqref="B2" name="fees" securityDescriptor="x"/></protectedRanges>`},
		"what may be done is allowed": {"xl/worksheets/sheet1.xml", `</sheetData><sheetProtection sheet="1" formatCells="0" sort="0"/>`},
		"the workbook's structure":    {"xl/workbook.xml", `<workbookProtection workbookPassword="CC1A" lockStructure="1"/><bookViews>`},
		"asks to be read only":        {"xl/workbook.xml", `<fileSharing readOnlyRecommended="1" userName="Noor"/><bookViews>`},
	} {
		t.Run(name, func(t *testing.T) {
			old := "</sheetData>"
			if c[0] == "xl/workbook.xml" {
				old = "<bookViews>"
			}
			locked := part(t, data, c[0], old, c[1])
			ops := []Op{{Kind: Set, Row: 3, Cells: []Cell{{1, record.Text("7")}}}}
			refused, err := Refuse("r.xlsx", locked, table.Options{}, 1, ops)
			require.NoError(t, err)
			if len(refused) > 0 {
				assert.Contains(t, refused[0], "protection")
				return
			}
			var out bytes.Buffer
			require.NoError(t, Edit("r.xlsx", locked, table.Options{}, 1, ops, &out))
			assert.Equal(t, locksOf(t, locked), locksOf(t, out.Bytes()))
		})
	}
}

func locksOf(t *testing.T, data []byte) []lock {
	var g *guard
	require.NoError(t, inBook("r.xlsx", data, table.Options{}, func(b *book) (err error) {
		g, err = newGuard(b)
		return err
	}))
	require.NotEmpty(t, g.locks)
	return g.locks
}
