package xlsx

import (
	"archive/zip"
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// rows reads an image back as rows of text.
func rows(t require.TestingT, m *table.Image) [][]string {
	var all [][]string
	for s := csv.Body(m); ; {
		ok, err := s.Next()
		require.NoError(t, err)
		if !ok {
			return all
		}
		var row []string
		for _, c := range csv.Split(nil, s.Raw(), m.Comma) {
			row = append(row, string(csv.Unquote(c)))
		}
		all = append(all, row)
	}
}

// book writes a workbook with the given cells.
func workbook(t *testing.T, change func(f *excelize.File)) []byte {
	f := excelize.NewFile()
	change(f)
	var b bytes.Buffer
	require.NoError(t, f.Write(&b))
	return b.Bytes()
}

func TestCells(t *testing.T) {
	data := workbook(t, func(f *excelize.File) {
		set := func(cell string, v any, format string) {
			require.NoError(t, f.SetCellValue("Sheet1", cell, v))
			if format != "" {
				id, err := f.NewStyle(&excelize.Style{CustomNumFmt: &format})
				require.NoError(t, err)
				require.NoError(t, f.SetCellStyle("Sheet1", cell, cell, id))
			}
		}
		for i, h := range []string{"aid_no", "serial_no", "fee", "installed", "seen", "at", "seasonal", "remarks"} {
			set(string(rune('A'+i))+"1", h, "")
		}
		set("A2", "00417", "")
		set("B2", "2031000417650012", "")
		require.NoError(t, f.SetCellValue("Sheet1", "C2", 29.7))
		set("D2", 46092, "yyyy-mm-dd")
		set("E2", 46092.2952430556, "dd/mm/yyyy hh:mm:ss")
		set("F2", 0.295138888888889, "[h]:mm")
		require.NoError(t, f.SetCellBool("Sheet1", "G2", true))
		set("H2", "two\nlines, \"quoted\" _x0041_ & <é>", "")
		set("A5", "00502", "")
		set("D5", 46092, `"day" 0`)
		require.NoError(t, f.SetCellFormula("Sheet1", "C5", "1+1"))
		require.NoError(t, f.SetRowVisible("Sheet1", 5, false))
		_, err := f.NewSheet("Other")
		require.NoError(t, err)
	})
	m, err := Open("t.xlsx", data, table.Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"aid_no", "serial_no", "fee", "installed", "seen", "at", "seasonal", "remarks"}, m.Heading)
	got := rows(t, m)
	require.Len(t, got, 2, "blank rows are lines and no records")
	assert.Equal(t, []string{"00417", "2031000417650012", "29.7", "2026-03-11", "2026-03-11T07:05:09", "07:05:00", "true"}, got[0][:7])
	assert.Contains(t, got[0][7], "two\nlines, \"quoted\"")
	assert.Equal(t, "46092", got[1][3], "a format with digits is a number's")
	s := csv.Body(m)
	for range 2 {
		_, err := s.Next()
		require.NoError(t, err)
	}
	assert.Equal(t, 5, s.Row, "row numbers are the sheet's")
	var codes []string
	for _, n := range m.Notes {
		codes = append(codes, n.Code)
	}
	assert.Equal(t, []string{"formula-cells", "hidden", "other-sheets"}, codes)
}

func TestSheets(t *testing.T) {
	data := workbook(t, func(f *excelize.File) {
		require.NoError(t, f.SetSheetName("Sheet1", "Hidden one"))
		require.NoError(t, f.SetCellValue("Hidden one", "A1", "a"))
		_, err := f.NewSheet("Aids")
		require.NoError(t, err)
		require.NoError(t, f.SetCellValue("Aids", "A1", "b"))
		f.SetActiveSheet(1)
		require.NoError(t, f.SetSheetVisible("Hidden one", false))
	})
	m, err := Open("t.xlsx", data, table.Options{})
	require.NoError(t, err)
	assert.Equal(t, "Aids", m.Found.Sheet)
	m, err = Open("t.xlsx", data, table.Options{Sheet: "Hidden one"})
	require.NoError(t, err)
	assert.Equal(t, []string{"a"}, m.Heading)
	_, err = Open("t.xlsx", data, table.Options{Sheet: "Depots"})
	var e *table.Error
	require.ErrorAs(t, err, &e)
	assert.Equal(t, table.NoSheet, e.Code)
}

