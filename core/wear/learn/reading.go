package learn

import (
	"strings"
	"time"
	"unicode/utf8"

	"github.com/cockroachdb/apd/v3"
)

// reading is one way in which texts are values. Programs differ in it: 3/4 is a
// text, the third of April or the fourth of March.
type reading struct {
	name  string // of one that takes codes for something else, in words
	sort  sort
	guess bool // a code is taken for something else
	take  func(string) (value, bool)
}

// numbers reads numbers with a decimal sign, with exponents or without.
func numbers(decimal byte, exponents bool) *reading {
	return &reading{sort: number, guess: exponents, take: func(s string) (v value, ok bool) {
		n, ok := scanNumber(s, decimal)
		if !ok || !exponents && n.exponent != "" {
			return v, false
		}
		return value{num: n.decimal()}, true
	}}
}

// moments reads days in an order, times, or both.
func moments(o order, pivot int) *reading {
	return &reading{sort: moment, take: func(s string) (value, bool) { return readMoment(s, o, pivot) }}
}

// flags reads two words.
func flags(yes, no string) *reading {
	return &reading{sort: flag, take: func(s string) (value, bool) {
		switch {
		case strings.EqualFold(s, yes):
			return value{yes: true}, true
		case strings.EqualFold(s, no):
			return value{}, true
		}
		return value{}, false
	}}
}

// flagWords are the pairs of words for true and false.
var flagWords = [][2]string{{"true", "false"}, {"yes", "no"}, {"t", "f"}, {"y", "n"}, {"on", "off"}, {"wahr", "falsch"}, {"vrai", "faux"}, {"ja", "nein"}, {"oui", "non"}, {"1", "0"}, {"1.0", "0.0"}}

// natural are the readings that a person makes, the likelier first. Of those that read
// as many of a column's values the first is the column's own. The centuries of years of two
// digits start with 30 in spreadsheet programs, and with 69 by POSIX.
var natural = []*reading{
	numbers('.', false),
	numbers(',', false),
	moments(ymd, 30),
	moments(dmy, 30),
	moments(mdy, 30),
	moments(named, 30),
	moments(dmy, 69),
	moments(mdy, 69),
	moments(named, 69),
	{sort: moment, take: readClock},
}

// others are readings that only programs make of codes and of texts in a form of their
// own.
var others []*reading

func init() {
	others = []*reading{
		numbers('.', true),
		numbers(',', true),
		{sort: number, take: func(s string) (value, bool) { // zeros before a number make it a text
			if len(s) > 1 && s[0] == '0' && isDigit(s[1]) {
				return value{}, false
			}
			return natural[0].take(s)
		}},
		{name: "codes taken for days", sort: moment, guess: true, take: func(s string) (value, bool) { return readCode(s, mdy) }},
		{name: "codes taken for days, day first", sort: moment, guess: true, take: func(s string) (value, bool) { return readCode(s, dmy) }},
		{name: "codes taken for months", sort: moment, guess: true, take: func(s string) (value, bool) { return readMonth(s, 30) }},
		{name: "codes taken for months", sort: moment, guess: true, take: func(s string) (value, bool) { return readMonth(s, 69) }},
		{name: "numbers taken for days", sort: moment, guess: true, take: readSerial},
	}
	for _, w := range flagWords[:len(flagWords)-1] {
		natural = append(natural, flags(w[0], w[1]))
	}
}

// asText takes any text for itself.
var asText = &reading{sort: texts, take: func(s string) (value, bool) { return value{text: s}, s != "" }}

// serialZero is the day that spreadsheet programs count from.
var serialZero = time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)

// lastSerial is the end of the year 2199, as a count of days.
const lastSerial = 109_574

// readSerial reads a count of days.
func readSerial(s string) (v value, ok bool) {
	n, ok := scanNumber(s, '.')
	if !ok || n.prefix != "" || n.suffix != "" || n.group != "" || n.exponent != "" || n.minus != positive {
		return v, false
	}
	d := n.decimal()
	f, err := d.Float64()
	if err != nil || f < 0 || f > lastSerial {
		return v, false
	}
	v.at, v.has = serialZero.Add(time.Duration(f*86400+0.5)*time.Second), hasDay
	if n.part != "" {
		v.has |= hasClock
	}
	return v, true
}

// count is a way in which a moment becomes a number.
type count struct {
	name string
	days bool // of days with a date; of times alone otherwise
	of   func(value) *apd.Decimal
	back func(*apd.Decimal) (value, bool)
}

// counts are counts of days, seconds and hours.
var counts = []*count{
	counted("counts of days", true, serialZero, 86400),
	counted("counts of days from 1904", true, time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC), 86400),
	counted("counts of days from 1970", true, time.Unix(0, 0).UTC(), 86400),
	counted("seconds from 1970", true, time.Unix(0, 0).UTC(), 1),
	counted("milliseconds from 1970", true, time.Unix(0, 0).UTC(), 0),
	counted("parts of a day", false, time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC), 86400),
	counted("hours", false, time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC), 3600),
	counted("minutes", false, time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC), 60),
	counted("seconds", false, time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC), 1),
}

// counted counts from a moment in units of seconds; 0 is milliseconds.
func counted(name string, days bool, zero time.Time, unit int64) *count {
	ctx := apd.BaseContext.WithPrecision(24)
	return &count{name, days, func(v value) *apd.Decimal {
		at := v.at.Add(-time.Duration(v.zone) * time.Minute)
		d := apd.New(at.Unix()-zero.Unix(), 0)
		if ns := int64(at.Nanosecond()); ns != 0 {
			_, _ = ctx.Add(d, d, apd.New(ns, -9))
		}
		if unit == 0 {
			d.Exponent += 3
			_, _ = ctx.Quantize(d, d, min(d.Exponent, 0))
			return d
		}
		_, _ = ctx.Quo(d, d, apd.New(unit, 0))
		d.Reduce(d)
		if d.Exponent > 0 {
			_, _ = ctx.Quantize(d, d, 0)
		}
		return d
	}, func(d *apd.Decimal) (v value, ok bool) {
		x := new(apd.Decimal)
		if unit == 0 {
			x.Set(d).Exponent -= 3
		} else {
			_, _ = ctx.Mul(x, d, apd.New(unit, 0))
		}
		whole := new(apd.Decimal)
		wide := apd.BaseContext.WithPrecision(24)
		wide.Rounding = apd.RoundHalfUp
		if _, err := wide.Quantize(whole, x, 0); err != nil {
			return v, false
		}
		sec, err := whole.Int64()
		if err != nil || sec > 1<<40 || sec < -1<<40 {
			return v, false
		}
		v.at, v.has = time.Unix(zero.Unix()+sec, 0).UTC(), hasDay|hasClock
		if v.at.Hour()+v.at.Minute()+v.at.Second() == 0 {
			v.has = hasDay
		}
		if !days {
			v.has = hasClock
		}
		return v, true
	}}
}

// runes counts letters.
func runes(s string) int { return utf8.RuneCountInString(s) }
