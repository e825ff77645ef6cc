package xlsx

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"fmt"
	"io"
	"strconv"
	"strings"

	"paletwin/core/table"
	"paletwin/core/table/archive"
	"paletwin/core/table/refs"
	"paletwin/core/table/xmlscan"
)

// edit is an edit that is being carried out.
type edit struct {
	*Book
	*table.Plan
	heading int
	shift   refs.Shift

	texts  []string // to be added to the workbook's
	number map[string]int
	used   int // cells that refer to them
}

// Edit writes the workbook with the ops carried out on the sheet, whose heading is in the given row.
//
// The sheet's part is written anew as it is read; every other part goes over as it stands in the archive, but for what points at rows
// that move, texts that are added at the end of the workbook's, the marks that have formulas and pivot tables computed anew, and, where rows move, the calculation
// chain, which goes. A cell keeps its style, and its type where a value of that type reads back as the very text that is asked for, or as
// its other form; else it becomes text.
//
// What Refuse refuses must not be among the ops.
func (b *Book) Edit(heading int, ops []table.Op, w io.Writer) error {
	e, err := b.begin(heading, ops)
	if err != nil {
		return b.fault(err)
	}
	return b.fault(e.write(w))
}

func (b *Book) begin(heading int, ops []table.Op) (*edit, error) {
	e := &edit{Book: b, Plan: table.NewPlan(ops), heading: heading, number: map[string]int{}}
	e.shift = refs.Shift{Sheet: b.sheet.name, Moves: &e.Moves}
	if b.parts[strings.ToLower(b.sheet.part)] == nil {
		return nil, fmt.Errorf("the sheet %q has no part in the file", b.sheet.name)
	}
	_, err := b.lookAround()
	return e, err
}

// write writes the archive.
func (e *edit) write(w io.Writer) error {
	to := zip.NewWriter(w)
	if err := to.SetComment(e.zip.Comment); err != nil {
		return err
	}
	own := strings.ToLower(e.sheet.part)
	var later []*zip.File // what depends on the sheet's cells
	for _, f := range e.zip.File {
		key := strings.ToLower(strings.TrimPrefix(f.Name, "/"))
		if e.parts[key] != f {
			continue // a second one of the name
		}
		var err error
		switch {
		case key == own:
			err = archive.Anew(to, f, func(out io.Writer) error { return e.part(f, out) })
		case key == strings.ToLower(e.shared):
			later = append(later, f)
		default:
			var data []byte
			if data, err = e.other(key); err != nil {
				break
			}
			switch {
			case data == nil:
				err = to.Copy(f)
			case len(data) > 0:
				err = archive.Anew(to, f, func(out io.Writer) error { _, err := out.Write(data); return err })
			}
		}
		if err != nil {
			return err
		}
	}
	for _, f := range later {
		err := error(nil)
		if len(e.texts) == 0 {
			err = to.Copy(f)
		} else {
			err = archive.Anew(to, f, func(out io.Writer) error { return e.addTexts(f, out) })
		}
		if err != nil {
			return err
		}
	}
	return to.Close()
}

// part writes the sheet's part.
func (e *edit) part(f *zip.File, w io.Writer) error {
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	out := bufio.NewWriterSize(w, 1<<16)
	s := &sheetEdit{edit: e, own: true, name: e.sheet.name, masters: map[string]*master{}, out: out}
	if err := s.run(xmlscan.New(xmlscan.Unpacked(r, f.CompressedSize64, maxPart, new(int64)))); err != nil {
		return err
	}
	return out.Flush()
}

// text is the number of a text among the workbook's, behind which it is added if need be.
func (e *edit) textNumber(text string) int {
	e.used++
	n, ok := e.number[text]
	if !ok {
		n = len(e.strings) + len(e.texts)
		e.number[text] = n
		e.texts = append(e.texts, text)
	}
	return n
}

// addTexts writes the workbook's texts with those that are added.
func (e *edit) addTexts(f *zip.File, w io.Writer) error {
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	out := bufio.NewWriterSize(w, 1<<16)
	x := xmlscan.New(r)
	x.Keep()
	prefix := ""
	add := func() {
		for _, text := range e.texts {
			var b []byte
			b = append(b, "<"+prefix+"si>"...)
			b = appendText(b, prefix+"t", text)
			b = append(b, "</"+prefix+"si>"...)
			_, _ = out.Write(b) // Flush says what went wrong
		}
	}
	for {
		k, err := x.Next()
		if err != nil {
			return err
		}
		raw := x.Raw()
		switch {
		case k == xmlscan.End:
			_, _ = out.Write(raw)
			return out.Flush()
		case k == xmlscan.Open && x.Is("sst"):
			prefix = string(x.Prefix())
			tag := bytes.Clone(raw)
			for name, more := range map[string]int{"count": e.used, "uniqueCount": len(e.texts)} {
				if v, ok := x.Attr(name); ok {
					if n, err := strconv.Atoi(v); err == nil {
						tag = xmlscan.SetAttr(tag, name, strconv.Itoa(n+more))
					}
				}
			}
			if !x.Empty() {
				_, _ = out.Write(tag)
				continue
			}
			_, _ = out.Write(append(bytes.TrimSuffix(tag, []byte("/>")), '>'))
			add()
			_, _ = out.WriteString("</" + prefix + "sst>")
		case k == xmlscan.Close && x.Is("sst") && len(raw) > 0:
			add()
			_, _ = out.Write(raw)
		case k == xmlscan.Open && x.Is("si"):
			_, _ = out.Write(raw)
			rest, err := x.Rest()
			if err != nil {
				return err
			}
			_, _ = out.Write(rest)
		default:
			_, _ = out.Write(raw)
		}
	}
}