func TestMoments(t *testing.T) {
	for _, c := range []struct {
		value string
		epoch epoch
		kind  kind
		want  string
	}{
		{"1", from1900, date, "1900-01-01"}, {"59", from1900, date, "1900-02-28"}, {"60", from1900, date, "1900-02-29"}, {"61", from1900, date, "1900-03-01"},
		{"2", from1899, date, "1900-01-01"}, {"60", from1899, date, "1900-02-28"}, {"-4592", from1899, date, "1887-06-04"},
		{"0", from1904, date, "1904-01-01"}, {"44630", from1904, date, "2026-03-11"},
		{"46092.5", from1900, date, "2026-03-11T12:00:00"}, {"46092", from1900, instant, "2026-03-11T00:00:00"},
		{"46091.9999999999", from1900, instant, "2026-03-11T00:00:00"}, {"1.0625", from1900, clock, "25:30:00"}, {"4.6092E4", from1900, date, "2026-03-11"},
		{"0.99999", from1900, clock, "23:59:59.136"},
	} {
		got, ok := c.epoch.moment(c.value, c.kind)
		require.True(t, ok, c.value)
		assert.Equal(t, c.want, got, "%s as %d from %d", c.value, c.kind, c.epoch)
	}
}

func TestKindsOfFormats(t *testing.T) {
	for code, want := range map[string]kind{
		"General": plain, "0.00": plain, "#,##0.00": plain, "0%": plain, "@": textual, `"AID-"0000`: plain, "0.00E+00": plain, `[$£-809]#,##0.00`: plain, "00000": plain,
		"yyyy-mm-dd": date, `d\-mmm\-yy`: date, "mmm-yy": date, "dd/mm/yyyy": date, "ddd": date, `yyyy"年"m"月"`: date,
		"h:mm": clock, "[h]:mm:ss": clock, "mm:ss.0": clock, "hh:mm AM/PM": clock,
		`yyyy\-mm\-dd\Thh:mm:ss`: instant, "m/d/yy h:mm": instant, "[Red]0;[Blue]yyyy": plain,
	} {
		assert.Equal(t, want, kindOf(code), code)
	}
}

func TestDigits(t *testing.T) {
	for stored, want := range map[string]string{"29.699999999999999": "29.7", "1E5": "100000", "1.10554E+11": "110554000000", "-1.5E-3": "-0.0015", "1E-007": "0.0000001",
		"5.74410002345679E+017": "574410002345679000", "0": "0", "-0": "-0", "1E400": "1" + strings.Repeat("0", 400), "1E9999": "1E9999", "x": "x"} {
		assert.Equal(t, want, digits(stored))
	}
}

// zipped makes an archive of the given parts.
func zipped(t testing.TB, parts map[string]string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range parts {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

const (
	workbookXML = `<workbook xmlns:r="r"><sheets><sheet name="A" r:id="r1"/></sheets></workbook>`
	relsXML     = `<Relationships><Relationship Id="r1" Target="worksheets/sheet1.xml"/></Relationships>`
)

// Every attack ends with an error that names the file, and quickly.
func TestHostile(t *testing.T) {
	row := `<row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c></row>`
	for name, sheet := range map[string]string{
		"document type":        `<!DOCTYPE x [<!ENTITY a "aaaa">]><worksheet><sheetData>` + row + `</sheetData></worksheet>`,
		"row out of order":     `<worksheet><sheetData>` + row + `<row r="1"/></sheetData></worksheet>`,
		"row beyond the end":   `<worksheet><sheetData><row r="99999999"/></sheetData></worksheet>`,
		"column beyond":        `<worksheet><sheetData><row r="1"><c r="ZZZZZZ1"><v>1</v></c></row></sheetData></worksheet>`,
		"cut in the middle":    `<worksheet><sheetData><row r="1"><c r="A1"><v>1`,
		"a tag without an end": `<worksheet><` + strings.Repeat("a", 3<<20),
		"text without an end":  `<worksheet><sheetData><row r="1"><c><v>` + strings.Repeat("1", 9<<20),
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Open("h.xlsx", zipped(t, map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, "xl/worksheets/sheet1.xml": sheet}), table.Options{})
			var e *table.Error
			require.ErrorAs(t, err, &e)
			assert.Equal(t, "h.xlsx", e.File)
		})
	}
	million := `<worksheet><dimension ref="A1:XFD1048576"/><sheetData>` + row + `<row r="2"><c r="A2"><v>7</v></c></row>` + strings.Repeat(`<row><c/></row>`, 100_000) + `</sheetData></worksheet>`
	m, err := Open("m.xlsx", zipped(t, map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, "xl/worksheets/sheet1.xml": million}), table.Options{})
	require.NoError(t, err)
	assert.Less(t, len(m.Data), 100, "empty rows at the end cost nothing, and the dimension is not believed")
}

