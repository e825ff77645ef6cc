package wear

import (
	"regexp"
	"strconv"
	"strings"

	"github.com/cockroachdb/apd/v3"

	"paletwin/core/wear/learn"
)

// idLength is from how many digits on an id is more than a number of a program holds.
const idLength = 16

var seenNumber = regexp.MustCompile(`^[0-9]+(\.[0-9]+)?([Ee][+-]?[0-9]+)?$`)

// isID reports whether a value is digits, and more of them than a program keeps.
func isID(v string) bool {
	return len(v) >= idLength && v[0] != '0' && strings.Trim(v, "0123456789") == ""
}

// isRounding reports whether what is seen is the number that a program made of an
// id: rounded or cut to the digits that it keeps, or the double that is nearest (IEEE
// 754 binary64), as a program writes it. An id of sixteen digits that ends in a zero
// is none of these: somebody may have written that.
func isRounding(id, seen string) bool {
	if !isID(id) || id == seen || !seenNumber.MatchString(seen) {
		return false
	}
	d, _, err := apd.NewFromString(seen)
	if err != nil {
		return false
	}
	whole, _, err := apd.NewFromString(id)
	if err != nil {
		return false
	}
	if strings.ContainsAny(seen, "eE") || len(id) > idLength {
		cut := apd.New(0, 0)
		ctx := apd.Context{Precision: learn.Digits15, MaxExponent: 1000, MinExponent: -1000, Rounding: apd.RoundDown}
		if _, err := ctx.Round(cut, whole); err == nil && d.Cmp(cut) == 0 {
			return true
		}
		if d.Cmp(round15(whole)) == 0 {
			return true
		}
	}
	f, err := strconv.ParseFloat(id, 64)
	if err != nil {
		return false
	}
	shortest, _, err := apd.NewFromString(strconv.FormatFloat(f, 'e', -1, 64))
	if err != nil {
		return false
	}
	exact, _, err := apd.NewFromString(strconv.FormatFloat(f, 'f', 0, 64))
	return err == nil && whole.Cmp(d) != 0 && (d.Cmp(shortest) == 0 || d.Cmp(exact) == 0)
}

// rounds reports whether a program would have made another number of an id.
func rounds(id string) bool {
	f, err := strconv.ParseFloat(id, 64)
	return err == nil && isID(id) && strconv.FormatFloat(f, 'f', 0, 64) != id
}
