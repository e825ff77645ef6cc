package learn

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/cockroachdb/apd/v3"
)

// printer writes values as a program does, or a column.
type printer interface {
	// print writes a value; false if it has no such value.
	print(value) (string, bool)
	// read is the value of which print makes a text, as far as the text tells.
	read(string) (value, bool)
	// words say in a few words what the writing is like, "" if there is nothing to say.
	words() string
}

// digitsWay is a way in which programs write the digits of a number.
type digitsWay int

const (
	written digitsWay = iota // as they were, only with other signs
	trimmed                  // without zeros at the end
	pointed                  // likewise, with .0 behind whole numbers
	python                   // the shortest of the double, with .0, in exponents from 1e16
	script                   // the shortest of the double, in exponents from 1e21
	shorter                  // fifteen digits, in exponents where that is shorter
	fixed                    // a number of decimals, rounded half up
	doubled                  // likewise, of the double
	cut                      // likewise, cut
	digits                   // a number of digits, zeros after them
	general                  // a number of digits, in exponents where the number is long (C's %g)
	science                  // in exponents with a number of decimals
	noise                    // seventeen digits and more of a double that is near, where it is not the number itself
	rounded                  // in exponents, rounded to as many digits as are shown
)

// skin is how a number is dressed.
type skin struct {
	decimal, group string
	prefix, suffix string
	minus          minus
	plus           bool
	tens           int32 // times ten so often it is shown: 2 with a percent sign
	width          int   // to which zeros are put before it, 0 if they are not
	letter         byte  // of exponents
	signed         bool  // exponents have a plus
	wide           int   // digits of exponents at least
}

// numberPrint writes numbers.
type numberPrint struct {
	skin
	way digitsWay
	n   int // of decimals or digits
}

func (p *numberPrint) print(v value) (string, bool) {
	if v.num == nil {
		return "", false
	}
	d := v.num
	if p.tens != 0 {
		d = new(apd.Decimal).Set(d)
		d.Exponent += p.tens
	}
	s, ok := p.digitsOf(d)
	return p.dress(s), ok
}

// wide is room for any number that is read.
var wide = apd.Context{Precision: 120, MaxExponent: 100_000, MinExponent: -100_000, Rounding: apd.RoundHalfUp}

// digitsOf writes the digits, with a point, a hyphen and e06 for exponents.
func (p *numberPrint) digitsOf(d *apd.Decimal) (string, bool) {
	var x apd.Decimal
	switch p.way {
	case written:
		if d.Exponent > 0 {
			_, _ = wide.Quantize(&x, d, 0)
			return plain(&x), true
		}
		return plain(d), true
	case trimmed, pointed:
		s := trim(plain(d))
		if p.way == pointed && !strings.Contains(s, ".") {
			s += ".0"
		}
		return s, true
	case fixed, cut:
		c := wide
		if p.way == cut {
			c.Rounding = apd.RoundDown
		}
		if _, err := c.Quantize(&x, d, -int32(p.n)); err != nil || x.Form != apd.Finite {
			return "", false
		}
		return plain(&x), true
	case digits:
		c := wide
		c.Precision = uint32(p.n)
		_, _ = c.Round(&x, d)
		return trim(plain(&x)), true
	}
	f, err := d.Float64()
	if err != nil || math.IsInf(f, 0) {
		return "", false
	}
	return p.double(f), true
}

// double writes a double.
func (p *numberPrint) double(f float64) string {
	a := math.Abs(f)
	switch p.way {
	case python:
		if a != 0 && (a < 1e-4 || a >= 1e16) {
			return exponent(f, -1)
		}
		s := strconv.FormatFloat(f, 'f', -1, 64)
		if !strings.Contains(s, ".") {
			s += ".0"
		}
		return s
	case script:
		if a != 0 && (a < 1e-6 || a >= 1e21) {
			return exponent(f, -1)
		}
		return strconv.FormatFloat(f, 'f', -1, 64)
	case doubled:
		return strconv.FormatFloat(f, 'f', p.n, 64)
	case science:
		return exponent(f, p.n)
	case shorter:
		e := exponent(f, Digits15-1)
		m, x, _ := strings.Cut(e, "e")
		m = trim(m)
		whole := trim(strconv.FormatFloat(f, 'f', max(Digits15-1-atoi(x), 0), 64))
		if short := m + "e" + x; len(m)+2+max(len(strings.TrimPrefix(x, "-")), 2) < len(whole) {
			return short
		}
		return whole
	case general:
		e := exponent(f, p.n-1)
		m, x, _ := strings.Cut(e, "e")
		if k := atoi(x); k < -4 || k >= p.n {
			return trim(m) + "e" + x
		}
		return trim(strconv.FormatFloat(f, 'f', max(p.n-1-atoi(x), 0), 64))
	}
	return strconv.FormatFloat(f, 'g', 17, 64)
}

// exponent writes a double as 1.5e6, with so many decimals, or as few as tell it.
func exponent(f float64, decimals int) string {
	m, x, _ := strings.Cut(strconv.FormatFloat(f, 'e', decimals, 64), "e")
	return m + "e" + strconv.Itoa(atoi(x))
}

