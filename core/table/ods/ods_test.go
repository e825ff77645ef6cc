package ods

import (
	"archive/zip"
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/table"
)

func zipped(t testing.TB, content string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create("content.xml")
	require.NoError(t, err)
	_, err = w.Write([]byte(content))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.Bytes()
}

const start = `<office:document-content><office:body><office:spreadsheet>`

func TestCells(t *testing.T) {
	content := start + `<table:table table:name="Aids"><table:table-column table:number-columns-repeated="16384"/>
<table:table-header-rows><table:table-row><table:table-cell office:value-type="string"><text:p>aid_no</text:p></table:table-cell><table:table-cell office:value-type="string"><text:p>v</text:p></table:table-cell></table:table-row></table:table-header-rows>
<table:table-row table:number-rows-repeated="2"><table:table-cell table:number-columns-repeated="2"/></table:table-row>
<table:table-row table:number-rows-repeated="2"><table:table-cell office:value-type="float" office:value="29.70"><text:p>29,70 shown</text:p></table:table-cell><table:table-cell office:value-type="date" office:date-value="1887-06-04"><text:p>4.6.87</text:p></table:table-cell></table:table-row>
<table:table-row table:visibility="filter"><table:table-cell office:value-type="string"><text:p>a<text:s text:c="3"/>b<text:tab/>c</text:p><text:p>line &amp; two</text:p><office:annotation><text:p>a note</text:p></office:annotation></table:table-cell><table:table-cell office:value-type="time" office:time-value="PT07H05M09.5000S"/></table:table-row>
<table:table-row><table:table-cell office:value-type="boolean" office:boolean-value="true"/><table:table-cell table:formula="of:=1+1" office:value-type="float" office:value="2"/></table:table-row>
<table:table-row table:number-rows-repeated="1048560"><table:table-cell table:number-columns-repeated="16384"/></table:table-row>
</table:table><table:table table:name="Depots"/></office:spreadsheet></office:body></office:document-content>`
	m, err := Open("t.ods", zipped(t, content), table.Options{})
	require.NoError(t, err)
	assert.Equal(t, "aid_no,v\n\n\n29.70,1887-06-04\n29.70,1887-06-04\n\"a   b\tc\nline & two\",07:05:09.5\ntrue,2\n", string(m.Data))
	assert.Equal(t, "Aids", m.Found.Sheet)
	var codes []string
	for _, n := range m.Notes {
		codes = append(codes, n.Code)
	}
	assert.Equal(t, []string{"other-sheets", "hidden", "formula-cells"}, codes)
	_, err = Open("t.ods", zipped(t, content), table.Options{Sheet: "Staff"})
	assert.ErrorContains(t, err, `no sheet "Staff"; it has Aids, Depots`)
}

// A few bytes that say that they repeat a thousand million times are not
// believed beyond a sheet's size.
func TestRepeatsAreBounded(t *testing.T) {
	content := start + `<table:table table:name="A"><table:table-row><table:table-cell office:value-type="string" table:number-columns-repeated="999999999"><text:p>x</text:p></table:table-cell></table:table-row></table:table>`
	m, err := Open("t.ods", zipped(t, content+`</office:spreadsheet></office:body></office:document-content>`), table.Options{HeadingRow: 1})
	require.NoError(t, err)
	assert.Len(t, m.Heading, maxColumns)
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte(start + `<table:table><table:table-row table:number-rows-repeated="3"><table:table-cell office:value-type="string"><text:p>a<text:s/></text:p></table:table-cell></table:table-row></table:table>`))
	f.Fuzz(func(t *testing.T, content []byte) {
		if bytes.Contains(content, []byte("repeated")) && len(content) > 2000 {
			return
		}
		_, err := Open("f.ods", zipped(t, string(content)), table.Options{})
		if err != nil {
			var e *table.Error
			require.ErrorAs(t, err, &e)
		}
	})
}
