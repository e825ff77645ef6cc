package xlsx

import (
	"archive/zip"
	"bytes"
	"fmt"
	"html"
	"io"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/record"
	"paletwin/core/table"
)

// parts are the parts of a workbook, and raw whether each went over as it stands in an archive.
func parts(t *testing.T, data []byte) map[string]string {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	all := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		b, err := io.ReadAll(r)
		require.NoError(t, err)
		all[f.Name] = string(b)
	}
	return all
}

func edited(t *testing.T, data []byte, ops []table.Op) []byte {
	b := load(t, data)
	refused, err := b.Refuse(ops)
	require.NoError(t, err)
	require.Empty(t, refused)
	var out bytes.Buffer
	require.NoError(t, b.Edit(1, ops, &out))
	return out.Bytes()
}

// ownPart is the part of a workbook's sheet.
const ownPart = "xl/worksheets/sheet1.xml"

// What an amend does not name stays to the letter, part by part and row by row; and what it wrote goes back to the letter.
func TestAmendsTouchNothingElse(t *testing.T) {
	for seed := range uint64(40) {
		data, last := anyBook(t, seed)
		r := rand.New(rand.NewPCG(seed, 2))
		b := load(t, data)
		var ops []table.Op
		touched := map[int]bool{}
		for n := 2; n <= last; n++ {
			if r.IntN(3) > 0 {
				continue
			}
			op := table.Op{Kind: table.SetCells, Row: n}
			for col := 1; col < 5; col++ {
				if r.IntN(2) == 0 {
					value := []string{"", "7.25", "quay & <pier>", "2026-05-04", "000", "_x0041_"}[r.IntN(6)]
					op.Cells = append(op.Cells, table.Cell{Col: col, Value: record.Text(value)})
				}
			}
			if r.IntN(4) == 0 {
				op.Cells = append(op.Cells, table.Cell{Col: 12, Value: record.Text("new")})
			}
			ops = append(ops, op)
			touched[n] = true
		}
		forms, err := b.RowForms(touched)
		require.NoError(t, err)
		made := edited(t, data, ops)
		was, now := parts(t, data), parts(t, made)
		require.Equal(t, len(was), len(now))
		for name, part := range was {
			switch name {
			case ownPart:
				require.Equal(t, without(part, touched), without(now[name], touched), "book %d", seed)
			case "xl/workbook.xml":
				require.Equal(t, calc.ReplaceAllString(part, ""), calc.ReplaceAllString(now[name], ""))
				require.Contains(t, now[name], `fullCalcOnLoad="1"`)
			case "xl/sharedStrings.xml":
				head, _, _ := strings.Cut(part[strings.Index(part, "<si>"):], "</sst>")
				require.Contains(t, now[name], head)
			default:
				require.Equal(t, part, now[name], name)
			}
		}
		img, err := Open("r.xlsx", made, table.Options{})
		require.NoError(t, err)
		all := readAll(t, img, 5)
		for i := range ops {
			for _, c := range ops[i].Cells {
				if c.Col < 5 {
					require.Equal(t, c.Value.String(), all[ops[i].Row-2][c.Col], "book %d, row %d", seed, ops[i].Row)
				}
			}
		}
		// And back.
		img, err = Open("r.xlsx", data, table.Options{})
		require.NoError(t, err)
		before := readAll(t, img, 13)
		for i := range ops {
			ops[i].Form = forms[ops[i].Row]
			for j := range ops[i].Cells {
				c := &ops[i].Cells[j]
				c.Value = record.Text(before[ops[i].Row-2][c.Col])
			}
		}
		back := parts(t, edited(t, made, ops))
		require.Equal(t, spans.ReplaceAllString(was[ownPart], ""), spans.ReplaceAllString(back[ownPart], ""), "book %d", seed)
	}
}

var calc = regexp.MustCompile(`<calcPr[^>]*(/>|></calcPr>)`)

var spans = regexp.MustCompile(` spans="[^"]*"`)

// without is a sheet without some of its rows.
func without(sheet string, rows map[int]bool) string {
	for n := range rows {
		sheet = regexp.MustCompile(fmt.Sprintf(`<row r="%d"[ >].*?</row>`, n)).ReplaceAllString(sheet, "")
	}
	return sheet
}

