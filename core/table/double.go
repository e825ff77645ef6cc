package table

import (
	"regexp"
	"strconv"
	"strings"
)

// exactDigits is how many decimal digits of a number every program keeps in a
// double (IEEE 754 binary64).
const exactDigits = 15

// Double is the text of a number that a workbook stores. It is a double, however many
// digits a program writes of it: 977.270000000000000018 is 977.27. One of more digits
// than a double surely keeps is given as the shortest decimal that is that double.
// Whole numbers stay as they are written: an id of eighteen digits, written in full, is
// that id.
func Double(value string) string {
	if len(value) <= exactDigits+1 && strings.IndexByte(value, 'e') < 0 && strings.IndexByte(value, 'E') < 0 {
		return value // as nearly all
	}
	mantissa, _, exponent := strings.Cut(strings.ToLower(value), "e")
	whole, fraction, point := strings.Cut(strings.TrimPrefix(mantissa, "-"), ".")
	if !point && !exponent || len(strings.TrimLeft(whole+fraction, "0")) <= exactDigits {
		return value
	}
	f, err := strconv.ParseFloat(value, 64)
	if err != nil {
		return value
	}
	if exponent {
		return strconv.FormatFloat(f, 'e', -1, 64)
	}
	return strconv.FormatFloat(f, 'f', -1, 64)
}

// longest is how many characters a number has at most that no program takes for infinite, or for zero.
const longest = 300

var number = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]*[1-9])?$`)

// IsNumber reports whether text can be a number in a spreadsheet and read back as it is: no zeros that a number would not have, and
// digits that no program rounds.
func IsNumber(text string) bool {
	return len(text) <= longest && number.MatchString(text) && text != "-0" && len(strings.Trim(strings.NewReplacer("-", "", ".", "").Replace(text), "0")) <= exactDigits
}
