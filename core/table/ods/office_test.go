package ods

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/officetest"
)

// document has LibreOffice make a document of a sheet with formulas, names, rules, merged cells and comments.
const flat = `<?xml version="1.0" encoding="UTF-8"?>
<office:document xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" xmlns:of="urn:oasis:names:tc:opendocument:xmlns:of:1.2" xmlns:dc="http://purl.org/dc/elements/1.1/" office:version="1.2" office:mimetype="application/vnd.oasis.opendocument.spreadsheet">
<office:body><office:spreadsheet>
<table:content-validations><table:content-validation table:name="v1" table:condition="of:cell-content-is-in-list([$'Noor''s aids'.$D$2:.$D$%[1]d])" table:base-cell-address="$'Noor''s aids'.D2"/></table:content-validations>
<table:table table:name="Noor's aids" table:print-ranges="'Noor''s aids'.A1:'Noor''s aids'.E%[1]d">%[2]s</table:table>
<table:table table:name="Sums">%[3]s</table:table>
<table:named-expressions><table:named-range table:name="part" table:base-cell-address="$'Noor''s aids'.$A$1" table:cell-range-address="$'Noor''s aids'.$A$%[4]d:.$E$%[5]d"/></table:named-expressions>
<table:database-ranges><table:database-range table:name="aids" table:target-range-address="'Noor''s aids'.A1:'Noor''s aids'.E%[1]d"/></table:database-ranges>
</office:spreadsheet></office:body></office:document>`

func anyDocument(seed uint64) (flatDocument string, last int) {
	r := rand.New(rand.NewPCG(seed, 28))
	last = 8 + r.IntN(10)
	row := func() int { return 2 + r.IntN(last-1) }
	text := func(s string) string {
		return `<table:table-cell office:value-type="string"><text:p>` + s + `</text:p></table:table-cell>`
	}
	compute := func(f string) string { return `<table:table-cell table:formula="of:=` + f + `"/>` }
	rows := `<table:table-row>` + text("id") + text("name") + text("fee") + text("depot") + text("due") + `</table:table-row>`
	for n := 2; n <= last; n++ {
		note, valid := "", ""
		if r.IntN(5) == 0 {
			note = fmt.Sprintf(`<office:annotation><text:p>ask about %d</text:p></office:annotation>`, n)
		}
		if r.IntN(2) == 0 {
			valid = ` table:content-validation-name="v1"`
		}
		rows += fmt.Sprintf(`<table:table-row>%s<table:table-cell office:value-type="string">%s<text:p>buoy &amp; %d</text:p></table:table-cell><table:table-cell office:value-type="float" office:value="%d.5"><text:p>x</text:p></table:table-cell><table:table-cell office:value-type="string"%s><text:p>D%d</text:p></table:table-cell>`+
			`<table:table-cell office:value-type="date" office:date-value="2026-05-%02d"/>%s%s%s</table:table-row>`, text(fmt.Sprintf("%05d", n)), note, n, r.IntN(90), valid, r.IntN(3), n,
			compute(fmt.Sprintf("[.C%d]*2", n)), compute(fmt.Sprintf("[.C%d]+[.C%d]+[.$C$%d]", n, max(n-1, 2), row())), compute(fmt.Sprintf("SUM([.C$2:.C%d])/SUM([.C2:.C$%d])", n, last)))
	}
	sums := ""
	for range 4 {
		a, z := row(), row()
		a, z = min(a, z), max(a, z)
		sums += `<table:table-row>` + compute(fmt.Sprintf("SUM([$'Noor''s aids'.C%d:.C%d])", a, z)) + compute(fmt.Sprintf("[$'Noor''s aids'.$B$%d]", a)) + `</table:table-row>`
	}
	a, z := row(), row()
	return fmt.Sprintf(flat, last, rows, sums, min(a, z), max(a, z)), last
}

