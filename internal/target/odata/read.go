package odata

import (
	"bytes"
	"cmp"
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
	"paletwin/internal/target/spool"
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
	if len(rows) > 0 {
		s.shows(slices.ContainsFunc(s.etags, func(e string) bool { return e != "" }))
	}
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
	return nil, &Error{Name: s.Name(), Code: Moving, Text: fmt.Sprintf("its records change while they are read, also when they are read once more: %s", why)}
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
			return nil, 0, &Error{Name: s.Name(), Code: Foreign, Text: "the service's pages lead in a circle"}
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
	d := decoder(body)
	var of scratch
	values := false
	err := odata.Members(d, func(name string) (err error) {
		control := strings.TrimPrefix(strings.TrimPrefix(name, "@"), "odata.")
		switch {
		case name == "value":
			values = true
			err = odata.Elements(d, func() error { return s.record(d, body, &of, rows) })
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
		return nil, &Error{Name: s.Name(), Code: Foreign, Text: "what the service answers is no page of records: " + err.Error()}
	}
	return p, nil
}

// record reads a record of a page; rows is nil where they are not asked for.
func (s *Set) record(d *jsontext.Decoder, body []byte, of *scratch, rows *[]row) error {
	if rows == nil {
		return d.SkipValue()
	}
	r, err := s.row(d, body, of)
	*rows = append(*rows, r)
	return err
}

// scan reads a record's JSON, which d reads from whole: raw gets the value of each property, nil where it is lacking.
func (s *Set) scan(d *jsontext.Decoder, whole []byte, raw []jsontext.Value) (etag string, err error) {
	if t, err := d.ReadToken(); err != nil || t.Kind() != '{' {
		return "", cmp.Or(err, errors.New("an object is expected"))
	}
	for d.PeekKind() != '}' {
		name, err := d.ReadValue()
		if err != nil {
			return "", err
		}
		i, known := s.typ.at[string(name[1:len(name)-1])]
		control := !known && len(name) > 6 && name[1] == '@' && bytes.HasSuffix(name, []byte(`etag"`))
		if !known && !control {
			if bytes.IndexByte(name, '\\') >= 0 { // which may spell a known one
				i, known = s.typ.at[odata.Unquoted(name)]
			}
		}
		v, err := d.ReadValue()
		if err != nil {
			return "", err
		}
		switch {
		case control && v.Kind() == '"':
			etag = odata.Unquoted(v)
		case known && raw[i] != nil:
			return "", fmt.Errorf("a record has %s twice", s.typ.properties[i].Name)
		case known:
			raw[i] = whole[d.InputOffset()-int64(len(v)) : d.InputOffset()]
		}
	}
	_, err = d.ReadToken()
	return etag, err
}

// decoder reads JSON. Names that stand twice in an object are found by scan.
func decoder(body []byte) *jsontext.Decoder {
	return jsontext.NewDecoder(bytes.NewBuffer(body), jsontext.AllowDuplicateNames(true))
}

// entity reads a record's JSON: the values of the properties, in their order. One that it lacks is null; has says which it has.
func (s *Set) entity(body []byte) (values []record.Value, has []bool, err error) {
	raw := make([]jsontext.Value, len(s.typ.properties))
	if _, err := s.scan(decoder(body), body, raw); err != nil {
		return nil, nil, err
	}
	values, has = make([]record.Value, len(raw)), make([]bool, len(raw))
	for i, v := range raw {
		if has[i] = v != nil; v == nil || v.Kind() == 'n' {
			values[i] = record.Null()
			continue
		}
		text, err := s.text(i, v)
		if err != nil {
			return nil, nil, err
		}
		values[i] = record.Text(string(text))
	}
	return values, has, nil
}

// scratch is what is used anew for each record of a page.
type scratch struct {
	raw  []jsontext.Value
	line []byte
}

// row reads a record as a row. A property that it lacks is null.
func (s *Set) row(d *jsontext.Decoder, whole []byte, of *scratch) (r row, err error) {
	if of.raw == nil {
		of.raw = make([]jsontext.Value, len(s.typ.properties))
	}
	raw := of.raw
	clear(raw)
	if r.etag, err = s.scan(d, whole, raw); err != nil {
		return r, err
	}
	cells := of.line[:0]
	for i, v := range raw {
		if i > 0 {
			cells = append(cells, ',')
		}
		if v == nil || v.Kind() == 'n' {
			continue
		}
		text, err := s.text(i, v)
		if err != nil {
			return r, err
		}
		cells = spool.AppendCell(cells, text)
	}
	of.line = cells
	r.cells = bytes.Clone(cells)
	for n, k := range s.key {
		if n > 0 {
			r.key += "\x00"
		}
		if v := raw[k]; v != nil && v.Kind() != 'n' {
			text, err := s.text(k, v)
			if err != nil {
				return r, err
			}
			r.key += string(text)
		}
	}
	return r, nil
}

// text is a property's JSON value, which is not null, as the text that stands for it: a string's text, a number's digits, true; of an object
// or a list its JSON. It may be a part of the JSON.
func (s *Set) text(i int, v jsontext.Value) ([]byte, error) {
	switch v.Kind() {
	case '"':
		if inner := v[1 : len(v)-1]; bytes.IndexByte(inner, '\\') < 0 {
			return inner, nil
		}
		b, err := jsontext.AppendUnquote(nil, v)
		if err == nil && bytes.IndexByte(b, 0) >= 0 {
			err = fmt.Errorf("%s has a NUL sign, which no file could hold", s.typ.properties[i].Name)
		}
		return b, err
	case '{', '[':
		v = v.Clone()
		return v, v.Compact()
	}
	return v, nil
}
