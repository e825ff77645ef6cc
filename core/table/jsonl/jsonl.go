// Package jsonl reads JSON Lines (one object a line) and a JSON array of
// objects as a table: RFC 8259, with one record an object.
//
// The fields are the members of all objects, in the order in which they are
// first seen. What a service answered, an object whose member "value" is the list, is read as that list. null, empty text and a member that is not there are told apart. A text that
// is not Unicode (bytes that are not UTF-8, half a surrogate pair) is refused.
// Numbers come as they are written, true and false as those words, and nested
// objects and arrays as compact JSON.
package jsonl

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// maxFields is the most fields a table may have.
const maxFields = 100_000

// Open reads JSON given as its bytes. A record's row is its line, or its place
// in the array. Errors are *table.Error.
func Open(name string, data []byte) (*table.Image, error) {
	r := &reader{name: name, data: bytes.TrimPrefix(data, []byte("\ufeff")), place: map[string]int{}}
	format := "jsonl"
	list, isAnswer, err := r.answer()
	if err != nil {
		return nil, err
	}
	if t := bytes.TrimLeft(r.data, " \t\r\n"); len(t) > 0 && t[0] == '[' {
		format = "json"
		err = r.array(t)
	} else if isAnswer {
		format = "json"
		err = r.array(list)
	} else {
		err = r.lines()
	}
	if err != nil {
		return nil, err
	}
	if len(r.fields) == 0 {
		return nil, &table.Error{Code: table.Empty, File: name, Text: "the file holds no record"}
	}
	return r.image(format)
}

// answer takes the records out of what a service answered that was kept: one object, whose member "value" is the list of them, and whose others
// are about it. An object of objects is no record either: what they go by would be lost.
func (r *reader) answer() (list []byte, is bool, err error) {
	t := bytes.TrimSpace(r.data)
	if len(t) == 0 || t[0] != '{' || t[len(t)-1] != '}' {
		return nil, false, nil
	}
	d := json.NewDecoder(bytes.NewReader(t))
	if _, err := d.Token(); err != nil {
		return nil, false, nil
	}
	members, objects, next := 0, 0, ""
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return nil, false, nil
		}
		var raw json.RawMessage
		if d.Decode(&raw) != nil {
			return nil, false, nil
		}
		text, _ := name.(string)
		about := strings.HasPrefix(text, "@") || strings.HasPrefix(text, "odata.")
		if members++; raw[0] == '{' {
			objects++
		}
		if strings.HasSuffix(strings.ToLower(text), "nextlink") {
			next = text
		}
		if text == "value" && raw[0] == '[' && bytes.HasPrefix(bytes.TrimLeft(raw[1:], " \t\r\n"), []byte("{")) {
			list = raw
		} else if !about {
			is = true // of a record
		}
	}
	if _, err := d.Token(); err != nil || len(bytes.TrimSpace(t[d.InputOffset():])) > 0 {
		return nil, false, nil // another object follows: these are records
	}
	switch {
	case list != nil && !is && next != "":
		return nil, false, &table.Error{Code: table.NoList, File: r.name, Text: "the file is one page of an answer, and more follow (" + next + "): it is not all of the records"}
	case list != nil && !is:
		return list, true, nil
	case objects == members && members > 1:
		return nil, false, &table.Error{Code: table.NoList, File: r.name, Text: "the file is one object of objects, and what these go by is no field: a list of objects is needed, each with its key as a member"}
	}
	return nil, false, nil
}

// reader collects records; each is its row and its cells.
type reader struct {
	name    string
	data    []byte
	fields  []string
	place   map[string]int
	records []object
}

type object struct {
	row   int
	cells []member
}

type member struct {
	field int
	text  string
	null  bool
}

func (r *reader) fail(row int, err error) error {
	return &table.Error{Code: table.Broken, File: r.name, Row: row, Text: "the record is no JSON object: " + err.Error()}
}

func (r *reader) lines() error {
	row := 0
	for line := range bytes.Lines(r.data) {
		row++
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		if err := r.checkText(line, row); err != nil {
			return err
		}
		d := json.NewDecoder(bytes.NewReader(line))
		if err := r.object(d, row); err != nil {
			return r.fail(row, err)
		}
		if _, err := d.Token(); err != io.EOF {
			return r.fail(row, errors.New("something follows it on its line"))
		}
	}
	return nil
}

