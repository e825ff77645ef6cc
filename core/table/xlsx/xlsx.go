// Package xlsx reads a sheet of an XLSX workbook (ECMA-376, SpreadsheetML) as
// a table.
//
// Numbers come as the digits that are stored, exponents written out; nothing
// goes through binary floating point. A number with a date or time format is
// a date, a time or both, in the form of ISO 8601, counted from 1900 or 1904
// as the workbook says. Booleans are true and false, errors their codes
// (#N/A), formulas what was last computed for them, with a note a column.
// Text cells stay text, digits or not.
//
// Hidden rows, columns and sheets are read and mentioned. What the workbook
// says about its own size (the dimension) is not believed.
package xlsx

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"

	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/document"
	"paletwin/core/table/xmlscan"
)

const (
	maxPart    = 8 << 30 // bytes of one part, unpacked
	maxSheets  = 10_000
	maxStrings = 64 << 20
	maxColumns = document.MaxColumns
	maxRows    = document.MaxRows
)

// Open reads a workbook given as its bytes: the sheet that the options name,
// or the first that is not hidden. Errors are *table.Error.
func Open(name string, data []byte, o table.Options) (*table.Image, error) {
	var img *table.Image
	err := inBook(name, data, o, func(b *book) (err error) {
		img, err = b.image(o)
		return err
	})
	return img, err
}

// Sheets lists the sheets of a workbook that are not hidden.
func Sheets(name string, data []byte) (names []string, err error) {
	err = inBook(name, data, table.Options{}, func(b *book) error {
		for i := range b.sheets {
			if !b.sheets[i].hidden {
				names = append(names, b.sheets[i].name)
			}
		}
		return nil
	})
	return names, err
}

// inBook opens a workbook and makes what goes wrong in it a *table.Error.
func inBook(name string, data []byte, o table.Options, f func(b *book) error) error {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return broken(name, "the file is no whole zip archive")
	}
	b := &book{name: name, zip: z, parts: map[string]*zip.File{}, shared: "xl/sharedStrings.xml", format: "xl/styles.xml"}
	for _, f := range z.File {
		if key := strings.ToLower(strings.TrimPrefix(f.Name, "/")); b.parts[key] == nil {
			b.parts[key] = f
		}
	}
	if err = b.read(o); err == nil {
		err = f(b)
	}
	return b.fault(err)
}

// fault makes what goes wrong in a workbook a *table.Error.
func (b *book) fault(err error) error {
	var e *table.Error
	if err == nil || errors.As(err, &e) || errors.Is(err, table.ErrChanged) {
		return err
	}
	return broken(b.name, "the workbook cannot be read: "+err.Error())
}

// Load opens a workbook to look how its sheet keeps rows, and to edit it; of its bytes, which have to stay as they are, and without its
// password. Errors are *table.Error.
func Load(name string, data []byte, o table.Options) (*Book, error) {
	var loaded *Book
	err := inBook(name, data, o, func(b *book) error {
		loaded = &Book{book: b}
		return nil
	})
	return loaded, err
}

func broken(name, text string) error {
	return &table.Error{Code: table.Broken, File: name, Text: text}
}

// book is a workbook that is being read.
type book struct {
	name    string
	zip     *zip.Reader
	main    string // the workbook's part, and those of its texts and formats
	shared  string
	format  string
	parts   map[string]*zip.File // by lower-case name
	sheets  []sheet
	sheet   *sheet // the one that is read
	from    epoch
	strings []string
	styles  []kind // of each cell format
	places  []int  // the decimals that it shows, -1 where that is not fixed
	program string
	came    int64 // bytes of parts that were read so far, unpacked
}

type sheet struct {
	name   string
	part   string
	hidden bool
}

// read reads all but the sheet's cells.
func (b *book) read(o table.Options) (err error) {
	if err := b.workbook(); err != nil {
		return err
	}
	if b.sheet, err = b.pick(o.Sheet); err != nil {
		return err
	}
	for _, read := range []func() error{b.sharedStrings, b.cellStyles, b.app} {
		if err := read(); err != nil {
			return err
		}
	}
	return nil
}

// image reads the sheet's cells.
func (b *book) image(o table.Options) (*table.Image, error) {
	g := &grid{book: b, out: csv.Builder{Name: b.name, Came: func() int64 { return b.came }}, formulas: table.Formulas{}}
	if err := b.scan(b.sheet.part, g.element); err != nil {
		return nil, err
	}
	img, err := g.out.Image(o, table.Found{Format: "xlsx", Encoding: "utf-8", Sheet: b.sheet.name, Program: b.program})
	if err != nil {
		return nil, err
	}
	img.Shown = g.shown(len(img.Heading))
	img.Notes = append(img.Notes, g.notes(img, b.sheet, len(b.sheets))...)
	img.Lent, err = b.lent()
	return img, err
}

// scan walks a part; a part that is not there is empty.
func (b *book) scan(part string, element func(x *xmlscan.Scanner) error) error {
	f := b.parts[strings.ToLower(part)]
	if f == nil {
		return nil
	}
	if f.UncompressedSize64 > maxPart {
		return &table.Error{Code: table.TooLarge, File: b.name, Text: fmt.Sprintf("%s unpacks to more than %d GB", part, maxPart>>30)}
	}
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	x := xmlscan.New(xmlscan.Unpacked(r, f.CompressedSize64, maxPart, &b.came))
	for {
		k, err := x.Next()
		if errors.Is(err, xmlscan.ErrUnpacks) {
			return &table.Error{Code: table.TooLarge, File: b.name, Text: part + " " + err.Error()}
		}
		if err != nil || k == xmlscan.End {
			return err
		}
		if k == xmlscan.Open {
			if err := element(x); err != nil {
				return err
			}
		}
	}
}

