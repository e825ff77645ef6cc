package wear

import (
	"fmt"
	"strings"
	"unicode"

	"github.com/cockroachdb/apd/v3"
	"golang.org/x/text/unicode/norm"
)

// Made says in a few words what a system made of a value that it was given,
// where what it has now came from it by what systems do: they round, cut,
// trim, and lose letters. It returns "" where it is another value.
func Made(given, found string) string {
	if given == "" || found == "" || given == found {
		return ""
	}
	if how := madeNumber(given, found); how != "" {
		return how
	}
	switch {
	case strings.TrimSpace(given) == found:
		return "spaces at the ends taken off"
	case lines(given) == lines(found):
		return "line breaks in another form"
	case strings.Join(strings.Fields(given), " ") == strings.Join(strings.Fields(found), " "):
		return "spaces made one"
	case norm.NFC.String(given) == norm.NFC.String(found):
		return "letters composed otherwise"
	case strings.EqualFold(given, found):
		return "letters in another case"
	case withoutMarks(given) == found:
		return "accents lost"
	case questioned(given, found):
		return "letters lost"
	case strings.HasPrefix(given, found):
		return fmt.Sprintf("cut to %d characters", len([]rune(found)))
	}
	return ""
}

func lines(s string) string { return strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(s) }

// withoutMarks takes the accents off letters.
func withoutMarks(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, norm.NFD.String(s))
}

// questioned reports whether letters of a text became question marks.
func questioned(given, found string) bool {
	a, b := []rune(given), []rune(found)
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] && b[i] != '?' && b[i] != unicode.ReplacementChar {
			return false
		}
	}
	return true
}

// madeNumber is Made for decimal numbers.
func madeNumber(given, found string) string {
	g, ok := plainDecimal(given)
	f, also := plainDecimal(found)
	if !ok || !also {
		return ""
	}
	if g.Cmp(f) == 0 {
		return "the number in another form"
	}
	for _, by := range []struct {
		rounder apd.Rounder
		word    string
	}{{apd.RoundHalfUp, "rounded to %d decimals"}, {apd.RoundHalfEven, "rounded to %d decimals"}, {apd.RoundDown, "cut to %d decimals"}} {
		c := apd.BaseContext.WithPrecision(200)
		c.Rounding = by.rounder
		var r apd.Decimal
		if _, err := c.Quantize(&r, g, f.Exponent); err == nil && f.Exponent <= 0 && r.Cmp(f) == 0 {
			return fmt.Sprintf(by.word, -f.Exponent)
		}
	}
	return ""
}

// plainDecimal reads a number of digits, with a sign and a point perhaps.
func plainDecimal(s string) (*apd.Decimal, bool) {
	if strings.Trim(s, "0123456789.-") != "" || len(s) > 100 {
		return nil, false
	}
	d, _, err := apd.NewFromString(s)
	return d, err == nil && d.Form == apd.Finite
}
