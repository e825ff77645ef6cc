package ods

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"paletwin/core/table"
	"paletwin/core/table/xmlscan"
)

// set writes a cell with a value in the place of another, or of none: as it was before, where it comes back, else in the type that it
// has, or that its column's cells have.
func (e *edit) set(out []byte, p *place, c *table.Cell, before *keptRow, column look) []byte {
	was := before.place(c.Col)
	if was != nil && before.same && was.text == c.Value.String() && was.formula == nil {
		return e.again(out, was, 1)
	}
	if before != nil && before.same && was == nil && c.Value.String() == "" {
		return e.gapOf(out, 1)
	}
	typ, tag := column.typ, column.tag
	if p != nil {
		tag = bare(p.open)
		if p.text != "" {
			typ = string(p.typ)
		}
	}
	if was != nil && len(was.typ) > 0 {
		typ = string(was.typ)
	}
	if tag == nil {
		tag = []byte("<" + e.table + "table-cell")
	}
	return e.cell(out, tag, p, c, typ)
}

// cell writes a cell with a value, whose tag says how it looks.
func (e *edit) cell(out, tag []byte, p *place, c *table.Cell, typ string) []byte {
	out = append(out, tag...)
	var beside []byte
	if p != nil {
		beside = others(p.inside)
	}
	text := c.Value.String()
	if text == "" {
		if len(beside) == 0 {
			return append(out, "/>"...)
		}
		return e.close(append(append(out, '>'), beside...), p)
	}
	attr := func(name, value string) {
		out = append(out, ' ')
		out = append(append(append(out, e.office...), name...), `="`...)
		out = append(xmlscan.AppendEscaped(out, value), '"')
	}
	kind, name, value := encode(c, typ)
	attr("value-type", kind)
	if name != "" {
		attr(name, value)
	}
	out = append(append(out, '>'), beside...)
	return e.close(paragraphs(out, e.text, text), p)
}

// encode returns the type of a cell with a value, and the attribute that holds it: "" where it is text.
func encode(c *table.Cell, typ string) (kind, name, value string) {
	for _, form := range []string{c.Value.String(), c.Other} {
		switch typ {
		case "float", "percentage", "currency":
			if table.IsNumber(form) {
				return typ, "value", form
			}
		case "date":
			for _, as := range []string{time.DateOnly, "2006-01-02T15:04:05"} {
				if _, err := time.Parse(as, form); err == nil {
					return typ, "date-value", form
				}
			}
		case "time":
			if m := hours.FindStringSubmatch(form); m != nil {
				if pt := "PT" + m[1] + "H" + m[2] + "M" + m[3] + "S"; clock(pt) == form {
					return typ, "time-value", pt
				}
			}
		case "boolean":
			if form == "true" || form == "false" {
				return typ, "boolean-value", form
			}
		}
	}
	return "string", "", ""
}

var hours = regexp.MustCompile(`^([0-9]{2,}):([0-9]{2}):([0-9]{2}(?:\.[0-9]+)?)$`)

// paragraphs writes a text, spaces and tabs as their elements, whose names have a prefix.
func paragraphs(out []byte, prefix, text string) []byte {
	for line := range strings.SplitSeq(text, "\n") {
		out = append(append(append(out, '<'), prefix...), "p>"...)
		for i := 0; i < len(line); {
			n := 0
			for i+n < len(line) && line[i+n] == ' ' {
				n++
			}
			switch {
			case n > 1 || n == 1 && (i == 0 || i+1 == len(line)):
				out = append(out, `<`+prefix+`s `+prefix+`c="`+strconv.Itoa(n)+`"/>`...)
				i += n
			case line[i] == '\t':
				out = append(out, `<`+prefix+`tab/>`...)
				i++
			default:
				end := i + 1
				for end < len(line) && line[end] != ' ' && line[end] != '\t' {
					end++
				}
				out = xmlscan.AppendEscaped(out, line[i:end])
				i = end
			}
		}
		out = append(append(append(out, "</"...), prefix...), "p>"...)
	}
	return out
}
