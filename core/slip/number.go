package slip

import (
	"math/big"
	"strconv"
	"strings"
	"time"
)

// number is an exact decimal number, mantissa / 10^scale, or a day.
type number struct {
	mantissa int64
	scale    int
}

// parseNumber reads digits with a sign and one point or comma; at most 17
// digits. Longer ones are no amounts.
func parseNumber(s string) (number, bool) {
	var n number
	digits, point := 0, -1
	for i := range len(s) {
		switch c := s[i]; {
		case c >= '0' && c <= '9':
			n.mantissa = n.mantissa*10 + int64(c-'0')
			digits++
		case (c == '.' || c == ',') && point < 0 && i > 0:
			point = i
		case (c == '-' || c == '+') && i == 0:
		default:
			return n, false
		}
	}
	if digits == 0 || digits > 17 || point == len(s)-1 {
		return n, false
	}
	whole, _, _ := strings.Cut(strings.TrimLeft(s, "+-"), string(s[max(point, 0)]))
	if point < 0 {
		whole = strings.TrimLeft(s, "+-")
	}
	if len(whole) > 1 && whole[0] == '0' {
		return n, false // 00417 is a code
	}
	if point >= 0 {
		n.scale = len(s) - 1 - point
	}
	if s[0] == '-' {
		n.mantissa = -n.mantissa
	}
	return n, true
}

// dayForms are the forms of dates that are known.
var dayForms = []string{time.DateOnly, "02.01.2006", "2.1.2006", "02/01/2006", "2/1/2006", "01/02/2006"}

// parseDay reads a date, or a time with a date before it, as a day.
func parseDay(s string) (number, bool) {
	n, form := parseDayForm(s)
	return n, form != ""
}

// parseDayForm reads a date and says in what form it is written, "" if it is
// none.
func parseDayForm(s string) (n number, form string) {
	if len(s) < 8 || len(s) > 35 || !isDigit(s[0]) {
		return n, ""
	}
	for _, form := range dayForms {
		head := s
		if form == time.DateOnly && len(s) > len(form) && (s[len(form)] == 'T' || s[len(form)] == ' ') {
			head = s[:len(form)]
		}
		if t, err := time.Parse(form, head); err == nil {
			return number{mantissa: t.Unix() / 86400}, form
		}
	}
	return n, ""
}

// big is the number times 10^scale.
func (n number) big(scale int) *big.Int {
	b := big.NewInt(n.mantissa)
	if scale > n.scale {
		b.Mul(b, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(scale-n.scale)), nil))
	}
	return b
}

func (n number) compare(o number) int {
	if n.scale == o.scale {
		switch {
		case n.mantissa < o.mantissa:
			return -1
		case n.mantissa > o.mantissa:
			return 1
		}
		return 0
	}
	s := max(n.scale, o.scale)
	return n.big(s).Cmp(o.big(s))
}

// million is what ratios are counted in: parts of a million.
const million = 1_000_000

// over is n / o in parts of a million; false where o is nothing or the ratio
// is beyond all measure.
func (n number) over(o number) (int64, bool) {
	if o.mantissa == 0 {
		return 0, false
	}
	s := max(n.scale, o.scale)
	q := n.big(s)
	q.Mul(q, big.NewInt(million)).Quo(q, o.big(s))
	if !q.IsInt64() || q.BitLen() > 60 {
		return 0, false
	}
	return q.Int64(), true
}

// digits are the number's digits, zeros at both ends aside.
func (n number) digits() string {
	m := n.mantissa
	if m < 0 {
		m = -m
	}
	return strings.TrimRight(strconv.FormatInt(m, 10), "0")
}

// significant is how many digits the number has, zeros at both ends aside.
func (n number) significant() int {
	return len(n.digits())
}

// plus is n + o; sums beyond all measure are wrong, and equal nothing.
func (n number) plus(o number) number {
	s := max(n.scale, o.scale)
	sum := n.big(s)
	sum.Add(sum, o.big(s))
	if !sum.IsInt64() {
		return number{}
	}
	return number{sum.Int64(), s}
}
