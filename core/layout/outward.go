package layout

import (
	"cmp"
	"slices"
	"strings"

	"paletwin/core/expr"
	"paletwin/core/record"
	"paletwin/core/schema"
)

// What a blank cell of a load file does to the record in the other system.
const (
	BlankKeeps  = "keeps"
	BlankClears = "clears"
)

// Wording is how the system that takes load files writes a field: what it
// calls it, and its values. The zero Wording writes them as they are.
type Wording struct {
	Heading string // what the system calls the field
	Outward

	field    *Field
	date     schema.Form
	datetime schema.Form
}

// Wording returns how the system words a field. What over says counts before
// what the layout says of the field, and that before what it says of all. Both
// the layout and what it knows of the field may be missing.
func (l *Layout) Wording(field string, over Outward) (*Wording, error) {
	w := &Wording{Heading: field, Outward: over, field: l.Field(field)}
	if w.field != nil {
		w.Heading = cmp.Or(w.field.Outward.Name, field)
		w.Outward = over.or(w.field.Outward.Outward)
	}
	if l != nil {
		w.Outward = w.Outward.or(l.Outward)
	}
	var err error
	for _, f := range []struct {
		text string
		form *schema.Form
	}{{w.Date, &w.date}, {w.Datetime, &w.datetime}} {
		if f.text == "" {
			continue
		}
		if *f.form, err = schema.ParseForm(f.text); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// or returns o with what it does not say taken from x.
func (o Outward) or(x Outward) Outward {
	return Outward{cmp.Or(o.Date, x.Date), cmp.Or(o.Datetime, x.Datetime), cmp.Or(o.True, x.True), cmp.Or(o.False, x.False), cmp.Or(o.Blank, x.Blank), cmp.Or(o.Clear, x.Clear)}
}

// Empty returns the cell that empties the field there, and false where the
// system has none.
func (w *Wording) Empty() (string, bool) {
	if w.Clear != "" {
		return w.Clear, true
	}
	return "", w.Blank == BlankClears
}

// Misread reports whether the system would take the value for its sign to
// empty the field.
func (w *Wording) Misread(v record.Value) bool {
	return w.Clear != "" && w.Write(v) == w.Clear
}

// Write returns a value as the system writes it. A blank one is "", whatever
// that does there; a text that is no value of its kind stays as it is.
func (w *Wording) Write(v record.Value) string {
	text := v.String()
	if w.field == nil || v.Blank() {
		return text
	}
	switch w.field.Kind {
	case schema.Date:
		if x, ok := w.read(text).(*expr.Date); ok && w.Date != "" {
			return w.date.Write(x.Time())
		}
	case schema.Datetime:
		if x, ok := w.read(text).(*expr.Moment); ok && w.Datetime != "" {
			t, _ := x.Time()
			return w.datetime.Write(t)
		}
	case schema.Boolean:
		truth, known := w.field.Words[strings.ToLower(text)]
		switch {
		case known && truth && w.True != "":
			return w.True
		case known && !truth && w.False != "":
			return w.False
		}
	}
	return text
}

func (w *Wording) read(text string) expr.Value {
	v, _ := w.field.Value(text)
	return v
}

// Read returns what the system wrote as the field has it: it undoes Write.
func (w *Wording) Read(text string) record.Value {
	if text == "" || w.Clear != "" && text == w.Clear {
		return record.Value{}
	}
	if w.field == nil {
		return record.Text(text)
	}
	switch f := w.field; {
	case f.Kind == schema.Date && w.Date != "", f.Kind == schema.Datetime && w.Datetime != "":
		form := w.date
		if f.Kind == schema.Datetime {
			form = w.datetime
		}
		t, ok := form.Parse(text)
		switch {
		case ok && len(f.Forms) > 0:
			return record.Text(f.Forms[0].Write(t))
		case ok:
			return record.Text(expr.NewMoment(t, form.Zoned()).String())
		}
	case f.Kind == schema.Boolean && text == w.True && w.True != "":
		return record.Text(f.True)
	case f.Kind == schema.Boolean && text == w.False && w.False != "":
		return record.Text(f.False)
	}
	return record.Text(text)
}

// Speaking returns the layout with what a newer one says of the system that takes load files: how it writes values, and what it
// calls fields. Either may be nil.
func (l *Layout) Speaking(newer *Layout) *Layout {
	if l == nil || newer == nil {
		return l
	}
	as := *l
	as.Outward, as.Fields = newer.Outward, slices.Clone(l.Fields)
	for i := range as.Fields {
		if f := newer.Field(as.Fields[i].Name); f != nil {
			as.Fields[i].Outward = f.Outward
		}
	}
	return &as
}
