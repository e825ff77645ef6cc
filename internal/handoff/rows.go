package handoff

import (
	"bytes"
	"encoding/json"
	"io"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table/csv"
	"paletwin/core/table/jsonl"
	"paletwin/core/table/open"
	"paletwin/internal/target"
)

// columns are those of a load file that is a table: the key's, and the fields
// that are sent.
type columns struct {
	s      *System
	key    []*layout.Wording
	fields []string
	words  []*layout.Wording
}

func (s *System) columns(l *load) columns {
	c := columns{s: s, fields: l.fields}
	for _, k := range s.Key {
		c.key = append(c.key, s.word(k))
	}
	for _, f := range l.fields {
		c.words = append(c.words, s.word(f))
	}
	return c
}

// cell is the text that is sent of a column of a step's record.
func (c *columns) cell(st *target.Step, i int) string {
	v, changed, _ := c.s.sent(st, c.fields[i])
	if !v.Blank() {
		return c.words[i].Write(v)
	}
	if !changed {
		return ""
	}
	empty, _ := c.words[i].Empty()
	return empty
}

// separated is the form of CSV files: RFC 4180, in the delimiter, encoding
// and line ends of the export unless others were asked for.
type separated struct{ columns }

func (f *separated) ext() string { return ".csv" }

func (f *separated) end(dst []byte) []byte {
	if f.s.LineEnds == "crlf" {
		dst = append(dst, '\r')
	}
	return append(dst, '\n')
}

func (f *separated) head() []byte {
	var dst []byte
	if f.s.enc.mark {
		dst = append(dst, "\ufeff"...)
	}
	for i, w := range append(append([]*layout.Wording(nil), f.key...), f.words...) {
		dst = f.put(dst, w.Heading, i)
	}
	return f.end(dst)
}

func (f *separated) put(dst []byte, text string, i int) []byte {
	if i > 0 {
		dst = append(dst, f.s.Delimiter)
	}
	return csv.AppendCell(dst, text, f.s.Delimiter, false)
}

// keyParts are the parts of a step's key as they are sent: of a new record to which the system gives its key
// there is none yet.
func keyParts(st *target.Step) []string {
	if schema.IsNew(st.Key) {
		return []string{""}
	}
	return st.Key.Parts()
}

func (f *separated) record(dst []byte, st *target.Step) []byte {
	for i, part := range keyParts(st) {
		dst = f.put(dst, f.key[i].Write(record.Text(part)), i)
	}
	for i := range f.fields {
		dst = f.put(dst, f.cell(st, i), len(f.key)+i)
	}
	return f.end(dst)
}

func (f *separated) tail(int) []byte { return nil }

// jsonlines is the form of JSON Lines: an object a record, with the members
// that are sent. What empties a field is null.
type jsonlines struct {
	columns
	types jsonl.Types
}

func (s *System) jsonlines(l *load) *jsonlines {
	c := s.columns(l)
	return &jsonlines{c, s.types(c.fields, c.words)}
}

func (f *jsonlines) ext() string { return ".jsonl" }

func (f *jsonlines) head() []byte { return nil }

func (f *jsonlines) record(dst []byte, st *target.Step) []byte {
	var r record.Record
	for i, part := range keyParts(st) {
		if part == "" && schema.IsNew(st.Key) {
			continue
		}
		r = append(r, record.Field{Name: f.key[i].Heading, Value: record.Text(f.key[i].Write(record.Text(part)))})
	}
	for i, field := range f.fields {
		v, _, there := f.s.sent(st, field)
		if there {
			r = append(r, record.Field{Name: f.words[i].Heading, Value: outValue(f.words[i], v)})
		}
	}
	return append(jsonl.AppendRecord(dst, r, f.types), '\n')
}

func (f *jsonlines) tail(int) []byte { return nil }

// jsonarray is the form of an array of the objects that JSON Lines have, one a line.
type jsonarray struct {
	*jsonlines
	begun bool // a record stands there already
}

func (f *jsonarray) ext() string { return ".json" }

func (f *jsonarray) head() []byte {
	f.begun = false
	return []byte("[")
}

func (f *jsonarray) record(dst []byte, st *target.Step) []byte {
	if f.begun {
		dst = append(dst, ',')
	}
	f.begun = true
	dst = f.jsonlines.record(append(dst, '\n'), st)
	return dst[:len(dst)-1] // the line's end stands before the next one
}

