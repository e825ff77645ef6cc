package learn

import (
	"strings"
	"time"

	"github.com/cockroachdb/apd/v3"
)

// sort is what kind of value a text is read as.
type sort int

const (
	number sort = iota
	moment      // a day, a time of day, or both
	flag
	texts
)

// value is what a reading takes a text for.
type value struct {
	num  *apd.Decimal // of a number, with the decimals it was written with
	at   time.Time    // of a moment; a time alone is on the first day of the year 0, a day without a year in the year 0
	has  parts        // what was written of a moment
	zone int          // minutes east of Greenwich, where a zone was written
	name string       // of the zone, where a program names it
	yes  bool         // of a flag
	text string       // of a text
}

// parts are parts of a moment.
type parts uint8

const (
	hasDay parts = 1 << iota
	hasClock
	hasZone
	noYear // a day without a year
)

// same reports whether two values are one: numbers to the fifteen digits that
// programs keep of them (IEEE 754 binary64 keeps 15.95).
func (v value) same(o value, s sort) bool {
	switch s {
	case number:
		return EqualTo15(v.num, o.num)
	case moment:
		return v.at.Add(-time.Duration(v.zone) * time.Minute).Equal(o.at.Add(-time.Duration(o.zone) * time.Minute))
	case flag:
		return v.yes == o.yes
	}
	return v.text == o.text
}

// Digits15 is how many digits every program keeps of a number.
const Digits15 = 15

// EqualTo15 reports whether two numbers are one to fifteen digits: no farther from each other
// than half a unit of the fifteenth.
func EqualTo15(a, b *apd.Decimal) bool {
	if a.Cmp(b) == 0 {
		return true
	}
	if a.NumDigits() <= Digits15 && b.NumDigits() <= Digits15 {
		return false
	}
	var d apd.Decimal
	_, _ = wide.Sub(&d, a, b) // without traps it has no error
	d.Negative = false
	unit := max(int32(a.NumDigits()), int32(1)) + a.Exponent - Digits15 - 1
	return d.Cmp(apd.New(5, unit)) <= 0
}

// scanned is a number as it is written.
type scanned struct {
	prefix, suffix string // signs of a currency or a percent sign, with spaces; without minus and brackets
	minus          minus
	plus           bool
	group          string // what stands between groups of three digits
	whole, part    string // digits before and after the decimal sign
	exponent       string // e+06, with its letter
}

// minus is how a number below nothing is written.
type minus byte

const (
	positive minus = iota
	hyphen         // -12
	sign           // −12, U+2212
	behind         // 12-
	brackets       // (12)
	inside         // $-12
)

// currencies are signs and codes (ISO 4217) that stand beside numbers.
var currencies = map[string]bool{"$": true, "£": true, "€": true, "¥": true, "EUR": true, "USD": true, "GBP": true, "CHF": true, "SEK": true, "NOK": true, "DKK": true,
	"PLN": true, "CZK": true, "JPY": true, "AUD": true, "CAD": true, "NZD": true, "kr": true, "kr.": true, "zł": true, "Kč": true, "Fr.": true}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// maxExponent is how many digits the exponent of a double has at most.
const maxExponent = 3

// maxNumber is how long a text may be that is read as a number.
const maxNumber = 60

// scanNumber takes a number apart that is written with a decimal sign.
func scanNumber(s string, decimal byte) (n scanned, ok bool) {
	if len(s) == 0 || len(s) > maxNumber {
		return n, false
	}
	i, j := 0, len(s)
	for i < j && !isDigit(s[i]) {
		i++
	}
	for j > i && !isDigit(s[j-1]) {
		j--
	}
	if i == j {
		return n, false
	}
	if i > 0 && s[i-1] == decimal { // .5
		i--
	}
	if (i > 0 || j < len(s)) && !n.around(s[:i], s[j:]) {
		return n, false
	}
	core := s[i:j]
	if e := strings.IndexAny(core, "eE"); e > 0 {
		n.exponent = core[e:]
		core = core[:e]
		digits := strings.TrimLeft(n.exponent[1:], "+-")
		if digits == "" || !allDigits(digits) || len(digits) > maxExponent {
			return n, false
		}
	}
	if d := strings.IndexByte(core, decimal); d >= 0 {
		core, n.part = core[:d], core[d+1:]
		if n.part == "" || !allDigits(n.part) {
			return n, false
		}
	}
	return n, n.grouped(core)
}

// grouped takes the digits before the decimal sign.
func (n *scanned) grouped(core string) bool {
	if allDigits(core) {
		n.whole = core
		return core != "" || n.part != ""
	}
	k := 0
	for k < len(core) && isDigit(core[k]) {
		k++
	}
	for _, g := range [...]string{",", ".", " ", "\u00a0", "\u202f", "'", "’"} {
		if !strings.HasPrefix(core[k:], g) {
			continue
		}
		n.group = g
		groups := strings.Split(core, g)
		for i, part := range groups {
			if !allDigits(part) || i > 0 && len(part) != 3 || i == 0 && (len(part) > 3 || part == "") {
				return false
			}
		}
		n.whole = strings.Join(groups, "")
		return groups[0][0] != '0'
	}
	return false
}

// around reads what stands before and behind a number.
func (n *scanned) around(before, after string) bool {
	switch b := strings.TrimSpace(before); {
	case strings.HasPrefix(b, "(") && strings.HasSuffix(strings.TrimSpace(after), ")"):
		n.minus = brackets
		before, after = strings.Replace(before, "(", "", 1), strings.Replace(after, ")", "", 1)
	case strings.HasPrefix(b, "-"):
		n.minus, before = hyphen, strings.TrimPrefix(before, "-")
	case strings.HasPrefix(b, "−"):
		n.minus, before = sign, strings.TrimPrefix(before, "−")
	case strings.HasPrefix(b, "+"):
		n.plus, before = true, strings.TrimPrefix(before, "+")
	case strings.HasSuffix(b, "-"):
		n.minus, before = inside, strings.Replace(before, "-", "", 1)
	case after == "-":
		n.minus, after = behind, ""
	}
	n.prefix, n.suffix = before, after
	if p := strings.TrimSpace(before); p != "" && !currencies[p] {
		return false
	}
	p := strings.TrimSpace(after)
	return p == "" || p == "%" || currencies[p]
}

func allDigits(s string) bool {
	for i := range len(s) {
		if !isDigit(s[i]) {
			return false
		}
	}
	return true
}

// percent reports whether the number is written in parts of a hundred.
func (n *scanned) percent() bool { return strings.Contains(n.suffix, "%") }

// decimal is the number that is written, percents as parts of one.
func (n *scanned) decimal() *apd.Decimal {
	d := new(apd.Decimal)
	if digits := len(n.whole) + len(n.part); digits <= 18 {
		var c int64
		for _, s := range [...]string{n.whole, n.part} {
			for i := range len(s) {
				c = c*10 + int64(s[i]-'0')
			}
		}
		d.SetFinite(c, -int32(len(n.part)))
	} else if _, _, err := d.SetString(n.whole + n.part); err == nil {
		d.Exponent = -int32(len(n.part))
	}
	if n.exponent != "" {
		e, negative := 0, false
		for i := 1; i < len(n.exponent); i++ {
			if c := n.exponent[i]; isDigit(c) {
				e = e*10 + int(c-'0')
			} else {
				negative = negative || c == '-'
			}
		}
		if negative {
			e = -e
		}
		d.Exponent += int32(e)
	}
	if n.percent() {
		d.Exponent -= 2
	}
	d.Negative = n.minus != positive && !d.IsZero()
	return d
}
