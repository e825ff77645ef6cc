// Package ods reads a sheet of an OpenDocument spreadsheet (ISO/IEC 26300) as
// a table.
//
// Values come from the attributes that hold them exactly: numbers as their
// stored digits, dates and times in ISO 8601, booleans as true and false.
// Texts come as they are shown: paragraphs with line breaks between, spaces
// and tabs as their elements say. Rows and cells that repeat are written out
// where they hold something, and cost nothing where they do not.
package ods

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strconv"
	"strings"

	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/document"
	"paletwin/core/table/xmlscan"
)

const (
	maxPart    = 8 << 30
	maxRows    = document.MaxRows
	maxColumns = document.MaxColumns
)

// Open reads a spreadsheet given as its bytes: the sheet that the options
// name, or the first. Errors are *table.Error.
func Open(name string, data []byte, o table.Options) (*table.Image, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, broken(name, "the file is no whole zip archive")
	}
	img, err := read(name, z, o)
	var e *table.Error
	switch {
	case err == nil:
		return img, nil
	case errors.As(err, &e):
		return nil, err
	}
	return nil, broken(name, "the spreadsheet cannot be read: "+err.Error())
}

// Sheets lists the sheets of a spreadsheet.
func Sheets(name string, data []byte) ([]string, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, broken(name, "the file is no whole zip archive")
	}
	f, err := z.Open("content.xml")
	if err != nil {
		return nil, broken(name, "it has no content; it may be encrypted")
	}
	defer f.Close()
	var names []string
	x := xmlscan.New(xmlscan.Unpacked(f, packed(f), maxPart, new(int64)))
	for {
		k, err := x.Next()
		if err != nil {
			return nil, broken(name, "the spreadsheet cannot be read: "+err.Error())
		}
		if k == xmlscan.End {
			return names, nil
		}
		if k != xmlscan.Open || !x.Is("table") {
			continue
		}
		sheet, _ := x.Attr("name")
		names = append(names, sheet)
		if err := x.Skip(); err != nil {
			return nil, broken(name, "the spreadsheet cannot be read: "+err.Error())
		}
	}
}

func broken(name, text string) error {
	return &table.Error{Code: table.Broken, File: name, Text: text}
}

func read(name string, z *zip.Reader, o table.Options) (*table.Image, error) {
	f, err := z.Open("content.xml")
	if err != nil {
		return nil, errors.New("it has no content; it may be encrypted")
	}
	defer f.Close()
	var came int64
	r := &reader{x: xmlscan.New(xmlscan.Unpacked(f, packed(f), maxPart, &came)), out: csv.Builder{Name: name, Came: func() int64 { return came }}, want: o.Sheet, formulas: table.Formulas{}}
	if err := r.document(); errors.Is(err, xmlscan.ErrUnpacks) {
		return nil, &table.Error{Code: table.TooLarge, File: name, Text: "the file's content " + err.Error()}
	} else if err != nil {
		return nil, err
	}
	if !r.found {
		text := "the file has no sheet"
		if o.Sheet != "" {
			text = fmt.Sprintf("the file has no sheet %q; it has %s", o.Sheet, strings.Join(r.names, ", "))
		}
		return nil, &table.Error{Code: table.NoSheet, File: name, Text: text}
	}
	img, err := r.out.Image(o, table.Found{Format: "ods", Encoding: "utf-8", Sheet: r.sheet})
	if err != nil {
		return nil, err
	}
	img.Notes = append(img.Notes, r.notes(img)...)
	img.Lent, err = lent(z)
	return img, err
}

// packed is how many bytes a part has in its archive.
func packed(f fs.File) uint64 {
	if info, err := f.Stat(); err == nil {
		if h, ok := info.Sys().(*zip.FileHeader); ok {
			return h.CompressedSize64
		}
	}
	return 0
}

