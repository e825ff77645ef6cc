package schema

import (
	"strings"

	"paletwin/core/expr"
)

// Kind is the kind of a field's values.
type Kind string

const (
	Text      Kind = "text"
	Integer   Kind = "integer"
	Decimal   Kind = "decimal"
	Percent   Kind = "percent" // a number, written in parts of a hundred
	Money     Kind = "money"   // a number, written as an amount
	Date      Kind = "date"
	Datetime  Kind = "datetime"
	Boolean   Kind = "boolean"
	Choice    Kind = "choice"
	Reference Kind = "reference"
)

// Kinds lists all kinds.
var Kinds = []string{string(Text), string(Integer), string(Decimal), string(Percent), string(Money), string(Date), string(Datetime), string(Boolean), string(Choice), string(Reference)}

// Access says who writes a field.
type Access string

const (
	Free       Access = "free"
	OnCreation Access = "on creation" // in adds only
	ReadOnly   Access = "read-only"
	System     Access = "system" // the system itself: no part in conflicts, verification and rollback
)

// Accesses lists all of them.
var Accesses = []string{string(Free), string(OnCreation), string(ReadOnly), string(System)}

// Field is what is known of a field's values.
type Field struct {
	Name    string
	Kind    Kind
	Scale   int    // decimals of a decimal or a percent; -1 is not said
	Amount  Amount // how money is written
	Forms   []Form
	Words   map[string]bool // of a boolean, by lower case
	True    string          // how true and false are written
	False   string
	Values  []string // of a choice
	Unique  bool
	Null    string // the text that stands for an empty value; "" is none
	Compare Leniency
	Access  Access
	// Assigned says that the system gives new records their key, which this field
	// is.
	Assigned bool

	choices map[string]int // the values by the form in which they are compared
}

// SetValues gives a choice its values. It returns the first that is another's in the
// form in which they are compared.
func (f *Field) SetValues(values []string) (twice string, ok bool) {
	f.Values, f.choices = values, map[string]int{}
	for i, v := range values {
		if _, twice := f.choices[f.Compare.Normal(v)]; twice {
			return v, false
		}
		f.choices[f.Compare.Normal(v)] = i
	}
	return "", true
}

// Choice returns the value of a choice that a text is, as it is written.
func (f *Field) Choice(text string) (string, bool) {
	i, ok := f.choices[f.Compare.Normal(text)]
	if !ok {
		return "", false
	}
	return f.Values[i], true
}

// Value reads a text as a value of the field. An empty one, and the null
// token, is null. It returns false where the text is no such value.
func (f *Field) Value(text string) (expr.Value, bool) {
	if text == "" || f.Null != "" && text == f.Null {
		return expr.Null, true
	}
	switch f.Kind {
	case Integer:
		if n, ok := expr.ParseNumber(text); ok && !strings.Contains(text, ".") {
			return n, true
		}
	case Decimal:
		if n, ok := expr.ParseNumber(text); ok {
			return n, true
		}
	case Percent:
		if n, ok := readPercent(text); ok {
			return n, true
		}
	case Money:
		if n, ok := f.Amount.read(text); ok {
			return n, true
		}
	case Date:
		for _, form := range f.Forms {
			if t, ok := form.Parse(text); ok {
				return expr.NewDate(t), true
			}
		}
		if d, ok := expr.ParseDate(text); ok { // a date cell of a workbook, whatever it shows
			return d, true
		}
	case Datetime:
		for _, form := range f.Forms {
			if t, ok := form.Parse(text); ok {
				return expr.NewMoment(t, form.Zoned()), true
			}
		}
		if m, ok := expr.ParseMoment(text); ok && len(f.Forms) == 0 {
			return m, true
		}
	case Boolean:
		if b, ok := f.Words[strings.ToLower(text)]; ok {
			return expr.Bool(b), true
		}
	default:
		return expr.TextValue(text), true
	}
	return expr.Invalid("%q is no %s", text, f.Kind), false
}

// writeNumber writes a percent or an amount; false where it has more decimals.
func (f *Field) writeNumber(n *expr.Number) (string, bool) {
	switch f.Kind {
	case Money:
		return f.Amount.write(n)
	case Percent:
		hundred := n.Shift(2)
		if f.Scale >= 0 {
			if r := hundred.Round(int32(f.Scale)); r.Equal(hundred) == expr.Bool(true) {
				return r.String() + "%", true
			}
			return "", false
		}
		return hundred.String() + "%", true
	}
	return "", false
}

// Fits reports whether a number has no more decimals than the field writes; zeros at
// its end are none.
func (f *Field) Fits(n *expr.Number) bool {
	switch f.Kind {
	case Decimal:
		return f.Scale < 0 || n.Decimals() <= f.Scale
	case Percent, Money:
		_, ok := f.writeNumber(n)
		return ok
	}
	return true
}

// Number is the number of a value of a field whose values are numbers.
func (f *Field) Number(text string) (*expr.Number, bool) {
	v, ok := f.Value(text)
	n, number := v.(*expr.Number)
	return n, ok && number
}

// Write returns a value in the form in which the field has its values: with
// its decimals, in its first date form, in its words for true and false. A
// text that is no value, or has more decimals than the field, comes back as it
// is.
func (f *Field) Write(text string) string {
	v, ok := f.Value(text)
	if !ok || v == expr.Null {
		return text
	}
	switch x := v.(type) {
	case *expr.Number:
		if s, ok := f.writeNumber(x); ok {
			return s
		}
		if r := x.Round(int32(max(f.Scale, 0))); f.Kind == Decimal && f.Scale >= 0 && r.Equal(x) == expr.Bool(true) {
			return r.String()
		}
	case *expr.Date:
		return f.Forms[0].Write(x.Time())
	case *expr.Moment:
		if t, _ := x.Time(); len(f.Forms) > 0 {
			return f.Forms[0].Write(t)
		}
	}
	switch f.Kind {
	case Boolean:
		if f.Words[strings.ToLower(text)] {
			return f.True
		}
		return f.False
	case Choice:
		if v, ok := f.Choice(text); ok {
			return v
		}
	}
	return text
}