// Rows that were taken out come back as they were: values, types, styles and formulas, in their places; and what stands around them
// is where it was, as far as it still pointed at something.
func TestRowsComeBackAsTheyWere(t *testing.T) {
	row := regexp.MustCompile(`<row .*?</row>`)
	for seed := range uint64(40) {
		data, last := anyBook(t, seed)
		r := rand.New(rand.NewPCG(seed, 3))
		var away, back []table.Op
		gone := map[int]bool{}
		for n := 3; n < last; n++ { // ranges that begin or end with a row do not with what comes back there
			if r.IntN(3) == 0 {
				gone[n] = true
				away = append(away, table.Op{Kind: table.RemoveRow, Row: n})
				back = append(back, table.Op{Kind: table.InsertRow})
			}
		}
		// Where a row goes back is behind the one that stayed before it, where that stands now.
		at := 0
		before := 0
		for n := 1; n <= last; n++ {
			if !gone[n] {
				before++
				continue
			}
			back[at].Row = before
			at++
		}
		b := load(t, data)
		forms, err := b.RowForms(gone)
		require.NoError(t, err)
		img, err := Open("r.xlsx", data, table.Options{})
		require.NoError(t, err)
		all := readAll(t, img, len(img.Heading))
		for i := range away {
			back[i].Form = forms[away[i].Row]
			for col, text := range all[away[i].Row-2] {
				back[i].Cells = append(back[i].Cells, table.Cell{Col: col, Value: record.Text(text)})
			}
		}
		again := edited(t, edited(t, data, away), back)
		was, now := row.FindAllString(parts(t, data)[ownPart], -1), row.FindAllString(parts(t, again)[ownPart], -1)
		require.Equal(t, len(was), len(now), "book %d", seed)
		for i := range was {
			// A formula that was shared is its own now, and what pointed at a row that went is #REF!.
			if strings.Contains(now[i], "#REF!") || strings.Contains(was[i], "shared") {
				continue
			}
			assert.Equal(t, html.UnescapeString(was[i]), html.UnescapeString(now[i]), "book %d", seed)
		}
		for i := range away {
			n := away[i].Row
			assert.Contains(t, forms[n], fmt.Sprintf(`r=\"%d\"`, n))
			k := load(t, data).readKept(forms[n])
			require.NotNil(t, k)
			assert.Contains(t, now, k.Row, "book %d, row %d", seed, n)
		}
	}
}

// A workbook that another program wrote anew since, with its texts in another order and other styles, gets the values back.
func TestRowsComeBackIntoAnotherBook(t *testing.T) {
	data, _ := anyBook(t, 1)
	forms, err := load(t, data).RowForms(map[int]bool{3: true})
	require.NoError(t, err)
	other, _ := anyBook(t, 7)
	img, err := Open("r.xlsx", data, table.Options{})
	require.NoError(t, err)
	op := table.Op{Kind: table.InsertRow, Row: 4, Form: forms[3]}
	want := readAll(t, img, 5)[1][:4]
	for col, text := range want {
		op.Cells = append(op.Cells, table.Cell{Col: col, Value: record.Text(text)})
	}
	img, err = Open("r.xlsx", edited(t, other, []table.Op{op}), table.Options{})
	require.NoError(t, err)
	assert.Equal(t, want, readAll(t, img, 5)[3][:4])
}

// What workbooks may look like: prefixes, strict forms, dates of 1904, no texts, rows and cells that say no place, texts marked as such.
func TestEditsOfBooksOfOtherPrograms(t *testing.T) {
	const shared = `<x:sst xmlns:x="n" count="2" uniqueCount="2"><x:si><x:t>k</x:t></x:si><x:si><x:t>v</x:t></x:si></x:sst>`
	for name, c := range map[string]struct{ sheet, texts, want string }{
		"prefixes": {`<x:worksheet xmlns:x="n"><x:sheetData><x:row r="1"><x:c r="A1" t="s"><x:v>0</x:v></x:c><x:c r="B1" t="s"><x:v>1</x:v></x:c></x:row><x:row r="2"><x:c r="A2"><x:v>1</x:v></x:c><x:c r="B2" t="s"><x:v>1</x:v></x:c></x:row></x:sheetData></x:worksheet>`, shared,
			`<x:row r="2"><x:c r="A2"><x:v>1</x:v></x:c><x:c r="B2" t="s"><x:v>2</x:v></x:c></x:row>`},
		"no texts, no places": {`<worksheet><sheetData><row><c t="inlineStr"><is><t>k</t></is></c><c t="inlineStr"><is><t>v</t></is></c></row><row><c><v>1</v></c><c t="str"><v>a</v></c></row></sheetData></worksheet>`, "",
			`<row><c><v>1</v></c><c t="str"><v>new &amp; old</v></c></row>`},
		"a cell that is missing": {`<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c><c r="B1" t="inlineStr"><is><t>v</t></is></c></row><row r="2" spans="1:1"><c r="A2"><v>1</v></c></row></sheetData></worksheet>`, "",
			`<row r="2"><c r="A2"><v>1</v></c><c r="B2" t="inlineStr"><is><t>new &amp; old</t></is></c></row>`},
		"an error, and marked text": {`<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t><![CDATA[k]]></t></is></c><c r="B1" t="inlineStr"><is><t>v</t></is></c></row><!-- </row> --><row r="2"><c r="A2" t="inlineStr"><is><t><![CDATA[</row>]]></t></is></c><c r='B2' t='e' vm="1"><v>#N/A</v></c></row></sheetData></worksheet>`, "",
			`<row r="2"><c r="A2" t="inlineStr"><is><t><![CDATA[</row>]]></t></is></c><c r='B2' t="inlineStr"><is><t>new &amp; old</t></is></c></row>`},
	} {
		t.Run(name, func(t *testing.T) {
			all := map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, "xl/worksheets/sheet1.xml": c.sheet}
			if c.texts != "" {
				all["xl/sharedStrings.xml"] = c.texts
			}
			data := zipped(t, all)
			made := edited(t, data, []table.Op{{Kind: table.SetCells, Row: 2, Cells: []table.Cell{{Col: 1, Value: record.Text("new & old")}}}})
			assert.Contains(t, parts(t, made)["xl/worksheets/sheet1.xml"], c.want)
			img, err := Open("r.xlsx", made, table.Options{})
			require.NoError(t, err)
			assert.Equal(t, "new & old", rows(t, img)[0][1])
			made = edited(t, data, []table.Op{{Kind: table.RemoveRow, Row: 2}, {Kind: table.InsertRow, Row: 2, Cells: []table.Cell{{Col: 0, Value: record.Text("9")}, {Col: 1, Value: record.Text("z")}}}})
			img, err = Open("r.xlsx", made, table.Options{})
			require.NoError(t, err)
			assert.Equal(t, [][]string{{"9", "z"}}, rows(t, img))
		})
	}
}