// lent reads what lend has put into the document that this one was made of:
// its user-defined properties are kept.
func lent(z *zip.Reader) (*table.Lent, error) {
	f, err := z.Open("meta.xml")
	if err != nil {
		return nil, nil // a document may have none
	}
	defer f.Close()
	parts := map[string]string{}
	x := xmlscan.New(xmlscan.Unpacked(f, packed(f), maxPart, new(int64)))
	for {
		k, err := x.Next()
		if err != nil || k == xmlscan.End {
			return table.ParseLent(parts), err
		}
		if k != xmlscan.Open || !x.Is("user-defined") {
			continue
		}
		name, _ := x.Attr("name")
		if k, err := x.Next(); err == nil && k == xmlscan.Text && strings.HasPrefix(name, table.LentProperty) {
			parts[name] = string(x.Text())
		}
	}
}

// reader reads one sheet.
type reader struct {
	x     *xmlscan.Scanner
	out   csv.Builder
	want  string
	names []string
	sheet string
	found bool

	row       int    // the last row that was read, from 1
	filled    []cell // of the row that is read
	marked    []marked
	prefix    []byte // of its elements' names
	open, end []byte // tags of its cells
	hidden    int
	formulas  table.Formulas
}

func (r *reader) document() error {
	for {
		k, err := r.x.Next()
		if err != nil || k == xmlscan.End {
			return err
		}
		if k != xmlscan.Open || !r.x.Is("table") {
			continue
		}
		name, _ := r.x.Attr("name")
		if len(r.names) < 100 {
			r.names = append(r.names, name)
		}
		if r.found || r.want != "" && name != r.want {
			if err := r.x.Skip(); err != nil {
				return err
			}
			continue
		}
		r.found, r.sheet = true, name
		if err := r.rows(); err != nil {
			return err
		}
	}
}

