package xlsx

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// anyBook is a workbook of a register with much of what people put around one, drawn anew for every seed; and the row of its last record.
func anyBook(t *testing.T, seed uint64) (data []byte, last int) {
	r := rand.New(rand.NewPCG(seed, 28))
	x := excelize.NewFile()
	defer x.Close()
	own := []string{"Aids", "Aids 2026", "Noor's aids", "2026"}[r.IntN(4)]
	quoted := "'" + string(bytes.ReplaceAll([]byte(own), []byte("'"), []byte("''"))) + "'"
	require.NoError(t, x.SetSheetName("Sheet1", own))
	_, err := x.NewSheet("Sums")
	require.NoError(t, err)
	last = 8 + r.IntN(12)
	row := func() int { return 2 + r.IntN(last-1) }
	rows := func() (int, int) { a, z := row(), row(); return min(a, z), max(a, z) }
	set := func(sheet, at string, v any) { require.NoError(t, x.SetCellValue(sheet, at, v)) }
	compute := func(sheet, at, formula string) { require.NoError(t, x.SetCellFormula(sheet, at, formula)) }
	for col, h := range []string{"id", "name", "fee", "depot", "due"} {
		set(own, place(col, 1), h)
	}
	for n := 2; n <= last; n++ {
		set(own, place(0, n), fmt.Sprintf("%05d", n*7))
		set(own, place(1, n), fmt.Sprintf("buoy %d", n))
		set(own, place(2, n), float64(r.IntN(9000))/100)
		set(own, place(3, n), fmt.Sprintf("D%02d", r.IntN(5)))
		set(own, place(4, n), 46_000+n)
	}
	// Formulas beside the records, as people write them: of the row, of the one above, fixed, of ranges, of the other sheet.
	for col, formula := range []func(n int) string{
		func(n int) string { return fmt.Sprintf("C%d*2", n) },
		func(n int) string { return fmt.Sprintf("C%d+C%d", n, max(n-1, 2)) },
		func(n int) string { return fmt.Sprintf("C%d/SUM(C$2:C$%d)", n, last) },
		func(n int) string { return fmt.Sprintf("SUM(C%d:C%d)", 2, n) },
		func(n int) string { return fmt.Sprintf(`IF(C%d>$C$%d,"C%d",Sums!A1)`, n, row(), n) },
	} {
		if r.IntN(3) == 0 {
			continue
		}
		if col != 4 && r.IntN(2) == 0 && col != 3 && col != 1 {
			require.NoError(t, set1(x, own, place(5+col, 2), formula(2), fmt.Sprintf("%s:%s", place(5+col, 2), place(5+col, last))))
			continue
		}
		for n := 2; n <= last; n++ {
			compute(own, place(5+col, n), formula(n))
		}
	}
	for i := range 1 + r.IntN(6) {
		a, z := rows()
		compute("Sums", place(0, i+1), []string{
			fmt.Sprintf("SUM(%s!C%d:C%d)", quoted, a, z), fmt.Sprintf("%s!B%d", quoted, a), fmt.Sprintf("%s!$C$%d*2", quoted, z),
			fmt.Sprintf("COUNTA(%s!%d:%d)", quoted, a, z), fmt.Sprintf("SUM(%s!C:C)", quoted), fmt.Sprintf("SUM(%s!C$%d,%s!C%d)", quoted, a, quoted, z)}[r.IntN(6)])
	}
	compute(own, place(2, last+3), fmt.Sprintf("SUM(C2:C%d)", last))
	for i := range r.IntN(4) {
		a, z := rows()
		require.NoError(t, x.SetDefinedName(&excelize.DefinedName{Name: fmt.Sprintf("part_%d", i), RefersTo: fmt.Sprintf("%s!$A$%d:$E$%d", quoted, a, z)}))
	}
	for i := range r.IntN(3) {
		a, z := rows()
		v := excelize.NewDataValidation(true)
		v.Sqref = fmt.Sprintf("%s:%s", place(2+i, a), place(2+i, z))
		if i == 0 {
			require.NoError(t, v.SetRange(fmt.Sprintf("C%d", a), fmt.Sprintf("$C$%d", row()), excelize.DataValidationTypeDecimal, excelize.DataValidationOperatorBetween))
		} else {
			v.SetSqrefDropList(fmt.Sprintf("$D$%d:$D$%d", a, z))
		}
		require.NoError(t, x.AddDataValidation(own, v))
	}
	red, err := x.NewConditionalStyle(&excelize.Style{Font: &excelize.Font{Color: "AA0000"}})
	require.NoError(t, err)
	for i := range r.IntN(3) {
		a, z := rows()
		require.NoError(t, x.SetConditionalFormat(own, fmt.Sprintf("%s:%s", place(i, a), place(i, z)), []excelize.ConditionalFormatOptions{
			{Type: "formula", Criteria: []string{fmt.Sprintf("$C%d>$C$%d", a, row()), fmt.Sprintf("LEN(B%d)>3", a)}[r.IntN(2)], Format: &red}}))
	}
	for i := range r.IntN(3) {
		a, z := rows()
		require.NoError(t, x.MergeCell(own, place(13+i, a), place(13+i, z)))
	}
	noted := map[int]bool{}
	for range r.IntN(4) {
		if n := row(); !noted[n] {
			noted[n] = true
			require.NoError(t, x.AddComment(own, excelize.Comment{Cell: place(1, n), Text: fmt.Sprintf("ask about %d", n)}))
		}
	}
	if n := row(); r.IntN(2) == 0 {
		require.NoError(t, x.SetCellHyperLink(own, place(1, n), "https://harbour.example/aids", "External"))
	}
	switch r.IntN(3) {
	case 0:
		require.NoError(t, x.AutoFilter(own, fmt.Sprintf("A1:E%d", last), nil))
	case 1:
		require.NoError(t, x.AddTable(own, &excelize.Table{Range: fmt.Sprintf("A1:E%d", last), Name: "aids"}))
	}
	if r.IntN(2) == 0 {
		a, z := rows()
		require.NoError(t, x.SetDefinedName(&excelize.DefinedName{Name: "_xlnm.Print_Area", RefersTo: fmt.Sprintf("%s!$A$%d:$E$%d", quoted, a, z+1), Scope: own}))
	}
	if r.IntN(3) == 0 {
		a, z := 2, last
		require.NoError(t, x.AddChart("Sums", "D2", &excelize.Chart{Type: excelize.Line, Series: []excelize.ChartSeries{{
			Name: quoted + "!$C$1", Categories: fmt.Sprintf("%s!$A$%d:$A$%d", quoted, a, z), Values: fmt.Sprintf("%s!$C$%d:$C$%d", quoted, a, z)}}}))
	}
	var b bytes.Buffer
	require.NoError(t, x.Write(&b))
	return b.Bytes(), last
}

func set1(x *excelize.File, sheet, at, formula, ref string) error {
	return set(x, sheet, at, formula, "shared", ref)
}
