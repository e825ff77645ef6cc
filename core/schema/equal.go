package schema

import (
	"fmt"
	"strings"
	"time"

	"paletwin/core/expr"
)

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
		return f.Compare.Normal(a) == f.Compare.Normal(b)
	case Choice, Reference:
		return f.Compare != Leniency{} && f.Compare.Normal(a) == f.Compare.Normal(b)
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
		return "=" + f.Compare.Normal(text)
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

// Leniency says which differences between texts are none.
type Leniency struct{ Case, Spaces, Breaks bool }

// Normal is a text without the differences that are none.
func (l Leniency) Normal(s string) string {
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