// workbook reads the list of sheets and where their parts are.
func (b *book) workbook() error {
	main := "xl/workbook.xml"
	if err := b.scan("_rels/.rels", func(x *xmlscan.Scanner) error {
		if t, _ := x.Attr("Type"); x.Is("Relationship") && strings.HasSuffix(t, "/officeDocument") {
			target, _ := x.Attr("Target")
			main = strings.TrimPrefix(target, "/")
		}
		return nil
	}); err != nil {
		return err
	}
	if b.parts[strings.ToLower(main)] == nil {
		return errors.New("it has no workbook part")
	}
	b.main = main
	dir, base := path.Split(main)
	target := map[string]string{}
	if err := b.scan(dir+"_rels/"+base+".rels", func(x *xmlscan.Scanner) error {
		if x.Is("Relationship") {
			id, _ := x.Attr("Id")
			to, _ := x.Attr("Target")
			if !strings.HasPrefix(to, "/") {
				to = path.Join(dir, to)
			}
			target[id] = strings.TrimPrefix(to, "/")
			switch typ, _ := x.Attr("Type"); path.Base(typ) {
			case "sharedStrings":
				b.shared = target[id]
			case "styles":
				b.format = target[id]
			}
		}
		return nil
	}); err != nil {
		return err
	}
	return b.scan(main, func(x *xmlscan.Scanner) error {
		switch {
		case x.Is("workbookPr"):
			if v, _ := x.Attr("date1904"); v == "1" || v == "true" {
				b.from = from1904
			}
		case x.Is("sheet"):
			if len(b.sheets) == maxSheets {
				return errors.New("it has too many sheets")
			}
			name, _ := x.Attr("name")
			id, _ := x.Attr("id")
			state, _ := x.Attr("state")
			b.sheets = append(b.sheets, sheet{name, target[id], state != "" && state != "visible"})
		}
		return nil
	})
}

// pick returns the sheet with the given name, or the first that is visible.
func (b *book) pick(name string) (*sheet, error) {
	var names []string
	for i := range b.sheets {
		s := &b.sheets[i]
		if name == s.name && name != "" || name == "" && !s.hidden {
			return s, nil
		}
		names = append(names, s.name)
	}
	text := "the workbook has no sheet that is not hidden"
	if name != "" {
		text = fmt.Sprintf("the workbook has no sheet %q; it has %s", name, strings.Join(names[:min(len(names), 20)], ", "))
	}
	return nil, &table.Error{Code: table.NoSheet, File: b.name, Text: text}
}

// sharedStrings reads the texts that cells refer to; phonetic helps are left
// out, and runs of rich text are joined.
func (b *book) sharedStrings() error {
	total := 0
	return b.scan(b.shared, func(x *xmlscan.Scanner) error {
		if !x.Is("si") {
			return nil
		}
		text, err := richText(x)
		if total += len(text) + 1; len(b.strings) >= maxStrings || total > csv.MaxImage {
			return &table.Error{Code: table.TooLarge, File: b.name, Text: "the workbook's texts are too many"}
		}
		b.strings = append(b.strings, text)
		return err
	})
}

// richText reads the text inside the element that was opened, up to its end.
func richText(x *xmlscan.Scanner) (string, error) {
	var text []byte
	for depth := 1; depth > 0; {
		k, err := x.Next()
		switch {
		case err != nil:
			return "", err
		case k == xmlscan.End:
			return "", xmlscan.ErrCut
		case k == xmlscan.Open && (x.Is("rPh") || x.Is("phoneticPr")):
			if err := x.Skip(); err != nil {
				return "", err
			}
		case k == xmlscan.Open:
			depth++
		case k == xmlscan.Close:
			depth--
		case k == xmlscan.Text && depth > 1:
			if text = append(text, x.Text()...); len(text) > xmlscan.Longest {
				return "", xmlscan.ErrLong
			}
		}
	}
	return unescape(string(text)), nil
}

// unescape undoes _xHHHH_, by which a workbook writes characters that XML has
// no place for (ECMA-376 part 1, 22.9.2.19).
func unescape(s string) string {
	if !strings.Contains(s, "_x") {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		if i+7 <= len(s) && s[i] == '_' && s[i+1] == 'x' && s[i+6] == '_' {
			if n, err := strconv.ParseUint(s[i+2:i+6], 16, 16); err == nil && n != 0 {
				b.WriteRune(rune(n))
				i += 7
				continue
			}
		}
		b.WriteByte(s[i])
		i++
	}
	return strings.ToValidUTF8(b.String(), "\ufffd")
}

// lent reads what lend has put into the workbook.
func (b *book) lent() (*table.Lent, error) {
	parts := map[string]string{}
	name := ""
	err := b.scan("docProps/custom.xml", func(x *xmlscan.Scanner) error {
		if x.Is("property") {
			name, _ = x.Attr("name")
			return nil
		}
		if !strings.HasPrefix(name, table.LentProperty) || !x.Is("lpwstr") {
			return nil
		}
		text, err := element(x)
		parts[name] = unescape(text)
		return err
	})
	return table.ParseLent(parts), err
}

// app reads which program says to have written the workbook.
func (b *book) app() error {
	return b.scan("docProps/app.xml", func(x *xmlscan.Scanner) error {
		if !x.Is("Application") {
			return nil
		}
		if k, err := x.Next(); err != nil || k != xmlscan.Text {
			return err
		}
		b.program = string(x.Text())
		if strings.Contains(b.program, "LibreOffice") && b.from == from1900 {
			b.from = from1899
		}
		return nil
	})
}
