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
	"paletwin/core/table/xmlscan"
)

const (
	maxPart    = 8 << 30
	maxRows    = 1_048_576
	maxColumns = 16_384
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

	row      int // the last row that was read, from 1
	hidden   int
	formulas table.Formulas
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
		case k == xmlscan.Open && (r.x.Is("table-row-group") || r.x.Is("table-header-rows") || r.x.Is("table-rows")):
			depth++
		case k == xmlscan.Open:
			if err := r.x.Skip(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *reader) count(name string) int {
	text, ok := r.x.Attr(name)
	if !ok {
		return 1
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return 1
	}
	return min(n, maxRows)
}

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
	cells, err := r.cells()
	if err != nil {
		return err
	}
	first := r.row + 1
	if r.row += times; r.row > maxRows {
		r.row = maxRows
	}
	if len(cells) == 0 {
		return nil
	}
	for n := first; n <= r.row; n++ {
		if err := r.out.Row(n); err != nil {
			return err
		}
		for _, c := range cells {
			r.out.Cell(c.col, c.text, false)
		}
	}
	return nil
}

// cells reads the cells of the row that was opened.
func (r *reader) cells() ([]cell, error) {
	var cells []cell
	for col := 0; ; {
		k, err := r.x.Next()
		switch {
		case err != nil:
			return nil, err
		case k == xmlscan.End:
			return nil, xmlscan.ErrCut
		case k == xmlscan.Close:
			return cells, nil
		case k != xmlscan.Open:
			continue
		case !r.x.Is("table-cell") && !r.x.Is("covered-table-cell"):
			if err := r.x.Skip(); err != nil {
				return nil, err
			}
			continue
		}
		times := r.count("number-columns-repeated")
		r.out.Merge(csv.Merged{Top: r.row + 1, Left: col, Bottom: r.row + r.count("number-rows-spanned"), Right: col + r.count("number-columns-spanned") - 1})
		text, err := r.cell(col)
		if err != nil {
			return nil, err
		}
		for range times {
			if text == "" || col >= maxColumns {
				break
			}
			cells = append(cells, cell{col, text})
			col++
			times--
		}
		col = min(col+times, maxColumns)
	}
}

// cell reads the cell that was opened, up to its end.
func (r *reader) cell(col int) (string, error) {
	typ, _ := r.x.Attr("value-type")
	var value string
	switch typ {
	case "float", "percentage", "currency":
		value, _ = r.x.Attr("value")
		value = table.Double(value)
	case "date":
		value, _ = r.x.Attr("date-value")
	case "time":
		value, _ = r.x.Attr("time-value")
		value = clock(value)
	case "boolean":
		value, _ = r.x.Attr("boolean-value")
	}
	fixed, given := r.x.Attr("string-value")
	if _, computed := r.x.Attr("formula"); computed {
		r.formulas.Add(col, r.row+1)
	}
	shown, err := r.paragraphs()
	switch {
	case err != nil:
		return "", err
	case value != "":
		return value, nil
	case given:
		return fixed, nil
	}
	return shown, nil
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
