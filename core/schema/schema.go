// Package schema says what the records of a record set are: which fields they
// have, of what kind their values are, when two values are one, when two keys
// are, and which fields the system writes itself. Every other package asks
// here and decides nothing of the sort itself.
//
// A layout has a schema. Where there is no layout there is one, too: its
// fields are texts, and equal means equal bytes.
package schema

import (
	"slices"
	"strings"

	"paletwin/core/record"
)

// Schema is what is known of a record set's fields and keys. It does not
// change. The zero Schema knows of no field: all are texts.
type Schema struct {
	KeyForm KeyForm
	// Tells says that null and the empty text are two values, because everything the
	// records are in tells them apart.
	Tells bool

	key    []string
	fields []*Field
	byName map[string]*Field
}

// New makes a schema of the names of the key fields, of the form that their values
// have, and of what is known of fields, which it keeps.
func New(key []string, form KeyForm, fields []*Field) *Schema {
	s := &Schema{KeyForm: form, key: key, fields: fields, byName: make(map[string]*Field, len(fields))}
	for _, f := range fields {
		s.byName[f.Name] = f
	}
	return s
}

// text is what a field is of which nothing is known.
var text = &Field{Kind: Text, Scale: -1, Access: Free}

// Field returns the named field. One of which nothing is known is a text.
func (s *Schema) Field(name string) *Field {
	if f := s.byName[name]; f != nil {
		return f
	}
	return text
}

// Equal reports whether a and b are one value of the named field: the same
// bytes, or two forms of one value as its kind, or the form of keys, says. A blank
// cell of a format without null is no change against null or against the empty text,
// unless the schema Tells them apart.
func (s *Schema) Equal(field string, a, b record.Value) bool {
	if s.Tells && a.Blank() && b.Blank() {
		return a.IsNull() == b.IsNull()
	}
	if a == b || s.Field(field).Same(a.String(), b.String()) {
		return true
	}
	return !s.OneForm() && slices.Contains(s.key, field) && s.KeyForm.Form(a.String()) == s.KeyForm.Form(b.String())
}

// Telling is the schema by which null and the empty text are two values.
func (s *Schema) Telling() *Schema {
	t := *s
	t.Tells = true
	return &t
}

// Assigned reports whether the system gives new records their keys.
func (s *Schema) Assigned() bool { return len(s.key) == 1 && s.Field(s.key[0]).Assigned }

// newMark is what the key of a new record begins with that has none yet.
const newMark = "new:"

// NewKey is the key by which a new record goes until the system gives it one; name
// is what it is called in the copy, or says where it stands there.
func NewKey(name string) record.Key { return record.NewKey(newMark + name) }

// IsNew reports whether a key is one of NewKey.
func IsNew(k record.Key) bool {
	p := k.Parts()
	return len(p) == 1 && strings.HasPrefix(p[0], newMark)
}

// Named is a value with the key that a new record got in the place of what the record went
// by, if it is that; keys are the keys by these.
func Named(v record.Value, keys map[string]string) (record.Value, bool) {
	k, known := keys[v.String()]
	if !known {
		return v, false
	}
	return record.Text(k), true
}

// UniqueValue is a value that one record at most may have in a unique field, in
// the form that all its forms have in common.
type UniqueValue struct{ Field, Canonical string }

// UniqueFields lists the fields in which no two records have one value.
func (s *Schema) UniqueFields() []string {
	var all []string
	for _, f := range s.fields {
		if f.Unique {
			all = append(all, f.Name)
		}
	}
	return all
}

// Unique returns a value of a field as no two records may have it, and whether
// the field is unique and the value none that is blank.
func (s *Schema) Unique(field string, v record.Value) (UniqueValue, bool) {
	f := s.Field(field)
	if !f.Unique || v.Blank() {
		return UniqueValue{}, false
	}
	return UniqueValue{field, f.Canonical(v.String())}, true
}

// System lists the fields that the system writes itself.
func (s *Schema) System() []string {
	var all []string
	for _, f := range s.fields {
		if f.Access == System {
			all = append(all, f.Name)
		}
	}
	return all
}

// OneForm reports whether a key has one form: what is written otherwise is another
// key.
func (s *Schema) OneForm() bool { return s.KeyForm == KeyForm{} }

// Key returns the normalised key: that which all forms of a record's key have in
// common. Two keys name one record if, and only if, theirs are equal. It is no
// key to be written.
func (s *Schema) Key(k record.Key) record.Key {
	if s.OneForm() {
		return k
	}
	parts := k.Parts()
	for i, p := range parts {
		parts[i] = s.KeyForm.Form(p)
	}
	return record.NewKey(parts...)
}

// HasKey reports whether one of the keys names the record of key.
func (s *Schema) HasKey(keys []record.Key, key record.Key) bool {
	one := s.Key(key)
	return slices.ContainsFunc(keys, func(k record.Key) bool { return s.Key(k) == one })
}
