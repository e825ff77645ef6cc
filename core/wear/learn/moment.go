package learn

import (
	"strings"
	"time"
)

// order is the order of day, month and year.
type order int

const (
	ymd   order = iota
	dmy         // numbers
	mdy         // numbers
	named       // the month by its name, in any order
)

// months are names of months, of which three letters and more are taken, as they
// are written in small letters: English, German, French.
var months = map[string]time.Month{}

func init() {
	for _, language := range [...]string{"january february march april may june july august september october november december",
		"januar februar märz april mai juni juli august september oktober november dezember",
		"janvier février mars avril mai juin juillet août septembre octobre novembre décembre"} {
		for m, name := range strings.Fields(language) {
			r := []rune(name)
			for n := 3; n <= len(r); n++ {
				if _, there := months[string(r[:n])]; !there {
					months[string(r[:n])] = time.Month(m + 1)
				}
			}
		}
	}
	months["jui"], months["sept"], months["mrz"] = 0, time.September, time.March // jui may be two
}

// scanner goes along a text.
type scanner struct {
	s string
	i int
}

func (c *scanner) done() bool { return c.i == len(c.s) }

func (c *scanner) peek() byte {
	if c.i < len(c.s) {
		return c.s[c.i]
	}
	return 0
}

// digits takes a run of up to most digits; n is how many it were.
func (c *scanner) digits(most int) (v, n int) {
	for n < most && c.i < len(c.s) && isDigit(c.s[c.i]) {
		v = v*10 + int(c.s[c.i]-'0')
		c.i++
		n++
	}
	return v, n
}

// one takes one of some signs, and returns it.
func (c *scanner) one(of string) byte {
	if b := c.peek(); b != 0 && strings.IndexByte(of, b) >= 0 {
		c.i++
		return b
	}
	return 0
}

// word takes a run of letters.
func (c *scanner) word() string {
	from := c.i
	for c.i < len(c.s) && (c.s[c.i]|0x20 >= 'a' && c.s[c.i]|0x20 <= 'z' || c.s[c.i] >= 0x80) {
		c.i++
	}
	return c.s[from:c.i]
}

func (c *scanner) spaces() {
	for c.one(" ") != 0 {
	}
}

// year is the year of a number of so many digits; of two, the century starts with a
// pivot: 30 is 1930 to 2029.
func year(v, digits, pivot int) (int, bool) {
	switch {
	case digits == 4:
		return v, true
	case digits > 2:
		return 0, false
	case v < pivot:
		return 2000 + v, true
	}
	return 1900 + v, true
}

// readMoment reads a day, a time or both.
func readMoment(s string, o order, pivot int) (v value, ok bool) {
	if len(s) < 3 || len(s) > 48 {
		return v, false
	}
	c := scanner{s: s}
	y, m, d, ok := c.day(o, pivot)
	if !ok {
		return v, false
	}
	v.has = hasDay
	v.at = time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC)
	if v.at.Day() != d || int(v.at.Month()) != m {
		return v, false
	}
	if c.done() {
		return v, true
	}
	if c.one("T") == 0 {
		c.one(",")
		if c.one(" ") == 0 {
			return v, false
		}
	}
	c.spaces()
	return v, c.clock(&v) && c.done()
}

// readClock reads a time of day alone.
func readClock(s string) (v value, ok bool) {
	if len(s) < 3 || len(s) > 24 {
		return v, false
	}
	c := scanner{s: s}
	v.at = time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC)
	return v, c.clock(&v) && c.done()
}

// day reads a day.
func (c *scanner) day(o order, pivot int) (y, m, d int, ok bool) {
	if o == named {
		return c.namedDay(pivot)
	}
	a, na := c.digits(8)
	if na == 8 && o == ymd {
		return a / 10000, a / 100 % 100, a % 100, true
	}
	s := c.one("-/.")
	if s == 0 || na > 4 {
		return 0, 0, 0, false
	}
	b, nb := c.digits(2)
	if nb == 0 || c.one(string(rune(s))) == 0 {
		return 0, 0, 0, false
	}
	e, ne := c.digits(4)
	if ne == 0 {
		return 0, 0, 0, false
	}
	switch o {
	case ymd:
		return a, b, e, na == 4 && ne <= 2
	case mdy:
		a, b = b, a
		na, nb = nb, na
	}
	y, ok = year(e, ne, pivot)
	return y, b, a, ok && na <= 2 && nb <= 2
}

