package layout

import (
	"fmt"
	"strings"
	"time"

	"paletwin/core/expr"
	"paletwin/core/record"
)

// Equal reports whether a and b are one value of the named field: the same
// bytes, or, with a layout, two forms of one value as its kind says. A blank
// cell of a format without null is no change against null or against the
// empty text.
func (l *Layout) Equal(field string, a, b record.Value) bool {
	if a == b || a.Blank() && b.Blank() {
		return true
	}
	f := l.Field(field)
	return f != nil && f.Same(a.String(), b.String())
}

// Same reports whether two texts are forms of one value of the field.
func (f *Field) Same(a, b string) bool {
	if a == b {
		return true
	}
	if f.Null != "" {
		if a == f.Null {
			a = ""
		}
		if b == f.Null {
			b = ""
		}
	}
	if a == "" || b == "" {
		return a == b
	}
	switch f.Kind {
	case Text:
		return f.Compare.form(a) == f.Compare.form(b)
	case Choice, Reference:
		return f.Compare != Leniency{} && f.Compare.form(a) == f.Compare.form(b)
	}
	x, ok := f.Value(a)
	if !ok {
		return false
	}
	y, ok := f.Value(b)
	return ok && x.Equal(y) == expr.Bool(true)
}

// Canonical returns the one text that all forms of a value of the field have in
// common: two texts are the same to Same if, and only if, theirs are equal. It
// is no value to be written.
func (f *Field) Canonical(text string) string {
	if text == "" || f.Null != "" && text == f.Null {
		return ""
	}
	switch f.Kind {
	case Text, Choice, Reference:
		return "=" + f.Compare.form(text)
	}
	v, ok := f.Value(text)
	if !ok {
		return "=" + text
	}
	switch x := v.(type) {
	case *expr.Number:
		return "#" + x.Canonical()
	case *expr.Date:
		return "#" + x.String()
	case *expr.Moment:
		t, zoned := x.Time()
		return fmt.Sprintf("#%s %t", t.UTC().Format(time.RFC3339Nano), zoned)
	}
	return fmt.Sprintf("#%v", v.Value())
}

// UniqueValue is a value that one record at most may have in a unique field, in
// the form that all its forms have in common.
type UniqueValue struct{ Field, Canonical string }

// Unique returns a value of a field as no two records may have it, and whether
// the field is unique and the value none that is blank.
func (l *Layout) Unique(field string, v record.Value) (UniqueValue, bool) {
	f := l.Field(field)
	if f == nil || !f.Unique || v.Blank() {
		return UniqueValue{}, false
	}
	return UniqueValue{field, f.Canonical(v.String())}, true
}

// form is a text without the differences that are none.
func (l Leniency) form(s string) string {
	if l.Breaks {
		s = strings.ReplaceAll(s, "\r\n", "\n")
		s = strings.ReplaceAll(s, "\r", "\n")
	}
	if l.Spaces {
		s = strings.Join(strings.Fields(s), " ")
	}
	if l.Case {
		s = strings.ToLower(s)
	}
	return s
}

// OneKey returns the key that all forms of a record's key have in common: two
// keys name one record if, and only if, theirs are equal. It is no key to be
// written. Without a layout, and without a form of keys, it is the key.
func (l *Layout) OneKey(k record.Key) record.Key {
	if l == nil || l.KeyForm == (KeyForm{}) {
		return k
	}
	parts := k.Parts()
	for i, p := range parts {
		parts[i] = l.KeyForm.Form(p)
	}
	return record.NewKey(parts...)
}

// Form returns a key's part as it is compared.
func (k KeyForm) Form(part string) string {
	part = k.Write(part)
	if k.FoldCase {
		part = strings.ToLower(part)
	}
	if r := []rune(part); k.Prefix > 0 && len(r) > k.Prefix {
		part = string(r[:k.Prefix])
	}
	return part
}

// Write returns a part of a new key as keys are written: without outer spaces,
// with its leading zeros.
func (k KeyForm) Write(part string) string {
	if k.Trim {
		part = strings.TrimSpace(part)
	}
	if k.Zeros > 0 && len(part) < k.Zeros && part != "" && strings.Trim(part, "0123456789") == "" {
		part = strings.Repeat("0", k.Zeros-len(part)) + part
	}
	return part
}
