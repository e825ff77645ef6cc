package xlsx

import (
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"paletwin/core/record"
	"paletwin/core/table"
)

// aroundRows are the parts of a workbook with a sheet of five records, whose third row goes, and one is put in behind the last.
func aroundRows(t *testing.T, beside string, more map[string]string) map[string]string {
	const ns = `xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"`
	all := map[string]string{"xl/workbook.xml": workbookXML, "xl/_rels/workbook.xml.rels": relsXML, ownPart: `<worksheet ` + ns + `><sheetData>` +
		`<row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c></row><row r="2"><c r="A2"><v>1</v></c></row><row r="3"><c r="A3"><v>2</v></c></row>` +
		`<row r="4"><c r="A4"><v>3</v></c></row><row r="5"><c r="A5"><v>4</v></c></row></sheetData>` + beside + `</worksheet>`}
	maps.Copy(all, more)
	return parts(t, edited(t, zipped(t, all), []table.Op{{Kind: table.RemoveRow, Row: 3}, {Kind: table.InsertRow, Row: 5, Cells: []table.Cell{{Col: 0, Value: record.Text("9")}}}}))
}

func related(of string, targets map[string]string) string {
	rels := `<Relationships>`
	for target, typ := range targets {
		rels += `<Relationship Id="r" Type="http://x/` + typ + `" Target="` + target + `"/>`
	}
	return rels + `</Relationships>`
}

// What stands beside the rows of a sheet goes with them, and a list of which nothing is left goes as a whole.
func TestWhatStandsBesideRowsMoves(t *testing.T) {
	for was, now := range map[string]string{
		`<mergeCells count="2"><mergeCell ref="C2:C3"/><mergeCell ref="D3:D5"/></mergeCells>`:                                                                                                                                            `<mergeCells count="1"><mergeCell ref="D3:D4"/></mergeCells>`,
		`<mergeCells count="1"><mergeCell ref="C3:D3"/></mergeCells>`:                                                                                                                                                                    ``,
		`<autoFilter ref="A1:A5"><sortState ref="A2:A5"><sortCondition ref="A2:A5"/></sortState></autoFilter>`:                                                                                                                           `<autoFilter ref="A1:A5"><sortState ref="A2:A4"><sortCondition ref="A2:A4"/></sortState></autoFilter>`,
		`<rowBreaks count="2" manualBreakCount="2"><brk id="3" max="9" man="1"/><brk id="4" max="9" man="1"/></rowBreaks>`:                                                                                                               `<rowBreaks count="1" manualBreakCount="2"><brk id="3" max="9" man="1"/></rowBreaks>`,
		`<ignoredErrors><ignoredError sqref="A3 B4:B5" numberStoredAsText="1"/></ignoredErrors>`:                                                                                                                                         `<ignoredErrors><ignoredError sqref="B3:B4" numberStoredAsText="1"/></ignoredErrors>`,
		`<protectedRanges><protectedRange sqref="A3" name="x"/></protectedRanges>`:                                                                                                                                                       ``,
		`<hyperlinks><hyperlink ref="A4" r:id="r1"/></hyperlinks>`:                                                                                                                                                                       `<hyperlinks><hyperlink ref="A3" r:id="r1"/></hyperlinks>`,
		`<conditionalFormatting sqref="B4:B5"><cfRule type="expression"><formula>B4&gt;B$3</formula></cfRule></conditionalFormatting>`:                                                                                                   `<conditionalFormatting sqref="B3:B4"><cfRule type="expression"><formula>B3&gt;#REF!</formula></cfRule></conditionalFormatting>`,
		`<conditionalFormatting sqref="B3:B5"><cfRule type="expression"><formula>LEN(B3)&gt;3</formula></cfRule></conditionalFormatting>`:                                                                                                `<conditionalFormatting sqref="B3:B4"><cfRule type="expression"><formula>LEN(B3)&gt;3</formula></cfRule></conditionalFormatting>`,
		`<conditionalFormatting sqref="B5"><cfRule type="dataBar"><dataBar><cfvo type="formula" val="$B$4"/></dataBar></cfRule></conditionalFormatting>`:                                                                                 `<conditionalFormatting sqref="B4"><cfRule type="dataBar"><dataBar><cfvo type="formula" val="$B$3"/></dataBar></cfRule></conditionalFormatting>`,
		`<dataValidations count="2"><dataValidation sqref="B3"/><dataValidation sqref="B4"><formula1>B4</formula1></dataValidation></dataValidations>`:                                                                                   `<dataValidations count="1"><dataValidation sqref="B3"><formula1>B3</formula1></dataValidation></dataValidations>`,
		`<extLst><ext><x14:dataValidations count="1"><x14:dataValidation><x14:formula1><xm:f>Other!$A$3</xm:f></x14:formula1><xm:sqref>B3:B4</xm:sqref></x14:dataValidation></x14:dataValidations></ext></extLst>`:                       `<extLst><ext><x14:dataValidations count="1"><x14:dataValidation><x14:formula1><xm:f>Other!$A$3</xm:f></x14:formula1><xm:sqref>B3:B3</xm:sqref></x14:dataValidation></x14:dataValidations></ext></extLst>`,
		`<extLst><ext><x14:sparklineGroups><x14:sparklineGroup><x14:sparklines><x14:sparkline><xm:f>Aids!A3:D3</xm:f><xm:sqref>E3</xm:sqref></x14:sparkline></x14:sparklines></x14:sparklineGroup></x14:sparklineGroups></ext></extLst>`: `<extLst><ext></ext></extLst>`,
		`<controls><control><controlPr><anchor><from><xdr:col>1</xdr:col><xdr:row>3</xdr:row></from></anchor></controlPr></control></controls>`:                                                                                          `<controls><control><controlPr><anchor><from><xdr:col>1</xdr:col><xdr:row>2</xdr:row></from></anchor></controlPr></control></controls>`,
		`<pageMargins left="0.7" right="0.7"/>`: `<pageMargins left="0.7" right="0.7"/>`,
	} {
		_, got, _ := strings.Cut(aroundRows(t, was, nil)[ownPart], `</sheetData>`)
		assert.Equal(t, now, strings.TrimSuffix(got, `</worksheet>`), was)
	}
}

