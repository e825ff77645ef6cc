package odata

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"paletwin/core/record"
	"paletwin/core/table/csv"
	"paletwin/internal/odata"
)

// row is a record as it was read: its cells as CSV, without a line end, and by what it is sorted and told apart.
type row struct {
	key   string // its parts, encoded
	cells []byte
	etag  string // as it came; "" is none
}

// passes is how often a set is read that changes while it is.
const passes = 4

// take reads all pages, and writes the records in the byte order of their keys' texts.
func (s *Set) take(ctx context.Context, w io.Writer) (int64, error) {
	read := s.steady
	if s.only != nil {
		read = s.some
	}
	rows, err := read(ctx)
	if err != nil {
		return 0, err
	}
	var line []byte
	for i, p := range s.typ.properties {
		if i > 0 {
			line = append(line, ',')
		}
		line = csv.AppendCell(line, p.Name, ',', false)
	}
	if _, err := w.Write(append(line, '\n')); err != nil {
		return 0, err
	}
	s.etags = make([]string, len(rows))
	for i := range rows {
		s.etags[i] = rows[i].etag
		if _, err := w.Write(append(rows[i].cells, '\n')); err != nil {
			return 0, err
		}
	}
	s.tagged = len(rows) == 0 || slices.ContainsFunc(s.etags, func(e string) bool { return e != "" })
	return int64(len(rows)), nil
}

// steady reads the set until what was read is one state of it, as far as can be told: no record twice, and as many as
// the service counted before and after. Pages that begin at a place lose and repeat records while others write.
func (s *Set) steady(ctx context.Context) ([]row, error) {
	var why string
	for range passes {
		rows, counted, err := s.pages(ctx)
		if err != nil {
			return nil, err
		}
		slices.SortStableFunc(rows, func(a, b row) int { return strings.Compare(a.key, b.key) })
		again, err := s.count(ctx)
		if err != nil {
			return nil, err
		}
		twice := ""
		for i := 1; i < len(rows) && len(s.key) > 0; i++ {
			if rows[i].key == rows[i-1].key {
				twice = record.KeyOf([]byte(encoded(rows[i].key))).String()
			}
		}
		switch {
		case twice != "":
			why = "the record " + twice + " is on two pages"
		case counted >= 0 && counted != len(rows):
			why = fmt.Sprintf("the service counts %d records, and its pages have %d", counted, len(rows))
		case again >= 0 && counted >= 0 && again != counted:
			why = fmt.Sprintf("there were %d records when it was begun, and %d in the end", counted, again)
		default:
			return rows, nil
		}
	}
	return nil, &Error{s.Name(), Moving, fmt.Sprintf("its records change while they are read, also when they are read once more: %s", why)}
}

// sortKey is a key by which rows are sorted; encoded is its inverse.
func sortKey(k record.Key) string { return strings.Join(k.Parts(), "\x00") }

// encoded is a sorted key as record.Key encodes it.
func encoded(key string) string {
	var enc []byte
	for _, part := range strings.Split(key, "\x00") {
		enc = record.AppendPart(enc, part)
	}
	return string(enc)
}

// count asks how many records there are; -1 where the service does not say.
func (s *Set) count(ctx context.Context) (int, error) {
	u, err := s.c.resolve(url.PathEscape(s.at.Set)+"?$count=true&$top=0", s.c.root)
	if err != nil {
		return 0, err
	}
	r, err := s.c.get(ctx, u)
	if err != nil {
		if e, ok := err.(*Error); ok && e.Code == Refused { // which is its right
			return -1, nil
		}
		return 0, err
	}
	p, err := s.page(r.body, nil)
	if err != nil {
		return 0, err
	}
	return p.count, nil
}

// pages reads all pages; counted is how many records the service says that there are, -1 where it does not.
func (s *Set) pages(ctx context.Context) (rows []row, counted int, err error) {
	query := "?$count=true"
	u, err := s.c.resolve(url.PathEscape(s.at.Set)+query, s.c.root)
	if err != nil {
		return nil, 0, err
	}
	counted = -1
	seen := map[string]bool{}
	for u != nil {
		if seen[u.String()] {
			return nil, 0, &Error{s.Name(), Foreign, "the service's pages lead in a circle"}
		}
		seen[u.String()] = true
		r, err := s.c.get(ctx, u, odata.Header{Name: "Prefer", Value: "odata.maxpagesize=5000"})
		if e, ok := err.(*Error); ok && e.Code == Refused && query != "" && len(rows) == 0 { // it may not count
			query = ""
			if u, err = s.c.resolve(url.PathEscape(s.at.Set), s.c.root); err != nil {
				return nil, 0, err
			}
			continue
		}
		if err != nil {
			return nil, 0, err
		}
		p, err := s.page(r.body, &rows)
		if err != nil {
			return nil, 0, err
		}
		if p.count >= 0 && counted < 0 {
			counted = p.count
		}
		if p.next == "" {
			break
		}
		if u, err = s.c.resolve(p.next, u); err != nil {
			return nil, 0, err
		}
	}
	return rows, counted, nil
}

