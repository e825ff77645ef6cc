// Package odata is the forms of OData 4.01 (OASIS Standard, Protocol, URL
// Conventions, JSON Format) that who asks and who answers have in common: values
// as JSON and as literals of URLs, keys, preferences, and the parts of batches.
// It knows of no records and no connections.
package odata

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/cockroachdb/apd/v3"
	"github.com/go-json-experiment/json/jsontext"

	"paletwin/core/expr"
	ours "paletwin/core/jsontext"
)

// Kind is the primitive type of a value.
type Kind byte

const (
	Null Kind = iota
	String
	Boolean
	Int64
	Decimal
	Date
	DateTimeOffset
)

var kindNames = [...]string{"null", "Edm.String", "Edm.Boolean", "Edm.Int64", "Edm.Decimal", "Edm.Date", "Edm.DateTimeOffset"}

// String is the type's name in the standard.
func (k Kind) String() string { return kindNames[k] }

// Numeric reports whether values of the kind are numbers.
func (k Kind) Numeric() bool { return k == Int64 || k == Decimal }

// Value is a primitive value. The zero Value is null. Text is what stands in JSON, without
// the quotes of a string: a number's digits, 2026-03-11, 2026-03-11T08:00:00Z,
// true. Values are not to be compared by ==; see Same.
type Value struct {
	Kind Kind
	Text string
}

// Text is a string's value.
func Text(s string) Value { return Value{String, s} }

// True is the value of a Boolean.
func True(b bool) Value { return Value{Boolean, strconv.FormatBool(b)} }

// IsNull reports whether the value is null.
func (v Value) IsNull() bool { return v.Kind == Null }

// Same reports whether two values are one: null is null, 9.5 is 9.50, a moment is the
// same in another zone.
func (v Value) Same(w Value) bool {
	if v == w {
		return true
	}
	c, ok := v.Compare(w)
	return ok && c == 0
}

// Compare orders two values; ok is false where one is null or they are of kinds that
// cannot be compared. false is before true.
func (v Value) Compare(w Value) (c int, ok bool) {
	switch {
	case v.Kind == Int64 && w.Kind == Int64:
		a, errA := strconv.ParseInt(v.Text, 10, 64)
		b, errB := strconv.ParseInt(w.Text, 10, 64)
		if errA == nil && errB == nil {
			return compare(a, b), true
		}
		return 0, false
	case v.Kind.Numeric() && w.Kind.Numeric():
		a, okA := v.Number()
		b, okB := w.Number()
		if okA && okB {
			return a.Decimal().Cmp(b.Decimal()), true
		}
		return 0, false
	case v.Kind != w.Kind:
		return 0, false
	}
	switch v.Kind {
	case String, Boolean, Date:
		return strings.Compare(v.Text, w.Text), true
	case DateTimeOffset:
		a, okA := v.Time()
		b, okB := w.Time()
		return a.Compare(b), okA && okB
	}
	return 0, false
}

