package ods

import (
	"archive/zip"
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/record"
	"paletwin/core/table"
)

// content is a document's content.
func content(t testing.TB, data []byte) string {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	r, err := z.Open("content.xml")
	require.NoError(t, err)
	b, err := io.ReadAll(r)
	require.NoError(t, err)
	return string(b)
}

const sheetRows = start + `<table:table table:name="Aids"><table:table-row><table:table-cell office:value-type="string"><text:p>k</text:p></table:table-cell><table:table-cell office:value-type="string"><text:p>v</text:p></table:table-cell><table:table-cell office:value-type="string"><text:p>w</text:p></table:table-cell></table:table-row>` +
	`<table:table-row table:style-name="ro1"><table:table-cell office:value-type="float" office:value="1"><text:p>1</text:p></table:table-cell><table:table-cell table:style-name="ce1" table:number-columns-repeated="2" office:value-type="float" office:value="2.5"><text:p>2.50</text:p></table:table-cell></table:table-row>` +
	`<table:table-row><table:table-cell office:value-type="float" office:value="2"><text:p>2</text:p></table:table-cell><table:table-cell office:value-type="date" office:date-value="2026-05-04"><office:annotation><text:p>ask</text:p></office:annotation><text:p>4.5.</text:p></table:table-cell></table:table-row>` +
	`<table:table-row table:number-rows-repeated="1048573"><table:table-cell table:number-columns-repeated="16384"/></table:table-row></table:table></office:spreadsheet></office:body></office:document-content>`

func edited(t testing.TB, data []byte, ops ...table.Op) []byte {
	b, err := Load("r.ods", data, table.Options{Sheet: "Aids"})
	require.NoError(t, err)
	refused, err := b.Refuse(ops)
	require.NoError(t, err)
	require.Empty(t, refused)
	var out bytes.Buffer
	require.NoError(t, b.Edit(1, ops, &out))
	return out.Bytes()
}

func sets(row int, values map[int]string) table.Op {
	op := table.Op{Kind: table.SetCells, Row: row}
	for col, v := range values {
		op.Cells = append(op.Cells, table.Cell{Col: col, Value: record.Text(v)})
	}
	return op
}

// One of cells that repeat is taken out of them; types, formats and comments stay; and all of it goes back to the letter.
func TestCellsThatRepeat(t *testing.T) {
	data := zipped(t, sheetRows)
	b, err := Load("r.ods", data, table.Options{Sheet: "Aids"})
	require.NoError(t, err)
	forms, err := b.RowForms(map[int]bool{2: true, 3: true})
	require.NoError(t, err)
	now := edited(t, data, sets(2, map[int]string{2: "7.25"}), sets(3, map[int]string{1: "2026-12-24", 2: "  a\tb "}))
	text := content(t, now)
	assert.Contains(t, text, `<table:table-cell table:style-name="ce1" office:value-type="float" office:value="2.5"><text:p>2.50</text:p></table:table-cell><table:table-cell table:style-name="ce1" office:value-type="float" office:value="7.25"><text:p>7.25</text:p></table:table-cell>`)
	assert.Contains(t, text, `<table:table-cell office:value-type="date" office:date-value="2026-12-24"><office:annotation><text:p>ask</text:p></office:annotation><text:p>2026-12-24</text:p></table:table-cell>`)
	assert.Contains(t, text, `<text:p><text:s text:c="2"/>a<text:tab/>b<text:s text:c="1"/></text:p>`)
	one, other := sets(2, map[int]string{2: "2.5"}), sets(3, map[int]string{1: "2026-05-04", 2: ""})
	one.Form, other.Form = forms[2], forms[3]
	img, err := Open("r.ods", edited(t, now, one, other), table.Options{})
	require.NoError(t, err)
	was, err := Open("r.ods", data, table.Options{})
	require.NoError(t, err)
	assert.Equal(t, string(was.Data), string(img.Data))
	img, err = Open("r.ods", edited(t, data, sets(2, map[int]string{1: "7.25"})), table.Options{})
	require.NoError(t, err)
	assert.Contains(t, string(img.Data), "\n1,7.25,2.5\n")
}

// A sheet that is full of rows, as programs write them, has as many afterwards.
func TestRowsBelowTheLast(t *testing.T) {
	text := content(t, edited(t, zipped(t, sheetRows), table.Op{Kind: table.InsertRow, Row: 3, Cells: []table.Cell{{Col: 0, Value: record.Text("3")}}}))
	assert.Contains(t, text, `table:number-rows-repeated="1048572"`)
	text = content(t, edited(t, zipped(t, sheetRows), table.Op{Kind: table.RemoveRow, Row: 2}))
	assert.Contains(t, text, `table:number-rows-repeated="1048573"`)
	b, err := Load("r.ods", zipped(t, sheetRows), table.Options{Sheet: "Aids"})
	require.NoError(t, err)
	refused, err := b.Refuse([]table.Op{sets(3, map[int]string{1: "a\x01"})})
	require.NoError(t, err)
	assert.Contains(t, refused[0], "U+0001")
}

// Whatever the content is, an edit fails or does what was asked; it never panics.
func FuzzEdit(f *testing.F) {
	f.Add(sheetRows, byte(3))
	f.Add(start+`<table:table table:name="Aids"><table:table-header-rows><table:table-row><table:table-cell><text:p>k</text:p></table:table-cell></table:table-row></table:table-header-rows><table:table-row table:number-rows-repeated="3"><table:table-cell table:formula="of:=[.A1]" office:value-type="string"><text:p>k</text:p></table:table-cell></table:table-row></table:table>`, byte(9))
	f.Fuzz(func(t *testing.T, text string, which byte) {
		data := zipped(t, text)
		before, err := Open("r.ods", data, table.Options{})
		if err != nil {
			return
		}
		b, err := Load("r.ods", data, table.Options{Sheet: before.Found.Sheet})
		if err != nil {
			return
		}
		op := sets(2+int(which/5)%3, map[int]string{int(which/15) % 3: "new"})
		op.Kind = table.OpKind(which % 5)
		if refused, err := b.Refuse([]table.Op{op}); err != nil || len(refused) > 0 {
			return
		}
		var out bytes.Buffer
		if b.Edit(1, []table.Op{op}, &out) != nil {
			return
		}
		if after, err := Open("r.ods", out.Bytes(), table.Options{}); err == nil && op.Kind == table.SetCells {
			if was, is := bytes.Count(before.Data, []byte("\n")), bytes.Count(after.Data, []byte("\n")); is < was {
				t.Fatalf("%d rows became %d", was, is)
			}
		}
	})
}
