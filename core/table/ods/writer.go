package ods

import (
	"archive/zip"
	"bufio"
	"bytes"
	_ "embed"
	"encoding/xml"
	"fmt"
	"hash/crc32"
	"io"
	"strconv"
	"strings"

	"paletwin/core/record"
	"paletwin/core/table/document"
	"paletwin/core/table/refs"
	"paletwin/core/table/xmlscan"
)

// NewWriter returns a writer of an OpenDocument spreadsheet (1.3) to w.
func NewWriter(w io.Writer) *document.Writer { return document.New(&writer{w: w}) }

// writer is the form of OpenDocument spreadsheets: the content is written as the rows come.
type writer struct {
	w     io.Writer
	d     *document.Writer
	z     *zip.Writer
	out   *bufio.Writer // of the content
	heads [][]byte      // of each column the start of a filled cell's tag
	cell  []byte
}

const mediaType = "application/vnd.oasis.opendocument.spreadsheet"

//go:embed parts/styles.xml
var stylesXML string

//go:embed parts/manifest.xml
var manifestXML string

// contentHead has the styles that all contents have.
//
//go:embed parts/content-head.xml
var contentHead string

func (w *writer) Unwritable(text string) string { return document.Unwritable(text) }

func (w *writer) Begin(d *document.Writer) error {
	w.d, w.z = d, zip.NewWriter(w.w)
	h := &zip.FileHeader{Name: "mimetype", Method: zip.Store, CRC32: crc32.ChecksumIEEE([]byte(mediaType)), CompressedSize64: uint64(len(mediaType)), UncompressedSize64: uint64(len(mediaType))}
	mime, err := w.z.CreateRaw(h) // the first, stored, its size before it: so files are told by their first bytes
	if err != nil {
		return err
	}
	if _, err := io.WriteString(mime, mediaType); err != nil {
		return err
	}
	content, err := w.z.Create("content.xml")
	if err != nil {
		return err
	}
	w.out = bufio.NewWriterSize(content, 1<<16)
	_, _ = w.out.WriteString(contentHead)
	for i := range d.Wide {
		w.print(`<style:style style:name="w%d" style:family="table-column"><style:table-column-properties style:column-width="%.2fcm"/></style:style>`, i, float64(d.Width(i))*0.21)
		if c := d.Column(i); c.Kind == document.AsNumber {
			w.numbers(i, c)
		}
	}
	w.print(`</office:automatic-styles><office:body><office:spreadsheet>`)
	w.choices()
	w.print(`<table:table table:name="%s" table:style-name="shown"`, attr(d.Sheet))
	if d.Protected() {
		w.print(` table:protected="true"><loext:table-protection loext:select-protected-cells="true" loext:select-unprotected-cells="true" loext:insert-rows="true" loext:delete-rows="true"/`)
	}
	w.print(`>`)
	for i := range d.Wide {
		w.print(`<table:table-column table:style-name="w%d" table:default-cell-style-name="%s"/>`, i, w.style(i))
		head := `<table:table-cell`
		if c := d.Column(i); c.Locked && c.Kind == document.AsText { // only the cells that are there are locked, not those below
			head += ` table:style-name="locked"`
		}
		w.heads = append(w.heads, []byte(head+w.choice(i)))
	}
	return nil
}

// print writes markup. Errors stay with the buffer until it is flushed.
func (w *writer) print(format string, args ...any) {
	_, _ = fmt.Fprintf(w.out, format, args...)
}

// attr is a text as it stands in an attribute.
func attr(text string) string {
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(text)) // into memory
	return b.String()
}

// numbers writes the style of a column of numbers.
func (w *writer) numbers(i int, c document.Column) {
	parent := "open"
	if c.Locked {
		parent = "locked"
	}
	if c.Decimals < 0 {
		w.print(`<number:number-style style:name="f%d"><number:number number:min-integer-digits="1"/></number:number-style>`, i)
	} else {
		w.print(`<number:number-style style:name="f%d"><number:number number:decimal-places="%d" number:min-decimal-places="%d" number:min-integer-digits="1"/></number:number-style>`, i, c.Decimals, c.Decimals)
	}
	w.print(`<style:style style:name="n%d" style:family="table-cell" style:parent-style-name="Default" style:data-style-name="f%d">%s</style:style>`, i, i, properties[parent])
}