// appendText writes an element with a text.
func appendText(b []byte, name, text string) []byte {
	b = append(append(b, '<'), name...)
	if text != strings.TrimSpace(text) || strings.ContainsAny(text, "\n\t\r") || strings.Contains(text, "  ") {
		b = append(b, ` xml:space="preserve"`...)
	}
	b = xmlscan.AppendEscaped(append(b, '>'), escape(text))
	return append(append(append(b, "</"...), name...), '>')
}

// escape writes a text so that it reads back as it is (ECMA-376 part 1, 22.9.2.19), where it looks like an escape (_xHHHH_);
// unescape undoes it.
func escape(text string) string {
	if !strings.Contains(text, "_x") {
		return text
	}
	var b strings.Builder
	for i := range len(text) {
		if rest := text[i:]; len(rest) >= 7 && rest[:2] == "_x" && rest[6] == '_' && strings.Trim(rest[2:6], "0123456789abcdefABCDEF") == "" {
			b.WriteString("_x005F")
		}
		b.WriteByte(text[i])
	}
	return b.String()
}

// letters writes a column, counted from 0, as letters: 27 is "AB".
func letters(col int) string { return refs.Letters(col) }

func place(col, row int) string { return letters(col) + strconv.Itoa(row) }

// appendCell writes a cell with a value, whose tag holds whatever it held but its type. how is how it is kept.
func (e *edit) appendCell(b, tag []byte, prefix string, c *table.Cell, how look) []byte {
	typ, value := e.encode(c, how)
	b = append(b, bare(tag)...)
	if typ != "" {
		b = append(append(append(b, ` t="`...), typ...), '"')
	}
	switch {
	case value == "" && typ == "":
		return append(b, "/>"...)
	case typ == "inlineStr":
		b = append(append(append(b, "><"...), prefix...), "is>"...)
		b = appendText(b, prefix+"t", value)
		b = append(append(append(b, "</"...), prefix...), "is>"...)
	case typ == "str":
		b = appendText(append(b, '>'), prefix+"v", value)
	default:
		b = append(append(append(b, "><"...), prefix...), "v>"...)
		b = append(append(append(append(b, value...), "</"...), prefix...), "v>"...)
	}
	return append(append(append(b, "</"...), prefix...), "c>"...)
}

// bare is a cell's tag without its end and without what it says of the value: its type, and where more is said of it.
func bare(tag []byte) []byte {
	for _, attr := range []string{"t", "vm", "cm"} {
		tag = xmlscan.DropAttr(tag, attr)
	}
	return bytes.TrimRight(bytes.TrimSuffix(bytes.TrimSuffix(tag, []byte(">")), []byte("/")), " \t\r\n")
}

// encode returns the type of a cell with a value, and what stands in it.
func (e *edit) encode(c *table.Cell, how look) (typ, value string) {
	text := c.Value.String()
	if text == "" {
		return "", ""
	}
	kind := e.kind(how.style)
	for _, form := range []string{text, cmp.Or(c.Other, text)} {
		switch {
		case how.typ == "b" && (form == "true" || form == "false"):
			return "b", map[string]string{"true": "1", "false": "0"}[form]
		case how.typ == "d":
			if _, ok := e.from.serial(form, instant); ok {
				return "d", form
			}
			if _, ok := e.from.serial(form, date); ok {
				return "d", form
			}
		case how.typ == "n" && kind > textual:
			if n, ok := e.from.serial(form, kind); ok {
				return "", n
			}
		case how.typ == "n" && kind == plain && table.IsNumber(form):
			return "", form
		}
	}
	switch {
	case how.typ == "inlineStr", how.typ == "str":
		return how.typ, text
	case e.parts[strings.ToLower(e.shared)] == nil:
		return "inlineStr", text
	}
	return "s", strconv.Itoa(e.textNumber(text))
}

// full says that a sheet has no more rows.
func (e *edit) full() error {
	return &table.Error{Code: table.TooLarge, File: e.name, Text: fmt.Sprintf("a sheet has %d rows, and there would be more", maxRows)}
}