func compare(a, b int64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// Number is the number that the value is.
func (v Value) Number() (*expr.Number, bool) {
	if !v.Kind.Numeric() {
		return nil, false
	}
	return expr.ParseNumber(v.Text)
}

// Time is the time that a date, or a date with a time, is.
func (v Value) Time() (time.Time, bool) {
	switch v.Kind {
	case Date:
		t, err := time.Parse(time.DateOnly, v.Text)
		return t, err == nil
	case DateTimeOffset:
		t, err := time.Parse(time.RFC3339Nano, v.Text)
		return t, err == nil
	}
	return time.Time{}, false
}

// As is the value as one of another kind, where it is that: a whole number is a
// decimal, and a decimal without a fraction a whole number.
func (v Value) As(k Kind) (Value, bool) {
	switch {
	case v.Kind == k, v.Kind == Null:
		return v, true
	case v.Kind == Int64 && k == Decimal:
		return Value{Decimal, v.Text}, true
	case v.Kind == Decimal && k == Int64:
		if n, ok := v.Number(); ok && n.Decimals() == 0 {
			return number(Int64, n.Canonical())
		}
	case v.Kind == Date && k == DateTimeOffset:
		return Value{DateTimeOffset, v.Text + "T00:00:00Z"}, true
	}
	return Value{}, false
}

// Canonical is the one text that equal values of a kind have in common. It is no
// value to be shown.
func (v Value) Canonical() string {
	switch v.Kind {
	case Int64, Decimal:
		if n, ok := v.Number(); ok {
			return n.Canonical()
		}
	case DateTimeOffset:
		if t, ok := v.Time(); ok {
			return t.UTC().Format(time.RFC3339Nano)
		}
	}
	return v.Text
}

// AppendJSON appends the value as JSON. With quoted, numbers of more digits than
// a double has stand in quotes, as IEEE754Compatible=true asks for.
func (v Value) AppendJSON(dst []byte, quoted bool) []byte {
	switch v.Kind {
	case Null:
		return append(dst, "null"...)
	case Boolean:
		return append(dst, v.Text...)
	case Int64, Decimal:
		if !quoted {
			return append(dst, v.Text...)
		}
		fallthrough
	case Date, DateTimeOffset: // which have no sign that is escaped
		dst = append(dst, '"')
		dst = append(dst, v.Text...)
		return append(dst, '"')
	}
	return ours.AppendString(dst, v.Text)
}

// Literal is the value as it stands in a URL, not yet percent-encoded.
func (v Value) Literal() string {
	switch v.Kind {
	case Null:
		return "null"
	case String:
		return "'" + strings.ReplaceAll(v.Text, "'", "''") + "'"
	}
	return v.Text
}

// ReadJSON reads a JSON value as one of a kind. Numbers may stand in quotes,
// whatever the request said of IEEE754Compatible. The error says what was expected.
func ReadJSON(raw []byte, k Kind) (Value, error) {
	raw = bytes.TrimSpace(raw)
	if string(raw) == "null" {
		return Value{}, nil
	}
	isText := len(raw) > 0 && raw[0] == '"'
	text := string(raw)
	if isText {
		b, err := jsontext.AppendUnquote(nil, raw)
		if err != nil {
			return Value{}, fmt.Errorf("is no JSON string")
		}
		text = string(b)
	}
	if isText && k == Boolean || !isText && (k == String || k == Date || k == DateTimeOffset) || len(raw) == 0 {
		return Value{}, fmt.Errorf("is to be %s, not %s", k, kindOfJSON(raw))
	}
	v, ok := Parse(text, k)
	if !ok {
		return Value{}, fmt.Errorf("is to be %s, and %s is none", k, short(text))
	}
	return v, nil
}

func kindOfJSON(raw []byte) string {
	if len(raw) == 0 {
		return "nothing"
	}
	switch raw[0] {
	case '"':
		return "a text"
	case '{':
		return "an object"
	case '[':
		return "a list"
	case 't', 'f':
		return "true or false"
	}
	return "a number"
}

// short is a text for a message.
func short(s string) string {
	if r := []rune(s); len(r) > 40 {
		s = string(r[:39]) + "…"
	}
	return strconv.Quote(s)
}

// Parse reads a text as a value of a kind, as it stands in JSON.
func Parse(text string, k Kind) (Value, bool) {
	switch k {
	case String:
		return Text(text), true
	case Boolean:
		return Value{Boolean, text}, text == "true" || text == "false"
	case Int64, Decimal:
		return number(k, text)
	case Date:
		_, ok := expr.ParseDate(text)
		return Value{Date, text}, ok
	case DateTimeOffset:
		text = strings.ToUpper(text)
		_, err := time.Parse(time.RFC3339Nano, text)
		if err != nil && len(text) > 17 && (text[16] == 'Z' || text[16] == '+' || text[16] == '-') || err != nil && len(text) == 17 { // seconds may be left out
			text = text[:16] + ":00" + text[16:]
			_, err = time.Parse(time.RFC3339Nano, text)
		}
		return Value{DateTimeOffset, text}, err == nil
	}
	return Value{}, false
}

// maxDigits is how many digits a number may have: those of an exponent count.
const maxDigits = 200

// number reads a number in the form of JSON. One with an exponent is written out.
func number(k Kind, text string) (Value, bool) {
	if text == "" || len(text) > maxDigits || strings.HasPrefix(text, "+") {
		return Value{}, false
	}
	if strings.ContainsAny(text, "eE") {
		d, _, err := apd.NewFromString(text)
		if err != nil || d.Form != apd.Finite || d.Exponent > maxDigits || d.Exponent < -maxDigits {
			return Value{}, false
		}
		text = d.Text('f')
	}
	if k == Int64 {
		n, err := strconv.ParseInt(text, 10, 64)
		return Value{Int64, strconv.FormatInt(n, 10)}, err == nil
	}
	_, ok := expr.ParseNumber(text)
	return Value{Decimal, text}, ok && text[0] != '.' && text[len(text)-1] != '.'
}

// ParseLiteral reads a literal of a URL, which is percent-decoded.
func ParseLiteral(text string) (Value, error) {
	switch {
	case text == "null":
		return Value{}, nil
	case text == "true" || text == "false":
		return Value{Boolean, text}, nil
	case strings.HasPrefix(text, "'"):
		inner := text[1:]
		if !strings.HasSuffix(inner, "'") {
			return Value{}, fmt.Errorf("%s has no closing quote", short(text))
		}
		inner = inner[:len(inner)-1]
		s := strings.ReplaceAll(inner, "''", "'")
		if strings.Count(inner, "'") != 2*strings.Count(s, "'") {
			return Value{}, fmt.Errorf("%s has a quote within that is not doubled", short(text))
		}
		return Text(s), nil
	}
	for _, k := range []Kind{Int64, Decimal, Date, DateTimeOffset} {
		if v, ok := Parse(text, k); ok {
			return v, nil
		}
	}
	return Value{}, fmt.Errorf("%s is no literal that is known here", short(text))
}
