package handoff

import (
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/jsontext"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table/jsonl"
	"paletwin/internal/target"
)

// patches is the form of JSON Patch (RFC 6902): a line a record, with its act,
// its key and the patch of its document. Every patch tests the old values
// first, so that a record which has moved is left alone.
type patches struct{ s *System }

func (f *patches) ext() string { return ".jsonl" }

func (f *patches) head() []byte { return nil }

func (f *patches) tail(int) []byte { return nil }

func (f *patches) record(dst []byte, st *target.Step) []byte {
	dst = append(dst, `{"act":"`...)
	dst = append(append(dst, st.Act.String()...), `","key":`...)
	dst = f.object(dst, f.key(st))
	dst = append(dst, `,"patch":[`...)
	first := true
	op := func(op, path string, value []byte) {
		if !first {
			dst = append(dst, ',')
		}
		first = false
		dst = append(append(dst, `{"op":"`...), op...)
		dst = jsontext.AppendString(append(dst, `","path":`...), path)
		if value != nil {
			dst = append(append(dst, `,"value":`...), value...)
		}
		dst = append(dst, '}')
	}
	for _, g := range f.s.guards(st) {
		op("test", f.path(g.Name), f.value(g.Name, g.Value))
	}
	switch st.Act {
	case changeset.Amend:
		for _, c := range st.Fields {
			op("replace", f.path(c.Field), f.value(c.Field, c.To))
		}
	case changeset.Add:
		op("add", "", f.object(nil, f.s.sentAll(st)))
	case changeset.Delete:
		op("remove", "", nil)
	}
	return append(dst, "]}\n"...)
}

func (f *patches) key(st *target.Step) record.Record {
	var r record.Record
	for i, part := range st.Key.Parts() {
		r = append(r, record.Field{Name: f.s.Key[i], Value: record.Text(part)})
	}
	return r
}

var pointerEscapes = strings.NewReplacer("~", "~0", "/", "~1")

// path is the JSON Pointer (RFC 6901) of a field.
func (f *patches) path(field string) string {
	return "/" + pointerEscapes.Replace(f.s.word(field).Heading)
}

// value is a value as JSON, in the system's words.
func (f *patches) value(field string, v record.Value) []byte {
	w := f.s.word(field)
	return jsonl.AppendValue(nil, outValue(w, v), f.s.types([]string{field}, []*layout.Wording{w})[w.Heading])
}

func (f *patches) object(dst []byte, r record.Record) []byte {
	out := make(record.Record, len(r))
	types := jsonl.Types{}
	for i, x := range r {
		w := f.s.word(x.Name)
		out[i] = record.Field{Name: w.Heading, Value: outValue(w, x.Value)}
		for name, t := range f.s.types([]string{x.Name}, []*layout.Wording{w}) {
			types[name] = t
		}
	}
	return jsonl.AppendRecord(dst, out, types)
}
