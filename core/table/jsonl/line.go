package jsonl

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"sync"
	"unicode/utf8"

	"paletwin/core/jsontext"
	"paletwin/core/record"
)

// Record reads one object. Members come in their order; nested values are
// compact JSON, numbers are as they are written.
func Record(line []byte) (record.Record, error) {
	ms, err := members(line)
	if err != nil {
		return nil, err
	}
	r := make(record.Record, len(ms))
	for i, m := range ms {
		v, err := value(m.raw)
		if err != nil {
			return nil, err
		}
		r[i] = record.Field{Name: m.name, Value: record.Text(v.text)}
		if v.null {
			r[i].Value = record.Null()
		}
	}
	return r, nil
}

// rawMember is a member of an object and where its value stands in it.
type rawMember struct {
	name     string
	raw      json.RawMessage
	from, to int
}

// members lists the members of the object that is the whole of line.
func members(line []byte) ([]rawMember, error) {
	if all, ok := quickMembers(line); ok {
		return all, nil
	}
	return slowMembers(line)
}

var readers = sync.Pool{New: func() any { return new(jsontext.Reader) }}

// quickMembers is members for most lines: it gives up those with names that are not Unicode or stand twice, and what is no object.
func quickMembers(line []byte) (all []rawMember, ok bool) {
	if text := bytes.TrimLeft(line, " \t\r\n"); len(text) == 0 || text[0] != '{' {
		return nil, false
	}
	r := readers.Get().(*jsontext.Reader)
	defer func() {
		r.Reset(nil) // the line is its owner's
		readers.Put(r)
	}()
	r.Reset(line)
	err := r.Object(func(name []byte) error {
		if !utf8.Valid(name) || bytes.ContainsRune(name, utf8.RuneError) {
			return errSlow
		}
		m := rawMember{name: r.Known(name)}
		raw, err := r.Raw()
		m.raw, m.to = raw, r.Offset()
		m.from = m.to - len(raw)
		all = append(all, m)
		return err
	})
	if err != nil || r.End() != nil {
		return nil, false
	}
	return all, true
}

var errSlow = errors.New("encoding/json reads it")

func slowMembers(line []byte) ([]rawMember, error) {
	d := json.NewDecoder(bytes.NewReader(line))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, errors.Join(errors.New("the line is no JSON object"), err)
	}
	var all []rawMember
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return nil, err
		}
		m := rawMember{}
		m.name, _ = t.(string)
		if err := d.Decode(&m.raw); err != nil {
			return nil, err
		}
		m.to = int(d.InputOffset())
		m.from = m.to - len(m.raw)
		all = append(all, m)
	}
	if _, err := d.Token(); err != nil {
		return nil, err
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, errors.New("something follows the object on its line")
	}
	return all, nil
}

// Types remembers for each field what type its values have: the first that is
// not null counts. The zero Types knows none.
type Types map[string]byte

// Learn takes in the types of an object's members.
func (t Types) Learn(line []byte) {
	ms, err := members(line)
	if err != nil {
		return
	}
	for _, m := range ms {
		if k := typeOf(m.raw); t[m.name] == 0 && k != 'n' {
			t[m.name] = k
		}
	}
}

// typeOf tells a JSON value's type by its first byte: '"', '{', '[', 'n' for
// null, 't' for true and false, '0' for numbers.
func typeOf(raw []byte) byte {
	switch c := raw[0]; c {
	case '"', '{', '[', 'n', 't':
		return c
	case 'f':
		return 't'
	}
	return '0'
}