// properties are those of cells that may be edited, and of those that may not.
var properties = map[string]string{
	"open":   `<style:table-cell-properties style:cell-protect="none"/><style:text-properties fo:color="#000000"/>`,
	"locked": `<style:table-cell-properties style:cell-protect="protected" fo:background-color="#f4f4f4"/><style:text-properties fo:color="#707070"/>`,
}

// style is that of a column, which cells that come have.
func (w *writer) style(col int) string {
	if w.d.Column(col).Kind == document.AsNumber {
		return "n" + strconv.Itoa(col)
	}
	return "open"
}

// chosen reports whether the values of a column are chosen.
func (w *writer) chosen(col int) bool { return w.d.Column(col).Values != nil }

// choice is the attribute of a cell whose value is chosen.
func (w *writer) choice(col int) string {
	if !w.chosen(col) {
		return ""
	}
	return fmt.Sprintf(` table:content-validation-name="v%d"`, col)
}

// anyChosen reports whether the values of any column are chosen.
func (w *writer) anyChosen() bool {
	for i := range w.d.Wide {
		if w.chosen(i) {
			return true
		}
	}
	return false
}

// choices writes the rules for what may be chosen, which stands on a hidden sheet.
func (w *writer) choices() {
	if !w.anyChosen() {
		return
	}
	w.print(`<table:content-validations>`)
	for i := range w.d.Wide {
		if !w.chosen(i) {
			continue
		}
		col := refs.Letters(i)
		w.print(`<table:content-validation table:name="v%d" table:condition="of:cell-content-is-in-list([$%s.$%s$1:.$%s$%d])" table:allow-empty-cell="true" table:display-list="unsorted" table:base-cell-address="%s">`,
			i, document.Lists, col, col, max(len(w.d.Column(i).Values), 1), attr(sheetName(w.d.Sheet)+"."+col+"2"))
		w.print(`<table:error-message table:message-type="stop" table:title="%s" table:display="true"><text:p>%s</text:p></table:error-message></table:content-validation>`, document.NotAmong, document.ChooseOne)
	}
	w.print(`</table:content-validations>`)
}

// sheetName is a sheet's name as it stands in an address.
func sheetName(name string) string { return "'" + strings.ReplaceAll(name, "'", "''") + "'" }

func (w *writer) Row(n int, row []record.Value) error {
	b := append(w.cell[:0], `<table:table-row>`...)
	for i, v := range row {
		switch {
		case n == 1:
			b = append(b, `<table:table-cell table:style-name="heading"`...)
		case i < len(w.heads):
			b = append(b, w.heads[i]...)
		default:
			b = append(b, `<table:table-cell`...)
		}
		b = w.value(b, n, i, v)
	}
	w.cell = append(b, `</table:table-row>`...)
	_, err := w.out.Write(w.cell)
	return err
}

// value writes what follows a cell's name and looks.
func (w *writer) value(b []byte, n, col int, v record.Value) []byte {
	text := v.String()
	if v.Blank() && n > 1 || text == "" {
		return append(b, `/>`...)
	}
	if number, is := w.d.Number(col, v); is && n > 1 {
		b = append(append(append(b, ` office:value-type="float" office:value="`...), number...), `">`...)
	} else {
		b = append(b, ` office:value-type="string">`...)
	}
	return append(paragraphs(b, "text:", text), `</table:table-cell>`...)
}

func (w *writer) End() error {
	d := w.d
	if w.anyChosen() {
		if below := min(document.Below, maxRows-d.Rows); below > 0 {
			w.print(`<table:table-row table:number-rows-repeated="%d">`, below)
			for i := range d.Wide {
				w.print(`<table:table-cell%s/>`, w.choice(i))
			}
			w.print(`</table:table-row>`)
		}
	}
	w.print(`</table:table>`)
	w.lists()
	for _, p := range d.Pages {
		w.page(p)
	}
	if d.Wide > 0 && d.Rows > 0 {
		sheet := sheetName(d.Sheet)
		w.print(`<table:database-ranges><table:database-range table:name="__Anonymous_Sheet_DB__0" table:target-range-address="%s" table:display-filter-buttons="true"/></table:database-ranges>`,
			attr(fmt.Sprintf("%s.A1:%s.%s%d", sheet, sheet, refs.Letters(d.Wide-1), d.Rows)))
	}
	w.print(`</office:spreadsheet></office:body></office:document-content>`)
	if err := w.out.Flush(); err != nil {
		return err
	}
	for _, part := range []struct{ name, text string }{{"styles.xml", stylesXML}, {"meta.xml", w.meta()}, {"settings.xml", w.settings()}, {"META-INF/manifest.xml", manifestXML}} {
		to, err := w.z.Create(part.name)
		if err != nil {
			return err
		}
		if _, err := io.WriteString(to, part.text); err != nil {
			return err
		}
	}
	return w.z.Close()
}

