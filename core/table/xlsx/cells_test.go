package xlsx

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
	"paletwin/core/table"
)

// A cell that is read at a glance is what it is element by element.
func TestCellsAtAGlance(t *testing.T) {
	pieces := []string{`<c r="A7" s="3" t="s"><v>12</v></c>`, `<c><v>2.5</v></c>`, `<c/>`, `<c r="C7"/>`, `<c r="D7" s="1"></c>`, `<c t="inlineStr"><is><t>a _x000D_ b</t></is></c>`,
		`<c t="inlineStr"><is><t xml:space="preserve"> a </t></is></c>`, `<c t="str"><f>A1&amp;B1</f><v>x &lt; y</v></c>`, `<c cm="1" vm='2'><v>1</v></c>`, `<c s="99999999999"><v>1E5</v></c>`, ` `, `<!-- <c><v>1</v></c> -->`,
		`<c t="e"><v>#N/A</v></c>`, `<c t="inlineStr"><is><r><t>rich</t></r><rPh><t>no</t></rPh></is></c>`, `<c><v><![CDATA[7]]></v></c>`, `<c  r="Z7"  ><v>1</v></c >`, `<extLst><c><v>0</v></c></extLst>`, `<c t="b"><v>1</v><extLst/></c>`, `<col/>`}
	rapid.Check(t, func(t *rapid.T) {
		row := []byte(strings.Join(rapid.SliceOfN(rapid.SampledFrom(pieces), 0, 6).Draw(t, "cells"), "") + `</row>`)
		read := func(next func(*cells, *cell) (bool, error)) (all []cell, failed bool) {
			var walk cells
			walk.over(7, nil, row)
			for {
				var c cell
				more, err := next(&walk, &c)
				if err != nil || !more {
					return all, err != nil
				}
				all = append(all, c)
			}
		}
		glance, failed := read((*cells).next)
		slow, failedToo := read(func(walk *cells, to *cell) (bool, error) {
			for walk.at < len(row) && !strings.HasPrefix(string(row[walk.at:]), "</row>") {
				if is, err := walk.slow(to); is || err != nil {
					return err == nil, err
				}
			}
			return false, nil
		})
		require.Equal(t, failedToo, failed, "%s", row)
		if !failed {
			require.Equal(t, slow, glance, "%s", row)
		}
	})
}

// An anchor of a control has a row, too, which is none of the sheet, the last one that a sheet can have before it.
func TestRowsOfAnchors(t *testing.T) {
	data := zipped(t, map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, ownPart: `<worksheet><sheetData><row r="1"><c t="inlineStr"><is><t>k</t></is></c></row><row r="1048576"><c><v>7</v></c></row></sheetData>` +
		`<controls><control><anchor><from><xdr:row>5</xdr:row></from></anchor></control></controls></worksheet>`})
	img, err := Open("r.xlsx", data, table.Options{})
	require.NoError(t, err)
	require.Equal(t, 1_048_576, bytes.Count(img.Data, []byte("\n")))
	now := sheetOf(edited(t, data, []table.Op{{Kind: table.SetCells, Row: 1_048_576, Cells: []table.Cell{{Col: 0, Value: record.Text("8")}}}}))
	require.Contains(t, now, `<c><v>8</v></c>`)
}
