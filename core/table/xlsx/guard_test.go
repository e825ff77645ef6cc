package xlsx

import (
	"archive/zip"
	"bytes"
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

// What cannot be written, or moved, is refused, and said; the same op on a workbook that has nothing of the kind, or elsewhere in it, is
// not.
func TestWhatAWorkbookCannotTakeIsRefused(t *testing.T) {
	amend := table.Op{Kind: table.SetCells, Row: 3, Cells: []table.Cell{{Col: 1, Value: record.Text("7")}}}
	takeOut := table.Op{Kind: table.RemoveRow, Row: 3}
	putIn := table.Op{Kind: table.InsertRow, Row: 2, Cells: []table.Cell{{Col: 0, Value: record.Text("9")}}}
	array := func(at, ref string) func(f *excelize.File) error {
		return func(f *excelize.File) error { return set(f, "Sheet1", at, "A2:A3*2", "array", ref) }
	}
	for name, c := range map[string]struct {
		make func(f *excelize.File) error
		op   table.Op
		why  string
	}{
		"nothing special, amend":        {func(*excelize.File) error { return nil }, amend, ""},
		"nothing special, delete":       {func(*excelize.File) error { return nil }, takeOut, ""},
		"a formula":                     {func(f *excelize.File) error { return f.SetCellFormula("Sheet1", "B3", "A3*2") }, amend, "cell B3 holds a formula"},
		"a shared formula":              {func(f *excelize.File) error { return set(f, "Sheet1", "B2", "A2*2", "shared", "B2:B6") }, amend, "cell B3 holds a formula"},
		"shared formulas, delete":       {func(f *excelize.File) error { return set(f, "Sheet1", "C2", "B2*2", "shared", "C2:C6") }, takeOut, ""},
		"array formula, delete":         {array("D2", "D2:D3"), takeOut, "array formula in D2:D3"},
		"array formula, add":            {array("D2", "D2:D3"), putIn, "array formula in D2:D3"},
		"array formula below":           {array("D4", "D4:D5"), takeOut, ""},
		"array formula of that row":     {array("D3", "D3"), takeOut, ""},
		"array formula, cell beside it": {array("D2", "D2:D3"), amend, ""},
		"array formula, a cell of it":   {array("B2", "B2:B3"), amend, "array formula in B2:B3"},
		"a pointer from another sheet":  {func(f *excelize.File) error { return f.SetCellFormula("Other", "A1", "Sheet1!$B$3") }, takeOut, ""},
		"a comment": {func(f *excelize.File) error {
			return f.AddComment("Sheet1", excelize.Comment{Cell: "B3", Text: "ask Noor"})
		}, takeOut, ""},
		"a chart": {chart, takeOut, ""},
		"the headings of another table": {func(f *excelize.File) error {
			return f.AddTable("Sheet1", &excelize.Table{Range: "D3:E6", Name: "beside"})
		}, takeOut, "headings of the table beside"},
		"a row of another table": {func(f *excelize.File) error {
			return f.AddTable("Sheet1", &excelize.Table{Range: "D2:E6", Name: "beside"})
		}, takeOut, ""},
		"an error value": {func(f *excelize.File) error { return f.SetCellValue("Sheet1", "B3", "=") }, amend, ""},
		"protection":     {protect(excelize.SheetProtectionOptions{Password: "lantern", AlgorithmName: "SHA-512"}), amend, ""},
	} {
		t.Run(name, func(t *testing.T) {
			data := workbook(t, func(f *excelize.File) { register(t, f); require.NoError(t, c.make(f)) })
			refused, err := load(t, data).Refuse([]table.Op{c.op})
			require.NoError(t, err)
			if c.why != "" {
				assert.Contains(t, refused[0], c.why)
				return
			}
			require.Empty(t, refused)
			var out bytes.Buffer
			require.NoError(t, load(t, data).Edit(1, []table.Op{c.op}, &out))
			f, err := excelize.OpenReader(&out)
			require.NoError(t, err)
			require.NoError(t, f.Close())
		})
	}
}

// A signed workbook is not written.
func TestSignedWorkbooksAreRefused(t *testing.T) {
	data := workbook(t, func(f *excelize.File) { register(t, f) })
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range z.File {
		require.NoError(t, w.Copy(f))
	}
	_, err = w.Create("_xmlsignatures/sig1.xml")
	require.NoError(t, err)
	require.NoError(t, w.Close())
	refused, err := load(t, b.Bytes()).Refuse([]table.Op{{Kind: table.SetCells, Row: 3, Cells: []table.Cell{{Col: 1, Value: record.Text("7")}}}})
	require.NoError(t, err)
	assert.Contains(t, refused[0], "signed")
}

func chart(f *excelize.File) error {
	return f.AddChart("Other", "D2", &excelize.Chart{Type: excelize.Line, Series: []excelize.ChartSeries{{Name: "v", Categories: "Sheet1!$A$2:$A$6", Values: "Sheet1!$B$2:$B$6"}}})
}

func protect(o excelize.SheetProtectionOptions) func(f *excelize.File) error {
	return func(f *excelize.File) error { return f.ProtectSheet("Sheet1", &o) }
}