func atoi(s string) int {
	n, _ := strconv.Atoi(strings.TrimPrefix(s, "+"))
	return n
}

// plain writes a decimal without exponents.
func plain(d *apd.Decimal) string {
	if c := &d.Coeff; c.IsUint64() && d.Exponent > -19 && d.Exponent <= 0 {
		var buf [40]byte
		b := strconv.AppendUint(buf[:0], c.Uint64(), 10)
		if n := int(-d.Exponent); n > 0 {
			for len(b) <= n {
				b = append([]byte{'0'}, b...)
			}
			b = append(b[:len(b)-n+1], b[len(b)-n:]...)
			b[len(b)-n-1] = '.'
		}
		if d.Negative {
			return "-" + string(b)
		}
		return string(b)
	}
	return d.Text('f')
}

// trim takes zeros at the end of decimals away.
func trim(s string) string {
	if strings.IndexByte(s, '.') < 0 {
		return s
	}
	s = strings.TrimRight(s, "0")
	return strings.TrimSuffix(s, ".")
}

// dress puts signs round digits.
func (p *numberPrint) dress(s string) string {
	if p.skin == (skin{decimal: "."}) && strings.IndexByte(s, 'e') < 0 {
		return s
	}
	s, negative := strings.CutPrefix(s, "-")
	s, x, there := strings.Cut(s, "e")
	whole, part, decimals := strings.Cut(s, ".")
	if p.group != "" {
		for i := len(whole) - 3; i > 0; i -= 3 {
			whole = whole[:i] + p.group + whole[i:]
		}
	}
	for len(whole) < p.width {
		whole = "0" + whole
	}
	if decimals {
		whole += p.decimal + part
	}
	if there {
		whole += p.exponentOf(x)
	}
	switch {
	case !negative && p.plus:
		return "+" + p.prefix + whole + p.suffix
	case !negative:
		return p.prefix + whole + p.suffix
	}
	switch p.minus {
	case sign:
		return "−" + p.prefix + whole + p.suffix
	case behind:
		return p.prefix + whole + p.suffix + "-"
	case brackets:
		return "(" + p.prefix + whole + strings.TrimRight(p.suffix, " ") + ")"
	case inside:
		return p.prefix + "-" + whole + p.suffix
	}
	return "-" + p.prefix + whole + p.suffix
}

// exponentOf writes an exponent with the program's letter, sign and digits.
func (p *numberPrint) exponentOf(x string) string {
	x, negative := strings.CutPrefix(x, "-")
	for len(x) < p.wide {
		x = "0" + x
	}
	letter := "e"
	if p.letter != 0 {
		letter = string(rune(p.letter))
	}
	switch {
	case negative:
		return letter + "-" + x
	case p.signed:
		return letter + "+" + x
	}
	return letter + x
}

// loose reports whether the digits are not foretold.
func (p *numberPrint) loose() bool { return p.way == noise || p.way == rounded }

// near reports whether a text may be what a program makes of a number whose digits are not
// foretold. Noise is any number that is the same to fifteen digits and written with more; what is
// rounded is so to as many digits as are shown.
func (p *numberPrint) near(v value, seen string) bool {
	w, ok := p.read(seen)
	switch {
	case !ok:
		return false
	case p.way == noise:
		return w.num.Cmp(v.num) == 0 && !strings.HasSuffix(seen, "0") || w.num.NumDigits() > Digits15 && w.num.Exponent < 0 && EqualTo15(v.num, w.num)
	case !strings.ContainsAny(seen, "eE"):
		return w.num.Cmp(v.num) == 0
	}
	var x apd.Decimal
	_, err := wide.Quantize(&x, v.num, w.num.Exponent)
	return err == nil && x.Cmp(w.num) == 0
}

// tie reports whether a number is rounded to what is seen the other way: of one that is
// just between two, programs take either.
func (p *numberPrint) tie(v value, seen string) bool {
	q := *p
	switch p.way {
	case doubled:
		q.way = fixed
	case general:
		q.way = digits
	case fixed, digits:
	default:
		return false
	}
	if v.num.Coeff.IsUint64() && v.num.Coeff.Uint64()%10 != 5 {
		return false // no number ends so that is between two
	}
	for _, by := range [...]int64{1, -1} {
		var x apd.Decimal
		_, _ = wide.Add(&x, v.num, apd.New(by, v.num.Exponent-2))
		if s, ok := q.print(value{num: &x}); ok && s == seen {
			return true
		}
	}
	return false
}

func (p *numberPrint) read(seen string) (v value, ok bool) {
	n, ok := scanNumber(seen, p.decimal[0])
	if n.minus == brackets {
		n.suffix += p.suffix[len(strings.TrimRight(p.suffix, " ")):]
	}
	if !ok || n.prefix != p.prefix || n.suffix != p.suffix || n.group != p.group && n.group != "" || n.plus != p.plus && n.minus == positive {
		return v, false
	}
	d := n.decimal()
	if !n.percent() {
		d.Exponent -= p.tens
	}
	return value{num: d}, true
}