// namedDay reads 2 Mar 2026, 2-MAR-26, March 2, 2026, Mon Mar 2 2026.
func (c *scanner) namedDay(pivot int) (y, m, d int, ok bool) {
	if w := c.word(); w != "" {
		month, is := months[strings.ToLower(w)]
		if !is && len(w) >= 3 { // a day of the week
			c.one(",")
			c.spaces()
			if isDigit(c.peek()) {
				return c.namedDay(pivot)
			}
			if w = c.word(); w == "" {
				return 0, 0, 0, false
			}
			month = months[strings.ToLower(w)]
		}
		c.one(".")
		if month == 0 || c.one(" -") == 0 {
			return 0, 0, 0, false
		}
		d, n := c.digits(2)
		c.one(",")
		if n == 0 || c.one(" -") == 0 {
			return 0, 0, 0, false
		}
		v, n := c.digits(4)
		y, ok = year(v, n, pivot)
		return y, int(month), d, ok && n > 1
	}
	d, n := c.digits(2)
	c.one(".")
	sep := c.one(" -/")
	if n == 0 || sep == 0 && c.s[max(c.i-1, 0)] != '.' {
		return 0, 0, 0, false
	}
	month := months[strings.ToLower(c.word())]
	c.one(".")
	c.one(",")
	if month == 0 || sep != 0 && c.one(string(rune(sep))) == 0 {
		return 0, 0, 0, false
	}
	v, n := c.digits(4)
	y, ok = year(v, n, pivot)
	return y, int(month), d, ok && n > 1
}

// clock reads a time of day, with a zone perhaps.
func (c *scanner) clock(v *value) bool {
	h, n := c.digits(2)
	if n == 0 || c.one(":") == 0 {
		return false
	}
	m, n := c.digits(2)
	if n != 2 {
		return false
	}
	sec, nanos := 0, 0
	if c.one(":") != 0 {
		if sec, n = c.digits(2); n != 2 {
			return false
		}
		if c.one(".,") != 0 {
			from := c.i
			if _, n = c.digits(9); n == 0 {
				return false
			}
			for _, d := range []byte((c.s[from:c.i] + "00000000")[:9]) {
				nanos = nanos*10 + int(d-'0')
			}
		}
	}
	if h, n = c.half(h); n < 0 || h > 23 || m > 59 || sec > 59 {
		return false
	}
	v.has |= hasClock
	y, month, d := v.at.Date()
	v.at = time.Date(y, month, d, h, m, sec, nanos, time.UTC)
	return c.zone(v)
}

// half reads AM and PM; n is below 0 where the hour has none.
func (c *scanner) half(h int) (hour, n int) {
	at := c.i
	c.spaces()
	switch w := strings.ToUpper(c.word()); {
	case w != "AM" && w != "PM":
		c.i = at
		return h, 0
	case h < 1 || h > 12:
		return h, -1
	case w == "PM":
		return h%12 + 12, 0
	}
	return h % 12, 0
}

// zone reads the zone of a time.
func (c *scanner) zone(v *value) bool {
	if c.done() {
		return true
	}
	c.spaces()
	switch s := c.one("+-−"); {
	case s != 0:
		h, n := c.digits(2)
		if n == 0 {
			return false
		}
		c.one(":")
		m, _ := c.digits(2)
		v.zone = h*60 + m
		if s == '-' {
			v.zone = -v.zone
		}
	default:
		off, there := zones[c.word()]
		if !there {
			return false
		}
		v.zone = off
	}
	v.has |= hasZone
	return true
}

// zones are names of zones that programs write, in minutes east of Greenwich.
var zones = map[string]int{"Z": 0, "UTC": 0, "GMT": 0, "CET": 60, "CEST": 120, "BST": 60, "WET": 0, "WEST": 60, "EET": 120, "EEST": 180, "EST": -300, "EDT": -240, "CST": -360, "CDT": -300, "PST": -480, "PDT": -420}

// readCode reads a code as a day without a year: MAR-2, OCT4, 2-MAR, 3/4, 5-12.
// Numbers are read in an order, the month first or the day.
func readCode(s string, o order) (v value, ok bool) {
	c := scanner{s: s}
	var m, d, n int
	if w := c.word(); w != "" {
		m = int(months[strings.ToLower(w)])
		c.one("-/ ")
		d, n = c.digits(2)
	} else {
		a, na := c.digits(2)
		sep := c.one("-/ .")
		if w := c.word(); w != "" && na > 0 {
			m, d, n = int(months[strings.ToLower(w)]), a, na
		} else {
			b, nb := c.digits(2)
			if na == 0 || nb == 0 || sep == 0 || sep == ' ' {
				return v, false
			}
			if m, d, n = a, b, nb; o == dmy {
				m, d = d, m
			}
		}
	}
	if n == 0 || m == 0 || !c.done() {
		return v, false
	}
	v.at = time.Date(0, time.Month(m), d, 0, 0, 0, 0, time.UTC) // the year 0 has a 29 February
	v.has = hasDay | noYear
	return v, v.at.Day() == d && int(v.at.Month()) == m
}

// readMonth reads a code as a month of a year: Mar-26, 10-31 is October 1931.
func readMonth(s string, pivot int) (v value, ok bool) {
	c := scanner{s: s}
	m, n := 0, 0
	if w := c.word(); w != "" {
		m = int(months[strings.ToLower(w)])
	} else {
		m, n = c.digits(2)
		if n == 0 {
			return v, false
		}
	}
	if c.one("-/ ") == 0 {
		return v, false
	}
	y, n := c.digits(4)
	y, ok = year(y, n, pivot)
	if !ok || n < 2 || m < 1 || m > 12 || !c.done() {
		return v, false
	}
	v.at, v.has = time.Date(y, time.Month(m), 1, 0, 0, 0, 0, time.UTC), hasDay
	return v, true
}