// Every workbook of the excelize module's own tests is read, or refused in
// words; what both read as text agrees.
func TestAgainstExcelize(t *testing.T) {
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/xuri/excelize/v2").Output()
	require.NoError(t, err)
	files, err := filepath.Glob(filepath.Join(strings.TrimSpace(string(dir)), "test", "*.xls*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, name := range files {
		t.Run(filepath.Base(name), func(t *testing.T) {
			data, err := os.ReadFile(name)
			require.NoError(t, err)
			m, err := Open(name, data, table.Options{HeadingRow: 1})
			var e *table.Error
			if err != nil {
				require.True(t, errors.As(err, &e), "%v", err)
				return
			}
			f, err := excelize.OpenReader(bytes.NewReader(data))
			require.NoError(t, err)
			defer f.Close()
			want, err := f.GetRows(m.Found.Sheet, excelize.Options{RawCellValue: true})
			require.NoError(t, err)
			for i, h := range m.Heading {
				if i < len(want[0]) && m.HeadingRow == 1 && want[0][i] == strings.Trim(want[0][i], "0123456789.E+-") {
					assert.Equal(t, want[0][i], h)
				}
			}
		})
	}
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte(`<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c></row><row r="2"><c r="A2" s="1"><f>1+1</f><v>2</v></c></row></sheetData></worksheet>`))
	f.Add([]byte(`<worksheet><cols><col min="1" max="9" hidden="1"/></cols><sheetData><row><c t="b"><v>1</v></c><c t="e"><v>#N/A</v></c></row></sheetData></worksheet>`))
	f.Fuzz(func(t *testing.T, sheet []byte) {
		_, err := Open("f.xlsx", zipped(t, map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, "xl/worksheets/sheet1.xml": string(sheet)}), table.Options{})
		if err != nil {
			var e *table.Error
			require.ErrorAs(t, err, &e)
		}
	})
}

func TestMergedHeadings(t *testing.T) {
	set := func(f *excelize.File, cells map[string]string, merged ...string) {
		for at, v := range cells {
			require.NoError(t, f.SetCellStr("Sheet1", at, v))
		}
		for i := 0; i < len(merged); i += 2 {
			require.NoError(t, f.MergeCell("Sheet1", merged[i], merged[i+1]))
		}
	}
	for name, c := range map[string]struct {
		cells   map[string]string
		merged  []string
		heading []string
		row     int
	}{
		"groups over columns": {map[string]string{"A1": "aid_no", "B1": "fees", "D1": "depot", "B2": "ex", "C2": "inc", "A3": "1", "B3": "2", "C3": "3", "D3": "4"},
			[]string{"A1", "A2", "B1", "C1", "D1", "D2"}, []string{"aid_no", "fees ex", "fees inc", "depot"}, 2},
		"over rows alone":   {map[string]string{"A1": "aid_no", "B1": "v", "A3": "1", "B3": "2"}, []string{"A1", "A2", "B1", "B2"}, []string{"aid_no", "v"}, 1},
		"empty ones beside": {map[string]string{"A1": "aid_no", "B1": "v", "A2": "1", "B2": "2"}, []string{"D1", "F1", "C1", "C2"}, []string{"aid_no", "v"}, 1},
		"below a title": {map[string]string{"A1": "Register", "A2": "aid_no", "B2": "v", "C2": "w", "A3": "1", "B3": "2", "C3": "3"},
			[]string{"A1", "C1"}, []string{"aid_no", "v", "w"}, 2},
	} {
		t.Run(name, func(t *testing.T) {
			m, err := Open("m.xlsx", workbook(t, func(f *excelize.File) { set(f, c.cells, c.merged...) }), table.Options{})
			require.NoError(t, err)
			assert.Equal(t, c.heading, m.Heading)
			assert.Equal(t, c.row, m.HeadingRow)
			assert.Len(t, rows(t, m), 1)
		})
	}
}

// A cell that has a format and no value is empty, whatever the format.
func TestFormattedCellsAreEmpty(t *testing.T) {
	data := workbook(t, func(f *excelize.File) {
		require.NoError(t, f.SetSheetRow("Sheet1", "A1", &[]string{"k", "due", "share", "end"}))
		require.NoError(t, f.SetSheetRow("Sheet1", "A2", &[]string{"1"}))
		require.NoError(t, f.SetCellStr("Sheet1", "D2", "."))
		for at, id := range map[string]int{"B2": 14, "C2": 10} {
			style, err := f.NewStyle(&excelize.Style{NumFmt: id})
			require.NoError(t, err)
			require.NoError(t, f.SetCellStyle("Sheet1", at, at, style))
		}
	})
	m, err := Open("b.xlsx", data, table.Options{})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"1", "", "", "."}}, rows(t, m))
}