// Set returns the object with the fields set, all else as it stands. A value
// keeps the type that stood there, or that the field's values have, where its
// text is such a value to the letter; else it is text. An empty text becomes
// null where the values are no texts.
func Set(line []byte, fields record.Record, types Types) ([]byte, error) {
	ms, err := members(line)
	if err != nil {
		return nil, err
	}
	at := make(map[string]int, len(ms))
	for i, m := range ms {
		at[m.name] = i
	}
	values := make(map[int][]byte)
	var fresh []byte
	for _, f := range fields {
		i, there := at[f.Name]
		if !there {
			if len(ms) > 0 || len(fresh) > 0 {
				fresh = append(fresh, ',')
			}
			fresh = appendMember(fresh, f, types[f.Name])
			continue
		}
		k := typeOf(ms[i].raw)
		if k == 'n' {
			k = types[f.Name]
		}
		values[i] = encode(f.Value, k)
	}
	var out []byte
	from := 0
	for i, m := range ms {
		if v, ok := values[i]; ok {
			out = append(append(out, line[from:m.from]...), v...)
			from = m.to
		}
	}
	end := bytes.LastIndexByte(line, '}')
	out = append(append(out, line[from:end]...), fresh...)
	return append(out, line[end:]...), nil
}

// AppendRecord appends a record as an object on one line, without a line end.
func AppendRecord(dst []byte, r record.Record, types Types) []byte {
	dst = append(dst, '{')
	for i, f := range r {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendMember(dst, f, types[f.Name])
	}
	return append(dst, '}')
}

func appendMember(dst []byte, f record.Field, typ byte) []byte {
	dst = append(jsontext.AppendString(dst, f.Name), ':')
	return append(dst, encode(f.Value, typ)...)
}

// AppendValue appends a value in the type of the field's values, as
// AppendRecord writes it.
func AppendValue(dst []byte, v record.Value, typ byte) []byte { return append(dst, encode(v, typ)...) }

// encode writes a value in the type typ, if that reads back as the same text.
func encode(v record.Value, typ byte) []byte {
	text := []byte(v.String())
	switch {
	case v.IsNull(), v.Blank() && typ != '"' && typ != 0:
		return []byte("null")
	case typ != '"' && typ != 0 && len(bytes.TrimSpace(text)) == len(text) && json.Valid(text) && typeOf(text) == typ:
		if back, err := value(text); err == nil && back.text == v.String() {
			return text
		}
	}
	return jsontext.AppendString(nil, v.String())
}

// Elements says where the objects of an array stand in the file that Open reads as a table: from, to.
func Elements(data []byte) ([][2]int, error) {
	base := len(data) - len(bytes.TrimLeft(bytes.TrimPrefix(data, []byte("\ufeff")), " \t\r\n"))
	if base < len(data) && data[base] == '{' { // what a service answered
		d := json.NewDecoder(bytes.NewReader(data[base:]))
		if _, err := d.Token(); err != nil {
			return nil, err
		}
		from := -1
		for d.More() && from < 0 {
			name, err := d.Token()
			if err != nil {
				return nil, err
			}
			var raw json.RawMessage
			if err := d.Decode(&raw); err != nil {
				return nil, err
			}
			if name == "value" {
				from = int(d.InputOffset()) - len(raw)
			}
		}
		base += max(from, 0)
	}
	d := json.NewDecoder(bytes.NewReader(data[base:]))
	if t, err := d.Token(); err != nil || t != json.Delim('[') {
		return nil, errors.Join(errors.New("the file is no list of objects"), err)
	}
	var all [][2]int
	for d.More() {
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return nil, err
		}
		end := base + int(d.InputOffset())
		all = append(all, [2]int{end - len(raw), end})
	}
	return all, nil
}

// Like writes an object, made by AppendRecord, over as many lines as another one, which is of the same array.
func Like(object, other []byte) []byte {
	first := bytes.IndexByte(other, '\n')
	last := bytes.LastIndexByte(other, '\n')
	if first < 0 {
		return object
	}
	inner := other[first+1:]
	inner = inner[:len(inner)-len(bytes.TrimLeft(inner, " \t"))]
	outer := bytes.TrimRight(other[last+1:], "}")
	if !bytes.HasPrefix(inner, outer) || len(bytes.Trim(outer, " \t")) > 0 {
		return object
	}
	var b bytes.Buffer
	if json.Indent(&b, object, string(outer), string(inner[len(outer):])) != nil {
		return object
	}
	if bytes.Contains(other, []byte("\r\n")) {
		return bytes.ReplaceAll(b.Bytes(), []byte("\n"), []byte("\r\n"))
	}
	return b.Bytes()
}