func (p *numberPrint) words() string {
	var all []string
	if p.decimal == "," {
		all = append(all, "decimal commas")
	}
	if p.group != "" {
		all = append(all, "groups of three digits")
	}
	if s := strings.TrimSpace(p.prefix + " " + p.suffix); s != "" {
		all = append(all, "with "+s)
	}
	switch p.way {
	case trimmed, script, shorter:
		all = append(all, "no zeros behind decimals")
	case pointed, python:
		all = append(all, "whole numbers with .0")
	case fixed, doubled:
		all = append(all, fmt.Sprintf("%d decimals", p.n))
	case cut:
		all = append(all, fmt.Sprintf("cut to %d decimals", p.n))
	case digits, general:
		if p.n < Digits15 {
			all = append(all, fmt.Sprintf("%d digits", p.n))
		}
	case science:
		all = append(all, "exponents")
	case noise:
		all = append(all, "the noise of doubles")
	case rounded:
		all = append(all, "rounded, in exponents")
	}
	if len(all) == 0 {
		return "numbers as the program writes them"
	}
	return strings.Join(all, ", ")
}

// plainNumber reports whether a text is a number without signs round it.
func plainNumber(s string) bool {
	n, ok := scanNumber(s, '.')
	return ok && n.prefix+n.suffix+n.group == ""
}

// example is a value and what is seen of it.
type example struct {
	v    value
	seen string
}

// numberPrints lists the ways in which numbers may have been written as they are seen,
// the simpler first; forms are the ways of a column, in which nothing is rounded.
func numberPrints(all []example, form bool) []*numberPrint {
	var found []*numberPrint
	for _, decimal := range []byte{'.', ','} {
		found = append(found, dressed(all, decimal, form)...)
	}
	return found
}

// dressed induces prints with one decimal sign.
func dressed(all []example, decimal byte, form bool) []*numberPrint {
	skins, scales, places, sizes := map[skin]int{}, map[int]int{}, map[int]int{}, map[int]int{}
	zeros, negative, groups, exponents, percents, most := 0, positive, "", scanned{}, 0, 0
	read := 0
	for _, x := range all {
		n, ok := scanNumber(x.seen, decimal)
		if !ok {
			continue
		}
		read++
		s := skin{decimal: string(rune(decimal)), prefix: n.prefix, suffix: n.suffix, plus: n.plus}
		if n.minus != positive {
			negative = n.minus
			s.plus = false
		}
		if n.minus != brackets { // behind them the room of a bracket is left away
			skins[s]++
		}
		groups = max(groups, n.group)
		if n.exponent != "" {
			exponents = n
			places[len(n.part)]++
		} else {
			scales[len(n.part)]++
		}
		sizes[len(n.whole)]++
		if len(n.whole) > 1 && n.whole[0] == '0' {
			zeros++
		}
		if n.percent() {
			percents++
		}
		most = max(most, len(strings.TrimLeft(n.whole+n.part, "0")))
	}
	if read*2 < len(all) || len(skins) == 0 {
		return nil
	}
	s := common(skins)
	s.minus, s.group = negative, groups
	if percents*2 > read {
		s.tens = 2
	}
	if n := common(sizes); zeros > 0 && sizes[n]*10 >= 9*read {
		s.width = n
	}
	if x := exponents.exponent; x != "" {
		s.letter, s.signed = x[0], strings.Contains(x, "+")
		s.wide = len(strings.TrimLeft(x[1:], "+-"))
	}
	return ways(s, common(scales), common(places), most, scales, form, exponents.exponent != "")
}

// ways lists the ways of writing digits that may be under a skin.
func ways(s skin, scale, place, most int, scales map[int]int, form, exponents bool) []*numberPrint {
	var all []*numberPrint
	add := func(w digitsWay, n int) { all = append(all, &numberPrint{skin: s, way: w, n: n}) }
	if form {
		for range 3 {
			if len(scales) == 0 {
				break
			}
			k := common(scales)
			add(fixed, k)
			delete(scales, k)
		}
		add(trimmed, 0)
		return all
	}
	add(written, 0)
	add(trimmed, 0)
	add(pointed, 0)
	add(python, 0)
	add(script, 0)
	add(shorter, 0)
	add(fixed, scale)
	add(doubled, scale)
	add(cut, scale)
	for _, n := range []int{Digits15, most, 4, 5, 6, 7, 10, 12, 16} {
		if n > 0 && n <= 17 {
			add(digits, n)
			add(general, n)
		}
	}
	if exponents {
		add(science, place)
		add(rounded, 0)
	}
	if most > Digits15 {
		add(noise, 0)
	}
	return all
}

// common is the key that most have, the lowest of several.
func common[K comparable](all map[K]int) K {
	var best K
	most := 0
	for k, n := range all {
		if n > most || n == most && fmt.Sprint(k) < fmt.Sprint(best) {
			best, most = k, n
		}
	}
	return best
}
