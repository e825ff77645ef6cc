// Package record holds the small values that everything else is made of:
// the value of one field, the key of one record, and a record's fields in
// order. It knows nothing of files, layouts or changes.
package record

import (
	"encoding/binary"
	"strconv"
	"strings"
)

// Value is the content of one field: text, or null where the source knows
// null. The zero Value is the empty text. Values are comparable with ==,
// which asks for the same bytes and the same nullness; whether two values
// mean the same is the layout's to say (layout.Equal).
type Value struct {
	text string
	null bool
}

// Text returns a Value holding s, which is UTF-8.
func Text(s string) Value { return Value{text: s} }

// Null returns the null Value.
func Null() Value { return Value{null: true} }

// IsNull reports whether v is null.
func (v Value) IsNull() bool { return v.null }

// Blank reports whether v is null or the empty text.
func (v Value) Blank() bool { return v.text == "" }

// String returns the text of v; null gives "".
func (v Value) String() string { return v.text }

// Quoted writes the value for a reason in words: null, empty, or its text in quotes.
func (v Value) Quoted() string {
	switch {
	case v.IsNull():
		return "null"
	case v.Blank():
		return "empty"
	}
	return strconv.Quote(v.text)
}

// Field is one named value of a record.
type Field struct {
	Name  string
	Value Value
}

// Record is a record's fields in the order of its source. A field that is
// not listed is absent, which is not the same as empty.
type Record []Field

// Get returns the value of the named field and whether the record has it.
func (r Record) Get(name string) (Value, bool) {
	for i := range r {
		if r[i].Name == name {
			return r[i].Value, true
		}
	}
	return Value{}, false
}

// Finder returns Get for many questions: quick for a record of many fields,
// too.
func (r Record) Finder() func(name string) (Value, bool) {
	const few = 32
	if len(r) <= few {
		return r.Get
	}
	m := make(map[string]Value, len(r))
	for _, f := range r {
		m[f.Name] = f.Value
	}
	return func(name string) (Value, bool) {
		v, ok := m[name]
		return v, ok
	}
}

// Set replaces the named field's value, or appends the field.
func (r *Record) Set(name string, v Value) {
	for i := range *r {
		if (*r)[i].Name == name {
			(*r)[i].Value = v
			return
		}
	}
	*r = append(*r, Field{name, v})
}

// Clone returns a copy that shares nothing with r.
func (r Record) Clone() Record { return append(Record(nil), r...) }

// Key identifies one record: the values of its key fields in order. It is
// comparable and usable as a map key; the zero Key has no parts. Its
// encoding puts each part's length before it, so that the parts
// ("a,b", "c") and ("a", "b,c") make different keys.
type Key struct{ enc string }

// NewKey returns the key with the given parts.
func NewKey(parts ...string) Key {
	n := 0
	for _, p := range parts {
		n += len(p) + 2
	}
	b := make([]byte, 0, n)
	for _, p := range parts {
		b = AppendPart(b, p)
	}
	return Key{string(b)}
}

// KeyOf returns the key whose encoding, made with AppendPart, is enc.
func KeyOf(enc []byte) Key { return Key{string(enc)} }

// AppendPart appends a key part's encoding, its length as a varint and then
// its bytes, to dst.
func AppendPart[T string | []byte](dst []byte, part T) []byte {
	dst = binary.AppendUvarint(dst, uint64(len(part)))
	return append(dst, part...)
}

// IsZero reports whether k has no parts.
func (k Key) IsZero() bool { return k.enc == "" }

// Encoding returns the parts with their lengths before them, as AppendPart
// makes them.
func (k Key) Encoding() string { return k.enc }

// Compare orders keys by their parts.
func (k Key) Compare(other Key) int {
	a, b := k.enc, other.enc
	for a != "" && b != "" {
		var x, y string
		x, a = CutPart(a)
		y, b = CutPart(b)
		if c := strings.Compare(x, y); c != 0 {
			return c
		}
	}
	return len(a) - len(b)
}

// Parts returns the key's parts.
func (k Key) Parts() []string {
	var parts []string
	for rest := k.enc; rest != ""; {
		var part string
		part, rest = CutPart(rest)
		parts = append(parts, part)
	}
	return parts
}

// Blank reports whether any part of k is empty; such a key identifies
// nothing.
func (k Key) Blank() bool { return BlankKey([]byte(k.enc)) }

// BlankKey reports whether any part of the key with an encoding is empty, or there is none.
func BlankKey(enc []byte) bool {
	for rest := enc; len(rest) > 0; {
		n, w := binary.Uvarint(rest)
		if n == 0 {
			return true
		}
		rest = rest[w+int(n):]
	}
	return len(enc) == 0
}

// String returns the parts joined with a comma, for people.
func (k Key) String() string { return strings.Join(k.Parts(), ", ") }
