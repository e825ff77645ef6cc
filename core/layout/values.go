package layout

import (
	"fmt"
	"strings"
	"time"

	"paletwin/core/expr"
)

// Form is a form of dates: as the layout writes it, and as Go does.
type Form struct{ Text, layout string }

// formTokens are the parts of a date form, longest first.
var formTokens = []struct{ token, layout string }{
	{"yyyy", "2006"}, {"mmmm", "January"}, {"mmm", "Jan"}, {"yy", "06"}, {"mm", "01"}, {"dd", "02"}, {"HH", "15"}, {"MM", "04"}, {"SS", "05"},
	{"m", "1"}, {"d", "2"}, {"Z", "Z07:00"}, {"T", "T"},
}

// ParseForm reads a date form: yyyy yy mmmm mmm mm m dd d HH MM SS Z, with
// what stands between them.
func ParseForm(text string) (Form, error) {
	f := Form{Text: text}
	var has = map[byte]bool{}
next:
	for rest := text; rest != ""; {
		for _, t := range formTokens {
			if strings.HasPrefix(rest, t.token) {
				if has[t.token[0]] && t.token != "T" {
					return f, fmt.Errorf("%q has %s twice", text, t.token[:1])
				}
				has[t.token[0]] = true
				f.layout += t.layout
				rest = rest[len(t.token):]
				continue next
			}
		}
		if strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789", rune(rest[0])) {
			return f, fmt.Errorf("%q is no part of a date form; they are yyyy yy mmm mm m dd d HH MM SS Z", rest[:1])
		}
		f.layout += rest[:1]
		rest = rest[1:]
	}
	if !has['y'] || !has['m'] || !has['d'] {
		return f, fmt.Errorf("a date form has a year, a month and a day, such as dd/mm/yyyy")
	}
	return f, nil
}

// Write writes a time in the form.
func (f Form) Write(t time.Time) string { return t.Format(f.layout) }

// parse reads a time in the form.
func (f Form) parse(text string) (time.Time, bool) {
	t, err := time.Parse(f.layout, text)
	return t, err == nil
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
	case Date:
		for _, form := range f.Forms {
			if t, err := time.Parse(form.layout, text); err == nil {
				return expr.NewDate(t), true
			}
		}
		if d, ok := expr.ParseDate(text); ok { // a date cell of a workbook, whatever it shows
			return d, true
		}
	case Datetime:
		for _, form := range f.Forms {
			if t, err := time.Parse(form.layout, text); err == nil {
				return expr.NewMoment(t, strings.Contains(form.layout, "Z07:00")), true
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
		if i, ok := f.known[f.Compare.form(text)]; ok {
			return f.Values[i]
		}
	case Reference:
		if code, ok := f.List.code(f.Compare.form(text)); ok {
			return code
		}
	}
	return text
}
