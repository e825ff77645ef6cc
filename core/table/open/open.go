// Package open opens a file as a table, whatever format it is in: what it is
// shows in its first bytes, not in its name.
package open

import (
	"archive/zip"
	"bytes"
	"regexp"

	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/jsonl"
	"paletwin/core/table/ods"
	"paletwin/core/table/xlsx"
)

// Formats are the kinds of files that are opened, and that the program writes as well.
var Formats = []string{"csv", "json", "jsonl", "ods", "xlsx"}

// Open opens a file given as its bytes. Errors are *table.Error.
func Open(name string, data []byte, o table.Options) (*table.Image, error) {
	m, err := known(name, data, o)
	if err == nil && o.Rename != nil {
		o.Rename(m)
	}
	if err == nil && o.Reshape != nil {
		return o.Reshape(m)
	}
	return m, err
}

// Where known headings are looked for, if what is found has none.
const (
	mostSheets = 20
	mostRows   = 20
)

// known opens a file where its table stands: on the sheet, and below the row, that have the most headings that are known.
func known(name string, data []byte, o table.Options) (*table.Image, error) {
	m, err := byContent(name, data, o)
	if o.Knows == nil || o.Sheet == AllSheets || err == nil && (m.Lent != nil || len(m.Heading) == 1) {
		return m, err
	}
	best := 0
	if err == nil {
		if best = o.Knows(m.Heading); best > 1 {
			return m, nil
		}
	}
	try := func(o table.Options, least int) {
		x, xerr := byContent(name, data, o)
		if xerr != nil {
			return
		}
		if n := o.Knows(x.Heading); n > best && n >= least {
			best, m, err = n, x, nil
		}
	}
	if o.Sheet == "" && bytes.HasPrefix(data, []byte("PK\x03\x04")) {
		names, serr := sheets(name, data)
		for _, s := range names[:min(len(names), mostSheets)] {
			if other := o; serr == nil {
				other.Sheet = s
				try(other, 1) // the first of those that have as many
			}
		}
	}
	for n := 1; best < 2 && o.HeadingRow == 0 && n <= mostRows; n++ {
		other := o
		other.HeadingRow = n
		try(other, 2) // one could be a value
	}
	return m, err
}

// byContent opens a file as what its first bytes say it is.
func byContent(name string, data []byte, o table.Options) (*table.Image, error) {
	data, err := xlsx.Plain(name, data, o)
	if err != nil {
		return nil, err
	}
	switch {
	case bytes.HasPrefix(data, []byte("PK\x03\x04")) && o.Sheet == AllSheets:
		return together(name, data, o)
	case bytes.HasPrefix(data, []byte("PK\x03\x04")):
		return archive(name, data, o)
	case isJSON(data):
		return jsonl.Open(name, data)
	case isPage(data):
		return nil, &table.Error{Code: table.Binary, File: name, Text: "the file is a page for a browser or a program's XML, whatever it is called, and no table"}
	}
	return csv.OpenWith(name, data, o)
}

// pages are the beginnings of what programs write that call a page, or XML, a spreadsheet.
var pages = regexp.MustCompile(`(?i)^(<!doctype html|<html|<head|<body|<table|<\?xml|<workbook)[\s>]`)

// isPage reports whether a file begins as a page or XML does.
func isPage(data []byte) bool {
	return pages.Match(bytes.TrimLeft(bytes.TrimPrefix(data[:min(len(data), 200)], []byte("\ufeff")), " \t\r\n"))
}

// archive opens a zip archive that is a spreadsheet.
func archive(name string, data []byte, o table.Options) (*table.Image, error) {
	isODS, err := spreadsheet(name, data)
	switch {
	case err != nil:
		return nil, err
	case isODS:
		return ods.Open(name, data, o)
	}
	return xlsx.Open(name, data, o)
}

// spreadsheet tells which of the two a zip archive is.
func spreadsheet(name string, data []byte) (isODS bool, err error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return false, &table.Error{Code: table.Broken, File: name, Text: "the file is no whole zip archive"}
	}
	for _, f := range z.File {
		switch f.Name {
		case "content.xml":
			return true, nil
		case "[Content_Types].xml", "_rels/.rels":
			return false, nil
		}
	}
	return false, &table.Error{Code: table.Binary, File: name, Text: "the file is a zip archive, and no spreadsheet"}
}

// isJSON reports whether a file begins as an array of objects or an object. What is empty is one only if
// nothing but more of them follows: "{},name" is a heading.
func isJSON(data []byte) bool {
	const space = " \t\r\n"
	t := bytes.TrimLeft(bytes.TrimPrefix(data, []byte("\ufeff")), space)
	after := func(s string) (is bool) {
		rest, is := bytes.CutPrefix(t, []byte(s))
		if is {
			t = bytes.TrimLeft(rest, space)
		}
		return is
	}
	list := after("[")
	switch {
	case list && after("]"):
		return len(t) == 0
	case !after("{"):
		return false
	case list && after("}"):
		return after("]") || after(",") && after("{")
	case len(t) > 0 && t[0] == '}':
		line, more, _ := bytes.Cut(t[1:], []byte("\n"))
		more = bytes.TrimLeft(more, space)
		return len(bytes.TrimLeft(line, space)) == 0 && (len(more) == 0 || more[0] == '{')
	}
	return len(t) > 0 && t[0] == '"'
}