// Whatever the sheet's part is, an edit fails or does what was asked; it never panics, and loses no row.
func FuzzEdit(f *testing.F) {
	for _, rows := range []string{`<row r="2"><c r="A2"><v>1</v></c><c r="B2" t="s"><v>0</v></c></row>`, `<row><c><f t="shared" si="0" ref="A1:A9">B1</f></c></row><row/><row r="5"><c t="inlineStr"><is><t>x</t></is></c></row>`,
		`<row r="2"><c r="B2"><f t="array" ref="B2:B4">A1</f><v/></c></row><row r="3" spans="1:2"/>`, `<x:row r="3"><c r='A3'/></x:row>`, `<row r="1048576"><c><v>1</v></c></row>`} {
		f.Add(rows, `<mergeCells count="1"><mergeCell ref="A2:A3"/></mergeCells><dataValidations><dataValidation sqref="B2"><formula1>$A$2</formula1></dataValidation></dataValidations>`, byte(3))
	}
	f.Fuzz(func(t *testing.T, rows, beside string, which byte) {
		data := zipped(t, map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, "xl/sharedStrings.xml": `<sst><si><t>a</t></si></sst>`,
			"xl/worksheets/sheet1.xml": `<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c></row>` + rows + `</sheetData>` + beside + `</worksheet>`})
		before, err := Open("r.xlsx", data, table.Options{})
		if err != nil {
			return
		}
		b := load(t, data)
		ops := []table.Op{{Kind: table.OpKind(which % 5), Row: 2 + int(which/5)%3, Cells: []table.Cell{{Col: int(which/15) % 3, Value: record.Text("new")}}}}
		if ops[0].Kind == table.FillRow {
			ops[0].Row = 1000
		}
		if refused, err := b.Refuse(ops); err != nil || len(refused) > 0 {
			return
		}
		var out bytes.Buffer
		if b.Edit(1, ops, &out) != nil {
			return
		}
		after, err := Open("r.xlsx", out.Bytes(), table.Options{})
		if err != nil && ops[0].Kind != table.RemoveRow && ops[0].Kind != table.EmptyRow { // which may have been the only record
			t.Fatalf("%v: %s", err, sheetOf(out.Bytes()))
		}
		if err == nil && ops[0].Kind == table.SetCells {
			if was, is := bytes.Count(before.Data, []byte("\n")), bytes.Count(after.Data, []byte("\n")); is < was {
				t.Fatalf("%d rows became %d", was, is)
			}
		}
	})
}

// sheetOf is an archive's sheet, for a message.
func sheetOf(data []byte) string {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return err.Error()
	}
	r, err := z.Open(ownPart)
	if err != nil {
		return err.Error()
	}
	b, _ := io.ReadAll(r)
	return string(b)
}