// So does what belongs to a sheet in parts of its own.
func TestPartsOfASheetMove(t *testing.T) {
	own := func(part, typ string) map[string]string {
		return map[string]string{"xl/worksheets/_rels/sheet1.xml.rels": related(ownPart, map[string]string{"../" + part: typ})}
	}
	for typ, c := range map[string]struct{ part, was, now string }{
		"table": {"tables/table1.xml", `<table ref="A1:B5" displayName="aids"><autoFilter ref="A1:B5"/><tableColumns count="1"><tableColumn id="1"><calculatedColumnFormula>A3*2</calculatedColumnFormula></tableColumn></tableColumns></table>`,
			`<table ref="A1:B5" displayName="aids"><autoFilter ref="A1:B5"/><tableColumns count="1"><tableColumn id="1"><calculatedColumnFormula>#REF!*2</calculatedColumnFormula></tableColumn></tableColumns></table>`},
		"comments":        {"comments1.xml", `<comments><commentList><comment ref="A3"/><comment ref="A4"/></commentList></comments>`, `<comments><commentList><comment ref="A3"/></commentList></comments>`},
		"threadedComment": {"threadedComments/t1.xml", `<ThreadedComments><threadedComment ref="A5"/><threadedComment ref="A3"/></ThreadedComments>`, `<ThreadedComments><threadedComment ref="A4"/></ThreadedComments>`},
		"vmlDrawing": {"drawings/v.vml", `<xml><v:shape><v:textbox><div>a<br></div></v:textbox><x:ClientData ObjectType="Note"><x:Anchor>1, 15, 3, 2, 3, 15, 6, 4</x:Anchor><x:Row>3</x:Row></x:ClientData></v:shape><v:shape><x:ClientData><x:Row>2</x:Row></x:ClientData></v:shape></xml>`,
			`<xml><v:shape><v:textbox><div>a<br></div></v:textbox><x:ClientData ObjectType="Note"><x:Anchor>1, 15, 2, 2, 3, 15, 6, 4</x:Anchor><x:Row>2</x:Row></x:ClientData></v:shape></xml>`},
		"drawing": {"drawings/d.xml", `<xdr:wsDr><xdr:twoCellAnchor><xdr:from><xdr:row>3</xdr:row></xdr:from><xdr:to><xdr:row>9</xdr:row></xdr:to></xdr:twoCellAnchor><xdr:twoCellAnchor editAs="absolute"><xdr:from><xdr:row>3</xdr:row></xdr:from></xdr:twoCellAnchor></xdr:wsDr>`,
			`<xdr:wsDr><xdr:twoCellAnchor><xdr:from><xdr:row>2</xdr:row></xdr:from><xdr:to><xdr:row>9</xdr:row></xdr:to></xdr:twoCellAnchor><xdr:twoCellAnchor editAs="absolute"><xdr:from><xdr:row>3</xdr:row></xdr:from></xdr:twoCellAnchor></xdr:wsDr>`},
		"pivotTable": {"pivotTables/p.xml", `<pivotTableDefinition><location ref="H4:I9"/></pivotTableDefinition>`, `<pivotTableDefinition><location ref="H3:I9"/></pivotTableDefinition>`},
	} {
		more := own(c.part, typ)
		more["xl/"+c.part] = c.was
		assert.Equal(t, c.now, aroundRows(t, "", more)["xl/"+c.part], typ)
	}
}

// The calculation chain goes where rows move, with what names it; a pivot table of the sheet is computed anew whatever is written.
func TestWhatIsComputedAnew(t *testing.T) {
	rels := `<Relationships><Relationship Id="r1" Type="http://x/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="rId9" Type="http://x/calcChain" Target="calcChain.xml"/>` +
		`<Relationship Id="rId8" Type="http://x/pivotCacheDefinition" Target="pivotCache/p1.xml"/></Relationships>`
	got := aroundRows(t, "", map[string]string{"xl/_rels/workbook.xml.rels": rels, "xl/calcChain.xml": `<calcChain><c r="A3" i="1"/></calcChain>`,
		"[Content_Types].xml":  `<Types><Override PartName="/xl/calcChain.xml" ContentType="x"/><Override PartName="/xl/workbook.xml" ContentType="y"/></Types>`,
		"xl/pivotCache/p1.xml": `<pivotCacheDefinition r:id="r"><cacheSource type="worksheet"><worksheetSource ref="A1:A5" sheet="a"/></cacheSource></pivotCacheDefinition>`})
	assert.NotContains(t, got, "xl/calcChain.xml")
	assert.Equal(t, `<Types><Override PartName="/xl/workbook.xml" ContentType="y"/></Types>`, got["[Content_Types].xml"])
	assert.NotContains(t, got["xl/_rels/workbook.xml.rels"], "calcChain")
	assert.Contains(t, got["xl/workbook.xml"], `fullCalcOnLoad="1"`)
	assert.Contains(t, got["xl/pivotCache/p1.xml"], `refreshOnLoad="1"`)
	assert.Contains(t, got["xl/pivotCache/p1.xml"], `ref="A1:A4"`)
}
