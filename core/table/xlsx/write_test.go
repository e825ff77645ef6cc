package xlsx

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"pgregory.net/rapid"

	"paletwin/core/record"
	"paletwin/core/table"
)

// readAll reads rows of so many cells each.
func readAll(t require.TestingT, m *table.Image, cols int) [][]string {
	all := rows(t, m)
	for i := range all {
		for len(all[i]) < cols {
			all[i] = append(all[i], "")
		}
	}
	return all
}

// A date that a cell is given reads back as that date, however the workbook
// counts its days.
func TestSerialIsTheInverseOfMoment(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := rapid.SampledFrom([]epoch{from1900, from1899, from1904}).Draw(t, "epoch")
		k := rapid.SampledFrom([]kind{date, clock, instant}).Draw(t, "kind")
		number := fmt.Sprintf("%d", rapid.IntRange(-600_000, 2_900_000).Draw(t, "days"))
		if k != date && !strings.HasPrefix(number, "-") {
			number += fmt.Sprintf(".%06d", rapid.IntRange(0, 999_999).Draw(t, "part"))
		}
		text, ok := e.moment(number, k)
		if !ok {
			return
		}
		back, ok := e.serial(text, k)
		if text == "1900-02-29" || strings.HasPrefix(text, "1900-02-29T") || (k == clock && strings.HasPrefix(number, "-")) {
			return // a day that never was, and times before the epoch
		}
		require.True(t, ok, "%s is %s", number, text)
		again, _ := e.moment(back, k)
		require.Equal(t, text, again)
	})
	for _, text := range []string{"", "2026-13-01", "2026-02-30", "noon", "12:00", "-01:00:00", "2026-03-11T", "2026-03-11 07:05:00"} {
		n, ok := from1900.serial(text, instant)
		assert.False(t, ok, "%q gave %s", text, n)
	}
}

func TestWorkbooksWithAPassword(t *testing.T) {
	f := excelize.NewFile()
	require.NoError(t, f.SetSheetRow("Sheet1", "A1", &[]string{"k", "v"}))
	require.NoError(t, f.SetSheetRow("Sheet1", "A2", &[]string{"1", "a"}))
	var b bytes.Buffer
	require.NoError(t, f.Write(&b, excelize.Options{Password: "Lantern-7"}))
	plain, err := Plain("p.xlsx", b.Bytes(), table.Options{Password: "Lantern-7"})
	require.NoError(t, err)
	m, err := Open("p.xlsx", plain, table.Options{})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"1", "a"}}, rows(t, m))
	for _, password := range []string{"", "lantern-7"} {
		_, err := Plain("p.xlsx", b.Bytes(), table.Options{Password: password})
		var e *table.Error
		require.ErrorAs(t, err, &e)
		assert.Equal(t, table.Locked, e.Code)
	}
	cut := b.Bytes()[:b.Len()/2]
	_, err = Plain("p.xlsx", cut, table.Options{Password: "Lantern-7"})
	assert.Error(t, err)
}

// Formulas below rows that go or come still point at their cells.
func TestRowsMoveWithTheirFormulas(t *testing.T) {
	data := workbook(t, func(f *excelize.File) {
		for i, k := range []string{"k", "1", "2", "3"} {
			require.NoError(t, f.SetCellStr("Sheet1", place(0, i+1), k))
			require.NoError(t, f.SetCellValue("Sheet1", place(1, i+1), i*10))
		}
		require.NoError(t, f.SetCellStr("Sheet1", "B1", "v"))
		require.NoError(t, f.SetCellFormula("Sheet1", "C4", "B4*2"))
	})
	var b bytes.Buffer
	ops := []table.Op{{Kind: table.RemoveRow, Row: 2}, {Kind: table.InsertRow, Row: 3, Cells: []table.Cell{{Col: 0, Value: record.Text("9")}, {Col: 1, Value: record.Text("90")}}},
		{Kind: table.InsertRow, Row: 3, Cells: []table.Cell{{Col: 0, Value: record.Text("8")}, {Col: 1, Value: record.Text("80")}}}}
	refused, err := load(t, data).Refuse(ops)
	require.NoError(t, err)
	assert.Empty(t, refused)
	require.NoError(t, load(t, data).Edit(1, ops, &b))
	f, err := excelize.OpenReader(&b)
	require.NoError(t, err)
	all, err := f.GetCols("Sheet1")
	require.NoError(t, err)
	assert.Equal(t, []string{"k", "2", "9", "8", "3"}, all[0])
	formula, _ := f.GetCellFormula("Sheet1", "C5")
	assert.Equal(t, "B5*2", formula)
}

// Every text that the writer takes reads back to the letter; the others are
// refused by the character.
func TestTextsReadBackToTheLetter(t *testing.T) {
	parts := []string{"_x0041_", "_x000D_", "_x005F_", "_x005F_x0041_", "_x", "_", "x0041_", "\r", "\n", "\t", "\x01", "\x1b", "\ufffe", "\uffff", "\ufffd", "😀", "é", " ", "&amp;", "<b>", "]]>", "=1+2", "'0007", "\u00a0", "\u2028", "a"}
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom(parts), 1, 6).Draw(t, "parts"), "")
		var b bytes.Buffer
		w := NewWriter(&b)
		require.NoError(t, w.Write([]record.Value{record.Text("k"), record.Text("v")}))
		err := w.Write([]record.Value{record.Text("1"), record.Text(text)})
		if why := Unwritable(text); why != "" {
			require.ErrorContains(t, err, why)
			return
		}
		require.NoError(t, err)
		require.NoError(t, w.Close())
		m, err := Open("t.xlsx", b.Bytes(), table.Options{})
		require.NoError(t, err)
		require.Equal(t, text, rows(t, m)[0][1])
		var out bytes.Buffer
		require.NoError(t, load(t, b.Bytes()).Edit(1, []table.Op{{Kind: table.SetCells, Row: 2, Cells: []table.Cell{{Col: 0, Value: record.Text(text)}}}}, &out))
		m, err = Open("t.xlsx", out.Bytes(), table.Options{})
		require.NoError(t, err)
		require.Equal(t, []string{text, text}, rows(t, m)[0])
	})
}

func load(t require.TestingT, data []byte) *Book {
	b, err := Load("r.xlsx", data, table.Options{})
	require.NoError(t, err)
	return b
}