// Formulas that cells share follow their rows: where one row is gone, those that pointed at it have formulas of their own, as the one
// whose formula it was.
func TestRowsMoveWithSharedFormulas(t *testing.T) {
	const sheet = `<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c></row>` +
		`<row r="2"><c r="A2"><v>1</v></c><c r="B2"><f t="shared" ref="B2:B5" si="0">A2+A1</f><v>1</v></c></row>` +
		`<row r="3"><c r="A3"><v>2</v></c><c r="B3"><f t="shared" si="0"/><v>1</v></c></row>` +
		`<row r="4"><c r="A4"><v>3</v></c><c r="B4"><f t="shared" si="0"/><v>1</v></c></row>` +
		`<row r="5"><c r="A5"><v>4</v></c><c r="B5"><f t="shared" si="0"/><v>1</v></c></row></sheetData></worksheet>`
	data := zipped(t, map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, ownPart: sheet})
	now := sheetOf(edited(t, data, []table.Op{{Kind: table.RemoveRow, Row: 3}}))
	assert.Contains(t, now, `<c r="B2"><f t="shared" ref="B2:B4" si="0">A2+A1</f>`)
	assert.Contains(t, now, `<c r="B3"><f>A3+#REF!</f>`)
	assert.Contains(t, now, `<c r="B4"><f t="shared" si="0"/>`)
	now = sheetOf(edited(t, data, []table.Op{{Kind: table.RemoveRow, Row: 2}}))
	assert.Contains(t, now, `<c r="B2"><f>A2+#REF!</f>`)
	assert.Contains(t, now, `<c r="B3"><f>A3+A2</f>`)
	now = sheetOf(edited(t, data, []table.Op{{Kind: table.EmptyRow, Row: 2}}))
	assert.Contains(t, now, `<row r="2"><c r="A2"/><c r="B2"/></row>`)
	assert.Contains(t, now, `<c r="B3"><f>A3+A2</f>`)
}

// back is a row that was kept of one workbook, and comes back into another.
func back(t *testing.T, from, to map[string]string) string {
	forms, err := load(t, zipped(t, from)).RowForms(map[int]bool{2: true})
	require.NoError(t, err)
	return sheetOf(edited(t, zipped(t, to), []table.Op{{Kind: table.InsertRow, Row: 2, Form: forms[2], Cells: []table.Cell{{Col: 0, Value: record.Text("b")}}}}))
}

func styled(texts, styles string) map[string]string {
	return map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, "xl/sharedStrings.xml": "<sst>" + texts + "</sst>", "xl/styles.xml": styles,
		ownPart: `<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c></row><row r="2"><c r="A2" s="1" t="s"><v>1</v></c></row></sheetData></worksheet>`}
}

func TestTextsThatWereNumberedAnew(t *testing.T) {
	now := back(t, styled(`<si><t>a</t></si><si><t>b</t></si>`, "<x/>"), styled(`<si><t>b</t></si><si><t>c</t></si>`, "<x/>"))
	assert.Contains(t, now, `<row r="3"><c r="A3" s="1" t="s"><v>2</v></c></row>`, "behind the two that are there")
	now = back(t, styled(`<si><t>a</t></si><si><t>b</t></si>`, "<x/>"), styled(`<si><t>c</t></si><si><t>b</t></si>`, "<x/>"))
	assert.Contains(t, now, `<row r="3"><c r="A3" s="1" t="s"><v>1</v></c></row>`)
}

func TestStylesOfAnotherBook(t *testing.T) {
	other := styled(`<si><t>a</t></si><si><t>b</t></si>`, "<y/>")
	other[ownPart] = strings.Replace(other[ownPart], `s="1"`, `s="7"`, 1)
	assert.Contains(t, back(t, styled(`<si><t>a</t></si><si><t>b</t></si>`, "<x/>"), other), `<row r="3"><c r="A3" s="7" t="s">`, "as the other cells of its column")
}

// Dates of a workbook that counts from 1904 stay dates, and so do those of the strict form, which are written as they read.
func TestDatesStayDates(t *testing.T) {
	const sheet = `<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c></row><row r="2"><c r="A2" s="1"><v>1</v></c><c r="B2" s="1" t="d"><v>2026-05-04</v></c></row></sheetData></worksheet>`
	data := zipped(t, map[string]string{"xl/workbook.xml": `<workbook xmlns:r="r"><workbookPr date1904="1"/><sheets><sheet name="A" r:id="r1"/></sheets></workbook>`, "xl/_rels/workbook.xml.rels": relsXML,
		"xl/styles.xml": `<styleSheet><cellXfs><xf numFmtId="0"/><xf numFmtId="14"/></cellXfs></styleSheet>`, ownPart: sheet})
	made := edited(t, data, []table.Op{{Kind: table.SetCells, Row: 2, Cells: []table.Cell{{Col: 0, Value: record.Text("2026-12-24")}, {Col: 1, Value: record.Text("24/12/2026"), Other: "2026-12-24"}}}})
	assert.Contains(t, sheetOf(made), `<c r="A2" s="1"><v>44918</v></c><c r="B2" s="1" t="d"><v>2026-12-24</v></c>`)
	img, err := Open("r.xlsx", made, table.Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"2026-12-24", "2026-12-24"}, rows(t, img)[0])
}
