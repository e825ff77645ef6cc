package xlsx

import (
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"time"

	"paletwin/core/table"
	"paletwin/core/table/xmlscan"
)

// kind says what a number format makes of a number.
type kind uint8

const (
	plain   kind = iota
	textual      // the number is shown as text
	date         // days
	clock        // the time of a day, or a duration
	instant      // both
)

// cellStyles reads the number format of each cell format.
func (b *book) cellStyles() error {
	custom, places := map[string]kind{}, map[string]int{}
	inside := false // of cellXfs
	return b.scan(b.format, func(x *xmlscan.Scanner) error {
		switch {
		case x.Is("numFmt"):
			id, _ := x.Attr("numFmtId")
			code, _ := x.Attr("formatCode")
			custom[id], places[id] = kindOf(code), placesOf(code)
		case x.Is("cellXfs"):
			inside = true
		case x.Is("cellStyles"), x.Is("dxfs"):
			inside = false
		case x.Is("xf") && inside:
			id, _ := x.Attr("numFmtId")
			k, ok := custom[id]
			p := places[id]
			if !ok {
				k, p = builtIn(id), builtInPlaces(id)
			}
			if len(b.styles) < 1<<16 {
				b.styles, b.places = append(b.styles, k), append(b.places, p)
			}
		}
		return nil
	})
}

// builtIn is the kind of a format that every workbook has (ECMA-376 part 1,
// 18.8.30), those of East Asian locales included.
func builtIn(id string) kind {
	n, err := strconv.Atoi(id)
	switch {
	case err != nil:
		return plain
	case n == 22:
		return instant
	case n == 49:
		return textual
	case n >= 14 && n <= 17, n >= 27 && n <= 31, n == 36, n >= 50 && n <= 54, n == 57, n == 58:
		return date
	case n >= 18 && n <= 21, n >= 32 && n <= 35, n >= 45 && n <= 47, n == 55, n == 56:
		return clock
	}
	return plain
}

// builtInPlaces is how many decimals such a format shows, -1 where that is not fixed.
func builtInPlaces(id string) int {
	switch id {
	case "1", "3", "9", "37", "38":
		return 0
	case "2", "4", "10", "39", "40":
		return 2
	}
	return -1
}

// placesOf is how many decimals a format code shows, -1 where that is not fixed: those of
// its first section.
func placesOf(code string) int {
	code, _, _ = strings.Cut(code, ";")
	if !strings.ContainsAny(code, "0#?") || strings.ContainsAny(code, "eE/") || kindOf(code) != plain {
		return -1
	}
	_, part, _ := strings.Cut(code, ".")
	n := 0
	for n < len(part) && part[n] == '0' {
		n++
	}
	if n < len(part) && (part[n] == '#' || part[n] == '?') {
		return -1
	}
	return n
}

// kindOf looks at the letters of a format code, what stands in quotes, in
// brackets or behind a backslash aside; elapsed hours [h] are a clock.
func kindOf(code string) kind {
	if code == "@" {
		return textual
	}
	code, _, _ = strings.Cut(code, ";")
	days, hours, months := false, false, false
	for i := 0; i < len(code); i++ {
		switch c := code[i] | 0x20; {
		case code[i] == '\\' || code[i] == '_' || code[i] == '*':
			i++
		case code[i] == '"':
			end := strings.IndexByte(code[i+1:], '"')
			if end < 0 {
				return plain
			}
			i += end + 1
		case code[i] == '[':
			end := strings.IndexByte(code[i:], ']')
			if end < 0 {
				return plain
			}
			inner := strings.ToLower(code[i+1 : i+end])
			hours = hours || inner != "" && strings.Trim(inner, "h") == "" || inner != "" && strings.Trim(inner, "s") == "" || inner != "" && strings.Trim(inner, "m") == ""
			i += end
		case strings.HasPrefix(strings.ToLower(code[i:]), "general"):
			return plain
		case c == 'y' || c == 'd':
			days = true
		case c == 'h' || c == 's':
			hours = true
		case c == 'm':
			months = true
		case c == '0' || c == '#' || c == '?' || c == 'e':
			if !days && !hours && !months {
				return plain
			}
		}
	}
	switch {
	case days && hours:
		return instant
	case hours:
		return clock
	case days || months:
		return date
	}
	return plain
}

// epoch is how a workbook counts days.
type epoch uint8

const (
	from1900 epoch = iota // 1 is 1900-01-01, and 60 is 29 February, which never was
	from1899              // 0 is 1899-12-30, without a gap
	from1904              // 0 is 1904-01-01
)