// page is what stands around a page's records.
type page struct {
	count int // -1 is not said
	next  string
}

// page reads a page's JSON, and appends its records to rows.
func (s *Set) page(body []byte, rows *[]row) (*page, error) {
	p := &page{count: -1}
	d := jsontext.NewDecoder(bytes.NewBuffer(body))
	values := false
	err := odata.Members(d, func(name string) (err error) {
		control := strings.TrimPrefix(strings.TrimPrefix(name, "@"), "odata.")
		switch {
		case name == "value":
			values = true
			err = odata.Elements(d, func() error { return s.record(d, rows) })
		case strings.HasPrefix(name, "@") && control == "nextLink":
			var v jsontext.Token
			v, err = d.ReadToken()
			p.next = v.String()
		case strings.HasPrefix(name, "@") && control == "count":
			var v jsontext.Value
			v, err = d.ReadValue()
			if n, no := strconv.Atoi(string(bytes.Trim(v, `"`))); no == nil {
				p.count = n
			}
		default:
			err = d.SkipValue()
		}
		return err
	})
	if err == nil && !values {
		err = errors.New("it has no value")
	}
	if err != nil {
		return nil, &Error{s.Name(), Foreign, "what the service answers is no page of records: " + err.Error()}
	}
	return p, nil
}

// record reads a record of a page; rows is nil where they are not asked for.
func (s *Set) record(d *jsontext.Decoder, rows *[]row) error {
	v, err := d.ReadValue()
	if err != nil || rows == nil {
		return err
	}
	r, err := s.row(v)
	*rows = append(*rows, r)
	return err
}

// entity reads a record's JSON: the values of the properties, in their order, and its ETag. A property that it lacks is null; has says which it has.
func (s *Set) entity(raw []byte) (values []record.Value, has []bool, etag string, err error) {
	values, has = make([]record.Value, len(s.typ.properties)), make([]bool, len(s.typ.properties))
	for i := range values {
		values[i] = record.Null()
	}
	d := jsontext.NewDecoder(bytes.NewBuffer(raw))
	err = odata.Members(d, func(name string) error {
		i := s.typ.property(name)
		if i < 0 && (name == "@odata.etag" || name == "@etag") {
			v, err := d.ReadValue()
			if err == nil && v.Kind() == '"' {
				etag = odata.Unquoted(v)
			}
			return err
		}
		if i < 0 {
			return d.SkipValue()
		}
		has[i] = true
		v, err := d.ReadValue()
		if err != nil {
			return err
		}
		if values[i], err = text(v); err == nil && strings.ContainsRune(values[i].String(), 0) {
			err = fmt.Errorf("%s has a NUL sign, which no file could hold", name)
		}
		return err
	})
	return values, has, etag, err
}

// row reads a record of a page.
func (s *Set) row(raw []byte) (r row, err error) {
	values, _, etag, err := s.entity(raw)
	if err != nil {
		return r, err
	}
	r.etag = etag
	for n, k := range s.key {
		if n > 0 {
			r.key += "\x00"
		}
		r.key += values[k].String()
	}
	for i, v := range values {
		if i > 0 {
			r.cells = append(r.cells, ',')
		}
		r.cells = appendValue(r.cells, v)
	}
	return r, nil
}

// appendValue appends a cell, as table.Taken reads it.
func appendValue(cells []byte, v record.Value) []byte {
	if v.IsNull() {
		return cells
	}
	return csv.AppendCell(cells, v.String(), ',', v.String() == "")
}

// text is a JSON value as the text that stands for it: a string's text, a number's digits, true, null; of an object or a list
// its JSON.
func text(v jsontext.Value) (record.Value, error) {
	switch v.Kind() {
	case 'n':
		return record.Null(), nil
	case '"':
		b, err := jsontext.AppendUnquote(nil, v)
		return record.Text(string(b)), err
	case '{', '[':
		v = v.Clone()
		if err := v.Compact(); err != nil {
			return record.Value{}, err
		}
	}
	return record.Text(string(v)), nil
}