// Rows that are taken out of twenty documents leave what LibreOffice leaves that takes the same rows out.
func TestRowsGoAsInLibreOffice(t *testing.T) {
	officetest.Need(t)
	dir := t.TempDir()
	name := func(seed int, what string) string { return filepath.Join(dir, fmt.Sprintf("%02d-%s", seed, what)) }
	const books = 20
	made := map[int][]int{}
	var flats []string
	for seed := range books {
		text, last := anyDocument(uint64(seed))
		require.NoError(t, os.WriteFile(name(seed, "was.fods"), []byte(text), 0o600))
		flats = append(flats, name(seed, "was.fods"))
		r := rand.New(rand.NewPCG(uint64(seed), 1))
		for n := 3; n <= last; n++ {
			if r.IntN(4) == 0 {
				made[seed] = append(made[seed], n)
			}
		}
	}
	officetest.ConvertAll(t, "ods", dir, flats...)
	var jobs strings.Builder
	for seed := range books {
		data, err := os.ReadFile(name(seed, "was.ods"))
		require.NoError(t, err)
		b, err := Load("r.ods", data, table.Options{Sheet: "Noor's aids"})
		require.NoError(t, err)
		var ops []table.Op
		for _, n := range made[seed] {
			ops = append(ops, table.Op{Kind: table.RemoveRow, Row: n})
		}
		refused, err := b.Refuse(ops)
		require.NoError(t, err)
		require.Empty(t, refused)
		var out bytes.Buffer
		require.NoError(t, b.Edit(1, ops, &out))
		require.NoError(t, os.WriteFile(name(seed, "made.ods"), out.Bytes(), 0o600))
		slices.Reverse(made[seed])
		fmt.Fprintf(&jobs, "%s\t%s\t%s\t%s\n", name(seed, "was.ods"), "Noor's aids", strings.Trim(strings.ReplaceAll(fmt.Sprint(made[seed]), " ", ","), "[]"), name(seed, "want.txt"))
		fmt.Fprintf(&jobs, "%s\t%s\t\t%s\n", name(seed, "made.ods"), "Noor's aids", name(seed, "got.txt"))
	}
	officetest.Rows(t, jobs.String())
	seen := 0
	for seed := range books {
		want, got := officetest.Seen(t, name(seed, "want.txt")), officetest.Seen(t, name(seed, "got.txt"))
		seen += len(want)
		assert.Equal(t, want, got, "document %d", seed)
	}
	require.Greater(t, seen, 40*books)
}

// LibreOffice shows what is computed of the values that were written, and the values themselves.
func TestLibreOfficeReadsWhatWasWritten(t *testing.T) {
	officetest.Need(t)
	dir := t.TempDir()
	text, _ := anyDocument(3)
	was := filepath.Join(dir, "was.fods")
	require.NoError(t, os.WriteFile(was, []byte(text), 0o600))
	officetest.ConvertAll(t, "ods", dir, was)
	data, err := os.ReadFile(filepath.Join(dir, "was.ods"))
	require.NoError(t, err)
	b, err := Load("r.ods", data, table.Options{Sheet: "Noor's aids"})
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, b.Edit(1, []table.Op{{Kind: table.SetCells, Row: 2, Cells: []table.Cell{{Col: 1, Value: record.Text("  two  spaces\tand\na line")}, {Col: 2, Value: record.Text("1000.25")}, {Col: 4, Value: record.Text("2026-12-24")}}}}, &out))
	img, err := Open("r.ods", out.Bytes(), table.Options{Sheet: "Noor's aids"})
	require.NoError(t, err)
	require.Contains(t, string(img.Data), "\"  two  spaces\tand\na line\",1000.25,")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "made.ods"), out.Bytes(), 0o600))
	officetest.ConvertAll(t, officetest.Shown, dir, filepath.Join(dir, "made.ods"))
	shown, err := os.ReadFile(filepath.Join(dir, "made.csv"))
	require.NoError(t, err)
	assert.Contains(t, string(shown), "spaces")
	assert.Contains(t, string(shown), "2000.5", "twice the new fee")
}