func (f *jsonarray) tail(int) []byte { return []byte("\n]\n") }

// outValue is a value in the system's words; a blank one is null.
func outValue(w *layout.Wording, v record.Value) record.Value {
	if v.Blank() {
		return record.Null()
	}
	return record.Text(w.Write(v))
}

// types are the JSON types of fields, by what the system calls them: as its
// export has them where that is JSON, else numbers and truth values where the
// layout knows them to be such.
func (s *System) types(fields []string, words []*layout.Wording) jsonl.Types {
	types := jsonl.Types{}
	for i, name := range fields {
		kind := schema.Text
		if f := s.Layout.Field(name); f != nil {
			kind = f.Kind
		}
		switch {
		case s.seen[name] != 0:
			types[words[i].Heading] = s.seen[name]
		case kind == schema.Integer, kind == schema.Decimal:
			types[words[i].Heading] = '0'
		case kind == schema.Boolean:
			types[words[i].Heading] = 't'
		}
	}
	return types
}

// learned is how many records of an export tell the types of its fields.
const learned = 1000

// learn takes in the types of an export that is JSON, an object a line or an
// array of objects.
func (s *System) learn() {
	s.seen = jsonl.Types{}
	raw := s.Export.Raw
	if f := s.Export.Image.Found.Format; f == "jsonl" {
		n := 0
		for line := range bytes.Lines(raw) {
			if n++; n > learned {
				return
			}
			s.seen.Learn(line)
		}
	} else if f == "json" {
		d := json.NewDecoder(bytes.NewReader(raw))
		if _, err := d.Token(); err != nil {
			return
		}
		for n := 0; n < learned && d.More(); n++ {
			var object json.RawMessage
			if d.Decode(&object) != nil {
				return
			}
			s.seen.Learn(object)
		}
	}
}

// workbook is the form of XLSX and ODS files, in which every cell is text.
type workbook struct{ columns }

func (f *workbook) ext() string { return "." + string(f.s.Form) }

func (f *workbook) write(w io.Writer, steps []*target.Step) (int, error) {
	x := open.Spreadsheet(string(f.s.Form), w)
	x.Name, x.Sheet = f.s.Set, "records"
	var row []record.Value
	for _, c := range append(append([]*layout.Wording(nil), f.key...), f.words...) {
		row = append(row, record.Text(c.Heading))
	}
	if err := x.Write(row); err != nil {
		return 0, err
	}
	n := len(steps)
	if f.s.MaxRecords > 0 {
		n = min(n, f.s.MaxRecords)
	}
	for i := range steps[:n] {
		row = row[:0]
		for k, part := range keyParts(steps[i]) {
			row = append(row, record.Text(f.key[k].Write(record.Text(part))))
		}
		for k := range f.fields {
			row = append(row, record.Text(f.cell(steps[i], k)))
		}
		if err := x.Write(row); err != nil {
			return 0, err
		}
	}
	return n, x.Close()
}

// sentAll lists what is sent of a whole record that comes: all fields that
// may be set, with the key's.
func (s *System) sentAll(st *target.Step) record.Record {
	var r record.Record
	for i, k := range s.Key {
		r = append(r, record.Field{Name: k, Value: record.Text(st.Key.Parts()[i])})
	}
	for _, f := range s.settable([]*target.Step{st}) {
		v, _ := st.Record.Get(f)
		r = append(r, record.Field{Name: f, Value: v})
	}
	return r
}

// guards lists what a record must still have for a step to be carried out:
// the old values of an amend, every field of a delete that is not the
// system's own.
func (s *System) guards(st *target.Step) record.Record {
	var r record.Record
	for _, f := range st.Fields {
		r = append(r, record.Field{Name: f.Field, Value: f.From})
	}
	if st.Act != changeset.Delete {
		return r
	}
	isKey := map[string]bool{}
	for _, k := range s.Key {
		isKey[k] = true
	}
	for _, f := range st.Record {
		if lf := s.Layout.Field(f.Name); !isKey[f.Name] && (lf == nil || lf.Access != schema.System) {
			r = append(r, f)
		}
	}
	return r
}