// rows reads the table that was opened, groups of rows looked through.
func (r *reader) rows() error {
	for depth := 1; depth > 0; {
		k, err := r.x.Next()
		switch {
		case err != nil:
			return err
		case k == xmlscan.End:
			return xmlscan.ErrCut
		case k == xmlscan.Close:
			depth--
		case k == xmlscan.Open && r.x.Is("table-row"):
			if err := r.tableRow(); err != nil {
				return err
			}
		case k == xmlscan.Open && group(r.x):
			depth++
		case k == xmlscan.Open:
			if err := r.x.Skip(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *reader) count(name string) int { return times(r.x.RawAttr(name)) }

// cell is a filled cell of a row.
type cell struct {
	col  int
	text string
}

// tableRow reads a row and writes it as often as it repeats, if it holds
// anything.
func (r *reader) tableRow() error {
	times := r.count("number-rows-repeated")
	if v, ok := r.x.Attr("visibility"); ok && v != "visible" {
		r.hidden += times
	}
	r.prefix = append(r.prefix[:0], r.x.Prefix()...)
	inside, err := r.x.Rest()
	if err != nil {
		return err
	}
	whole := r.x
	if !r.plain(inside) {
		r.x = xmlscan.Over(inside)
		err = r.cells()
		r.x = whole
	}
	if err != nil {
		return err
	}
	r.mark()
	first := r.row + 1
	if r.row += times; r.row > maxRows {
		r.row = maxRows
	}
	if len(r.filled) == 0 {
		return nil
	}
	for n := first; n <= r.row; n++ {
		if err := r.out.Row(n); err != nil {
			return err
		}
		for _, c := range r.filled {
			r.out.Cell(c.col, c.text, false)
		}
	}
	return nil
}

// cells reads what is inside a row, whose end tag may be missing.
func (r *reader) cells() error {
	r.filled, r.marked = r.filled[:0], r.marked[:0]
	for col := 0; ; {
		k, err := r.x.Next()
		switch {
		case err != nil:
			return err
		case k == xmlscan.End, k == xmlscan.Close:
			return nil
		case k != xmlscan.Open:
			continue
		case !r.x.Is("table-cell") && !r.x.Is("covered-table-cell"):
			if err := r.x.Skip(); err != nil {
				return err
			}
			continue
		}
		var a cellAttrs
		for name, value := range r.x.Attrs() {
			if to := a.named([]byte(name)); to != nil && *to == nil {
				*to = append([]byte{}, value...)
			}
		}
		shown, err := r.paragraphs()
		if err != nil {
			return err
		}
		text, said := a.text()
		if !said {
			text = shown
		}
		col = r.take(a, col, text)
	}
}

// cellAttrs are the attributes of a cell that say what it holds; nil is not there.
type cellAttrs struct {
	typ, value, date, time, boolean, fixed, formula, columns, spannedColumns, spannedRows []byte
}

// named is the place of the attribute with a name, its prefix aside, or nil.
func (a *cellAttrs) named(name []byte) *[]byte {
	switch string(name) {
	case "value-type":
		return &a.typ
	case "value":
		return &a.value
	case "date-value":
		return &a.date
	case "time-value":
		return &a.time
	case "boolean-value":
		return &a.boolean
	case "string-value":
		return &a.fixed
	case "formula":
		return &a.formula
	case "number-columns-repeated":
		return &a.columns
	case "number-columns-spanned":
		return &a.spannedColumns
	case "number-rows-spanned":
		return &a.spannedRows
	}
	return nil
}

// times reads how often something is there.
func times(text []byte) int {
	if text == nil {
		return 1
	}
	n, err := strconv.Atoi(string(text))
	if err != nil || n < 1 {
		return 1
	}
	return min(n, maxRows)
}

// take takes in a cell that stands at a column and holds a text, and returns the column behind it.
func (r *reader) take(a cellAttrs, col int, text string) int {
	if a.spannedColumns != nil || a.spannedRows != nil || a.formula != nil {
		r.marked = append(r.marked, marked{a, col})
	}
	n := times(a.columns)
	for ; n > 0 && text != "" && col < maxColumns; n-- {
		r.filled = append(r.filled, cell{col, text})
		col++
	}
	return min(col+n, maxColumns)
}

// marked is a cell with something to be noted.
type marked struct {
	cellAttrs
	col int
}

// mark notes what is to be noted of the row.
func (r *reader) mark() {
	for _, m := range r.marked {
		if m.spannedColumns != nil || m.spannedRows != nil {
			r.out.Merge(csv.Merged{Top: r.row + 1, Left: m.col, Bottom: r.row + times(m.spannedRows), Right: m.col + times(m.spannedColumns) - 1})
		}
		if m.formula != nil {
			r.formulas.Add(m.col, r.row+1)
		}
	}
}

// text is what the cell's attributes say that it holds, if they do.
func (a *cellAttrs) text() (string, bool) {
	value := ""
	switch string(a.typ) {
	case "float", "percentage", "currency":
		value = table.Double(string(a.value))
	case "date":
		value = string(a.date)
	case "time":
		value = clock(string(a.time))
	case "boolean":
		value = string(a.boolean)
	}
	if value != "" {
		return value, true
	}
	return string(a.fixed), a.fixed != nil
}

// plain reads what is inside a row as nearly all are written: cells of at most one paragraph of text. It returns false where it is another.
func (r *reader) plain(b []byte) bool {
	r.filled, r.marked = r.filled[:0], r.marked[:0]
	if r.open == nil || len(r.open) != len("<table-cell")+len(r.prefix) {
		r.open = []byte("<" + string(r.prefix) + "table-cell")
		r.end = []byte("</" + string(r.prefix) + "table-cell>")
	}
	for i, col := 0, 0; ; {
		if i+1 >= len(b) || b[i] == '<' && b[i+1] == '/' {
			return true
		}
		if !bytes.HasPrefix(b[i:], r.open) {
			return false
		}
		var a cellAttrs
		n, empty := attributes(b[i+len(r.open):], &a)
		if n < 0 {
			return false
		}
		i += len(r.open) + n
		text, said := a.text()
		if !empty {
			const p, pEnd = "<text:p>", "</text:p>"
			if bytes.HasPrefix(b[i:], []byte(p)) {
				i += len(p)
				n := bytes.IndexByte(b[i:], '<')
				if n < 0 || !bytes.HasPrefix(b[i+n:], []byte(pEnd)) {
					return false
				}
				if !said {
					text = string(xmlscan.Decode(b[i : i+n]))
				}
				i += n + len(pEnd)
			}
			if !bytes.HasPrefix(b[i:], r.end) {
				return false
			}
			i += len(r.end)
		}
		col = r.take(a, col, text)
	}
}

// attributes reads the attributes of a tag up to its end; -1 is that they are written in another way. empty says that the tag closes itself.
func attributes(b []byte, a *cellAttrs) (n int, empty bool) {
	for i := 0; i+1 < len(b); {
		switch {
		case b[i] == ' ':
			i++
			continue
		case b[i] == '>':
			return i + 1, false
		case b[i] == '/' && b[i+1] == '>':
			return i + 2, true
		}
		eq := bytes.IndexByte(b[i:], '=')
		if eq < 1 || i+eq+1 >= len(b) || b[i+eq+1] != '"' {
			return -1, false
		}
		name := b[i : i+eq]
		if colon := bytes.IndexByte(name, ':'); colon >= 0 {
			name = name[colon+1:]
		}
		i += eq + 2
		end := bytes.IndexByte(b[i:], '"')
		if end < 0 {
			return -1, false
		}
		if to := a.named(name); to != nil && *to == nil {
			*to = xmlscan.Decode(b[i : i+end])
		}
		i += end + 1
	}
	return -1, false
}

// paragraphs reads the text of a cell; notes to it are left out.
func (r *reader) paragraphs() (string, error) {
	var b strings.Builder
	started := false
	for depth := 1; depth > 0; {
		k, err := r.x.Next()
		switch {
		case err != nil:
			return "", err
		case k == xmlscan.End:
			return "", xmlscan.ErrCut
		case k == xmlscan.Close:
			depth--
		case k == xmlscan.Text:
			if depth > 1 {
				b.Write(r.x.Text())
			}
			if b.Len() > xmlscan.Longest {
				return "", xmlscan.ErrLong
			}
		case r.x.Is("annotation"), r.x.Is("shapes"), r.x.Is("frame"):
			if err := r.x.Skip(); err != nil {
				return "", err
			}
		default:
			depth++
			switch {
			case r.x.Is("p"):
				if started {
					b.WriteByte('\n')
				}
				started = true
			case r.x.Is("s"):
				n := r.count("c")
				if b.Len()+n > xmlscan.Longest {
					return "", xmlscan.ErrLong
				}
				b.WriteString(strings.Repeat(" ", n))
			case r.x.Is("tab"):
				b.WriteByte('\t')
			case r.x.Is("line-break"):
				b.WriteByte('\n')
			}
		}
	}
	return b.String(), nil
}

var duration = regexp.MustCompile(`^(-?)PT(\d+)H(\d+)M(\d+)(?:[.,](\d+))?S$`)

// two writes a number of at least two digits; some programs write PT015H.
func two(digits string) string {
	digits = strings.TrimLeft(digits, "0")
	return "00"[:max(2-len(digits), 0)] + digits
}

// clock writes a duration PT07H05M09S as 07:05:09.
func clock(value string) string {
	m := duration.FindStringSubmatch(value)
	if m == nil {
		return value
	}
	text := m[1] + two(m[2]) + ":" + two(m[3]) + ":" + two(m[4])
	if f := strings.TrimRight(m[5], "0"); f != "" {
		text += "." + f
	}
	return text
}

func (r *reader) notes(img *table.Image) []table.Note {
	var notes []table.Note
	if n := len(r.names) - 1; n > 0 {
		notes = append(notes, table.Note{Code: "other-sheets", Count: n, Text: fmt.Sprintf("the sheet %q is read; the file has %d more", r.sheet, n)})
	}
	if r.hidden > 0 {
		notes = append(notes, table.Note{Code: "hidden", Count: r.hidden, Text: fmt.Sprintf("%d rows are hidden or filtered out; they are read", r.hidden)})
	}
	return append(notes, r.formulas.Notes(img.Heading)...)
}
