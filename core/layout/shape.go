package layout

import (
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// Shape says in which other shape tables of the record set come, beside the one with a row a
// record. A table whose headings are not of that shape is read as any other.
type Shape struct {
	Long *Long
	Wide *Wide
}

// Long is a table with a row for each field of a record: beside the key's columns one with the
// field's name, one with its value, and perhaps one with what the value was.
type Long struct {
	Field, Value string
	Old          string // "" where none says what was there
}

// Wide is a table in which a field of the key stands in the headings: of a set with a record for
// each item and month a row an item and a column a month.
type Wide struct {
	Key      string            // the field that the headings hold
	Value    string            // the field that the cells hold
	Headings map[string]string // what headings stand for that are not written as the field
}

// shape reads the clause.
func (p *reader) shape(n ast.Node) {
	entries := p.mapping(n, "shape", []string{"long", "wide"})
	if len(entries) > 1 {
		p.fail(n, "say one of the two", "shape: a table is long or wide")
	}
	for _, e := range entries {
		if e.key == "long" {
			p.long(e.value)
		} else {
			p.wide(e.value)
		}
	}
}

func (p *reader) long(n ast.Node) {
	l := new(Long)
	now := ""
	for _, e := range p.mapping(n, "long", []string{"field", "value", "old", "new"}) {
		switch text := p.text(e.value, e.key); e.key {
		case "field":
			l.Field = text
		case "value":
			l.Value = text
		case "old":
			l.Old = text
		default:
			now = text
		}
	}
	switch {
	case l.Field == "":
		p.fail(n, "write field: and the heading of the column with the fields' names", "shape: long: which column names the field is not said")
	case now != "" && l.Value != "":
		p.fail(n, "write value:, or old: and new:", "shape: long: value: and new: are the same")
	case now == "" && l.Value == "":
		p.fail(n, "write value: and the heading of the column with the values", "shape: long: which column has the value is not said")
	}
	if l.Value == "" {
		l.Value = now
	}
	p.l.Shape.Long = l
}

func (p *reader) wide(n ast.Node) {
	w := &Wide{Headings: map[string]string{}}
	for _, e := range p.mapping(n, "wide", []string{"key", "value", "headings"}) {
		switch e.key {
		case "key":
			w.Key = p.text(e.value, e.key)
		case "value":
			w.Value = p.text(e.value, e.key)
		default:
			for _, h := range p.mapping(e.value, "headings", nil) {
				w.Headings[HeadingForm(h.key)] = p.text(h.value, h.key)
			}
		}
	}
	if w.Key == "" || w.Value == "" {
		p.fail(n, "write key: and the field that the headings hold, value: and the field that the cells hold", "shape: wide: %s is not said", map[bool]string{true: "key", false: "value"}[w.Key == ""])
	}
	p.l.Shape.Wide, p.shapeAt = w, n
}

// checkShape looks whether the fields of a shape are there.
func (p *reader) checkShape(names []string) {
	w := p.l.Shape.Wide
	if w == nil || w.Key == "" || w.Value == "" {
		return
	}
	for _, f := range []string{w.Key, w.Value} {
		if p.l.Index(f) < 0 {
			p.fail(p.shapeAt, suggest(f, names), "shape: wide: the field %q is not among the fields", f)
		}
	}
	if !contains(p.l.Key, w.Key) {
		p.fail(p.shapeAt, "the key is "+strings.Join(p.l.Key, ", "), "shape: wide: key: %s is no field of the key", w.Key)
	}
	if contains(p.l.Key, w.Value) {
		p.fail(p.shapeAt, "", "shape: wide: value: %s is a field of the key", w.Value)
	}
}

// FieldCalled returns the field of a name, title or alias, in whatever case, or nil.
func (l *Layout) FieldCalled(name string) *Field {
	want := HeadingForm(name)
	for i := range l.Fields {
		f := &l.Fields[i]
		for _, known := range append([]string{f.Name, f.Title}, f.Aliases...) {
			if known != "" && HeadingForm(known) == want {
				return f
			}
		}
	}
	return nil
}

// sayShape says in words in which shape tables may come.
func (l *Layout) sayShape(say func(format string, args ...any)) {
	if x := l.Shape.Long; x != nil {
		old := ""
		if x.Old != "" {
			old = ", " + x.Old + " what it was"
		}
		say("a list with a row a field: %s names the field, %s has its value%s", x.Field, x.Value, old)
	}
	if x := l.Shape.Wide; x != nil {
		say("a table with a column for each %s, that has the %s", x.Key, x.Value)
	}
}