// moment writes a stored number of days as a date, a time or both, exactly to
// the millisecond. It returns false for what is no such number.
func (e epoch) moment(value string, k kind) (string, bool) {
	days, ms, ok := split(digits(value))
	if !ok {
		return "", false
	}
	if k == clock && (days == 0 || days > 0 && days < 10_000) {
		return hours(days*24, ms), true
	}
	day, ok := e.day(days)
	if !ok {
		return "", false
	}
	if k == date && ms == 0 {
		return day, true
	}
	return day + "T" + hours(0, ms), true
}

func (e epoch) day(days int64) (string, bool) {
	if days < -700_000 || days > 2_960_000 {
		return "", false
	}
	start := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	switch {
	case e == from1904:
		start = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	case e == from1900 && days == 60:
		return "1900-02-29", true
	case e == from1900 && days > 0 && days < 60:
		start = start.AddDate(0, 0, 1)
	}
	t := start.AddDate(0, 0, int(days))
	if t.Year() < 1 || t.Year() > 9999 {
		return "", false
	}
	return t.Format(time.DateOnly), true
}

// split reads a decimal number as whole days and milliseconds of a day.
func split(value string) (days, ms int64, ok bool) {
	negative := strings.HasPrefix(value, "-")
	whole, fraction, _ := strings.Cut(strings.TrimPrefix(value, "-"), ".")
	if fraction = fraction[:min(len(fraction), 18)]; whole == "" {
		whole = "0"
	}
	days, err := strconv.ParseInt(whole, 10, 32)
	if err != nil {
		return 0, 0, false
	}
	scale := uint64(1)
	var part uint64
	for _, c := range fraction {
		if c < '0' || c > '9' {
			return 0, 0, false
		}
		part, scale = part*10+uint64(c-'0'), scale*10
	}
	const day = 24 * 60 * 60 * 1000
	high, low := bits.Mul64(part, day)
	low, carry := bits.Add64(low, scale/2, 0)
	q, _ := bits.Div64(high+carry, low, scale)
	ms = int64(q)
	if negative {
		days, ms = -days, -ms
	}
	if ms < 0 {
		days, ms = days-1, ms+day
	}
	if ms == day {
		days, ms = days+1, 0
	}
	return days, ms, true
}

// hours writes hours and milliseconds as 07:05:09 or 07:05:09.500; hours may
// be more than a day's.
func hours(h, ms int64) string {
	s := ms / 1000
	text := fmt.Sprintf("%02d:%02d:%02d", h+s/3600, s/60%60, s%60)
	if ms%1000 != 0 {
		text += strings.TrimRight(fmt.Sprintf(".%03d", ms%1000), "0")
	}
	return text
}

func sortNotes(notes []table.Note) {
	slices.SortStableFunc(notes, func(a, b table.Note) int { return strings.Compare(a.Code+a.Column, b.Code+b.Column) })
}

// serial is the inverse of moment: the stored number of days for a date, a
// time or both. It returns false where moment would not give the text back.
func (e epoch) serial(text string, k kind) (string, bool) {
	day, clock, both := strings.Cut(text, "T")
	if !both && strings.Contains(text, ":") {
		day, clock = "", text
	}
	days, ok := e.days(day)
	ms, fine := milliseconds(clock)
	if !ok || !fine {
		return "", false
	}
	const day24 = 24 * 60 * 60 * 1000
	days, ms = days+ms/day24, ms%day24
	number := strconv.FormatInt(days, 10)
	if ms != 0 {
		const scale = 10_000_000_000 // 15 digits with the days, of which a double keeps all
		number += strings.TrimRight(fmt.Sprintf(".%010d", (ms*scale+day24/2)/day24), "0")
	}
	back, ok := e.moment(number, k)
	return number, ok && back == text
}

// days returns the stored number of a day; "" is 0.
func (e epoch) days(day string) (int64, bool) {
	if day == "" {
		return 0, true
	}
	t, err := time.Parse(time.DateOnly, day)
	start := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	switch {
	case e == from1904:
		start = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	case e == from1900 && t.Year() == 1900 && t.Month() < time.March:
		start = start.AddDate(0, 0, 1)
	}
	return (t.Unix() - start.Unix()) / (24 * 60 * 60), err == nil
}

// milliseconds reads hours, minutes and seconds: 07:05:09.5; "" is 0.
func milliseconds(clock string) (int64, bool) {
	if clock == "" {
		return 0, true
	}
	h, rest, _ := strings.Cut(clock, ":")
	m, s, ok := strings.Cut(rest, ":")
	s, part, _ := strings.Cut(s, ".")
	var n int64
	for _, x := range []struct {
		text string
		each int64
	}{{h, 3600_000}, {m, 60_000}, {s, 1000}, {(part + "000")[:3], 1}} {
		v, err := strconv.ParseInt(x.text, 10, 32)
		if err != nil || v < 0 {
			return 0, false
		}
		n += v * x.each
	}
	return n, ok
}