// checkText refuses what the decoder would silently make U+FFFD of.
func (r *reader) checkText(line []byte, row int) error {
	if !utf8.Valid(line) {
		return &table.Error{Code: table.Broken, File: r.name, Row: row, Text: "the text is not UTF-8, which JSON always is"}
	}
	for from := 0; ; {
		i := bytes.Index(line[from:], []byte(`\u`))
		if i < 0 {
			return nil
		}
		i += from
		from = i + 2
		slashes := 0
		for slashes < i && line[i-1-slashes] == '\\' {
			slashes++
		}
		if slashes%2 == 1 {
			continue // of an escaped backslash
		}
		n, err := strconv.ParseUint(string(line[from:min(from+4, len(line))]), 16, 16)
		if err != nil || !utf16.IsSurrogate(rune(n)) {
			continue
		}
		second, err := uint64(0), error(nil)
		if rest := line[min(from+4, len(line)):]; bytes.HasPrefix(rest, []byte(`\u`)) {
			second, err = strconv.ParseUint(string(rest[2:min(6, len(rest))]), 16, 16)
		}
		if err != nil || utf16.DecodeRune(rune(n), rune(second)) == utf8.RuneError {
			return &table.Error{Code: table.Broken, File: r.name, Row: row, Text: fmt.Sprintf("\\u%04x is half a character", n)}
		}
		from += 10
	}
}

func (r *reader) array(data []byte) error {
	for line, n := range lines(data) {
		if err := r.checkText(line, n); err != nil {
			return err
		}
	}
	d := json.NewDecoder(bytes.NewReader(data))
	if _, err := d.Token(); err != nil {
		return r.fail(1, err)
	}
	row := 0
	for d.More() {
		row++
		if err := r.object(d, row); err != nil {
			return r.fail(row, err)
		}
	}
	if _, err := d.Token(); err != nil {
		return r.fail(row, err)
	}
	if _, err := d.Token(); err != io.EOF {
		return r.fail(row, errors.New("something follows the array"))
	}
	return nil
}

// object reads one object from d.
func (r *reader) object(d *json.Decoder, row int) error {
	t, err := d.Token()
	if err != nil {
		return err
	}
	if t != json.Delim('{') {
		return fmt.Errorf("it starts with %v", t)
	}
	o := object{row: row}
	seen := map[int]bool{}
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return err
		}
		name, _ := t.(string)
		f, known := r.place[name]
		if !known {
			if f = len(r.fields); f == maxFields {
				return fmt.Errorf("there are more than %d fields", maxFields)
			}
			r.place[name] = f
			r.fields = append(r.fields, name)
		}
		if seen[f] {
			return fmt.Errorf("the member %q stands in it twice", name)
		}
		seen[f] = true
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return err
		}
		m, err := value(raw)
		if err != nil {
			return err
		}
		m.field = f
		o.cells = append(o.cells, m)
	}
	if _, err := d.Token(); err != nil {
		return err
	}
	r.records = append(r.records, o)
	return nil
}

// lines gives the lines with their numbers.
func lines(data []byte) iter.Seq2[[]byte, int] {
	return func(yield func([]byte, int) bool) {
		n := 0
		for line := range bytes.Lines(data) {
			if n++; !yield(line, n) {
				return
			}
		}
	}
}

func value(raw json.RawMessage) (member, error) {
	switch raw[0] {
	case 'n':
		return member{null: true}, nil
	case '"':
		if text := raw[1 : len(raw)-1]; !bytes.ContainsFunc(text, func(c rune) bool { return c == '\\' || c >= utf8.RuneSelf }) {
			return member{text: string(text)}, nil
		}
		var s string
		err := json.Unmarshal(raw, &s)
		return member{text: s}, err
	case '{', '[':
		var b bytes.Buffer
		err := json.Compact(&b, raw)
		return member{text: b.String()}, err
	}
	return member{text: string(raw)}, nil
}

// image writes the records as a table whose first row is the heading.
func (r *reader) image(format string) (*table.Image, error) {
	b := csv.Builder{Name: r.name, Came: func() int64 { return int64(len(r.data)) }, Unfolds: 8} // records need not have all fields
	if err := b.Row(1); err != nil {
		return nil, err
	}
	for i, f := range r.fields {
		b.Cell(i, f, true)
	}
	row := make([]*member, len(r.fields))
	for i := range r.records {
		o := &r.records[i]
		if err := b.Row(o.row + 1); err != nil {
			return nil, err
		}
		clear(row)
		for k := range o.cells {
			row[o.cells[k].field] = &o.cells[k]
		}
		for f, m := range row {
			switch {
			case m == nil:
				b.Cell(f, csv.Absent, false)
			case m.null:
				b.Cell(f, "", false)
			default:
				b.Cell(f, m.text, true)
			}
		}
	}
	img, err := b.Image(table.Options{Encoding: "utf-8", HeadingRow: 1}, table.Found{Format: format, Encoding: "utf-8"})
	if err != nil {
		return nil, err
	}
	img.HeadingRow-- // the heading is no row of the source
	img.Nulls = true
	img.Found.HeadingRow = 0
	return img, nil
}
