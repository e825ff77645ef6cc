package schema

import (
	"fmt"
	"strings"
	"time"
)

// Form is a form of dates: as the layout writes it, and as Go does.
type Form struct{ Text, layout string }

// ISO is the form of the international standard: ISO 8601.
var ISO = Form{"yyyy-mm-dd", time.DateOnly}

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

// Parse reads a time in the form.
func (f Form) Parse(text string) (time.Time, bool) {
	t, err := time.Parse(f.layout, text)
	return t, err == nil
}

// Zoned reports whether the form has a time zone.
func (f Form) Zoned() bool { return strings.Contains(f.layout, "Z07:00") }