// lists writes the hidden sheet with what may be chosen, each column's values in the same column.
func (w *writer) lists() {
	if !w.anyChosen() {
		return
	}
	rows := 0
	for i := range w.d.Wide {
		rows = max(rows, len(w.d.Column(i).Values))
	}
	w.print(`<table:table table:name="%s" table:style-name="hidden"><table:table-column table:default-cell-style-name="open" table:number-columns-repeated="%d"/>`, document.Lists, w.d.Wide)
	for n := range max(rows, 1) {
		b := []byte(`<table:table-row>`)
		for i := range w.d.Wide {
			b = append(b, `<table:table-cell`...)
			if values := w.d.Column(i).Values; n < len(values) && values[n] != "" {
				b = append(paragraphs(append(b, ` office:value-type="string">`...), "text:", values[n]), `</table:table-cell>`...)
			} else {
				b = append(b, `/>`...)
			}
		}
		_, _ = w.out.Write(append(b, `</table:table-row>`...)) // the buffer keeps the error
	}
	w.print(`</table:table>`)
}

// page writes a sheet of text.
func (w *writer) page(p document.Page) {
	w.print(`<table:table table:name="%s" table:style-name="text-page"><table:table-column table:style-name="page"/>`, attr(p.Name))
	for i, line := range p.Lines {
		style := "line"
		if i == 0 {
			style = "title"
		}
		w.print(`<table:table-row><table:table-cell table:style-name="%s" office:value-type="string">%s</table:table-cell></table:table-row>`, style, paragraphs(nil, "text:", line))
	}
	w.print(`</table:table>`)
}

// meta is the part that says what the document was made of.
func (w *writer) meta() string {
	var b strings.Builder
	b.WriteString(xml.Header + `<office:document-meta xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:meta="urn:oasis:names:tc:opendocument:xmlns:meta:1.0" office:version="1.3"><office:meta><meta:generator>` + document.Program + `</meta:generator>`)
	if w.d.Lent != nil {
		for _, p := range w.d.Lent.Properties() {
			fmt.Fprintf(&b, `<meta:user-defined meta:name="%s" meta:value-type="string">%s</meta:user-defined>`, attr(p[0]), xmlscan.AppendEscaped(nil, p[1]))
		}
	}
	b.WriteString(`</office:meta></office:document-meta>`)
	return b.String()
}

// settings is the part that freezes the heading, and takes the grid from pages of text.
func (w *writer) settings() string {
	var b strings.Builder
	item := func(name, typ, value string) {
		fmt.Fprintf(&b, `<config:config-item config:name="%s" config:type="%s">%s</config:config-item>`, name, typ, value)
	}
	b.WriteString(xml.Header + `<office:document-settings xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:config="urn:oasis:names:tc:opendocument:xmlns:config:1.0" xmlns:ooo="http://openoffice.org/2004/office" office:version="1.3">` +
		`<office:settings><config:config-item-set config:name="ooo:view-settings"><config:config-item-map-indexed config:name="Views"><config:config-item-map-entry>`)
	item("ViewId", "string", "view1")
	b.WriteString(`<config:config-item-map-named config:name="Tables">`)
	entry := func(sheet string, items func()) {
		fmt.Fprintf(&b, `<config:config-item-map-entry config:name="%s">`, attr(sheet))
		items()
		b.WriteString(`</config:config-item-map-entry>`)
	}
	entry(w.d.Sheet, func() {
		for _, i := range []struct{ name, typ, value string }{{"HorizontalSplitMode", "short", "0"}, {"VerticalSplitMode", "short", "2"}, {"VerticalSplitPosition", "int", "1"},
			{"ActiveSplitRange", "short", "2"}, {"PositionTop", "int", "0"}, {"PositionBottom", "int", "1"}} {
			item(i.name, i.typ, i.value)
		}
	})
	for _, p := range w.d.Pages {
		entry(p.Name, func() { item("ShowGrid", "boolean", "false") })
	}
	b.WriteString(`</config:config-item-map-named>`)
	item("ActiveTable", "string", string(xmlscan.AppendEscaped(nil, w.d.Sheet)))
	b.WriteString(`</config:config-item-map-entry></config:config-item-map-indexed></config:config-item-set></office:settings></office:document-settings>`)
	return b.String()
}
