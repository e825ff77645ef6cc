package learn

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
)

// piece is a part of a template for days and times.
type piece struct {
	kind pieceKind
	text string // of a literal; the form of a name
}

type pieceKind int

const (
	literal pieceKind = iota
	year4
	year2
	month2
	month1
	day2
	day1
	monthWord
	hour2
	hour1
	half2 // of twelve
	half1
	minute2
	second2
	part3 // of a second
	part6
	partAny
	noon
	weekday
	compactDay // 20260311
	zoneWord
	zoneHour
)

// fields are the parts of a moment that a piece tells; no two pieces tell one.
func (k pieceKind) field() int {
	switch k {
	case year4, year2:
		return 1
	case month2, month1, monthWord:
		return 2
	case day2, day1:
		return 3
	case hour2, hour1, half2, half1:
		return 4
	case minute2:
		return 5
	case second2:
		return 6
	case part3, part6, partAny:
		return 7
	case noon:
		return 8
	case compactDay:
		return 9
	case zoneWord:
		return 10
	case zoneHour:
		return 11
	}
	return 0
}

// template writes days and times.
type template struct {
	pieces    []piece
	low, high int // years of the column, which tell the century of two digits
	year      int // of days without a year
	has       parts
}

// write writes one piece.
func (p piece) write(b []byte, v *value) []byte {
	two := func(n int) []byte { return append(b, byte('0'+n/10%10), byte('0'+n%10)) }
	t := v.at
	switch p.kind {
	case literal:
		return append(b, p.text...)
	case year4:
		y := t.Year()
		b = append(b, byte('0'+y/1000%10), byte('0'+y/100%10))
		return append(b, byte('0'+y/10%10), byte('0'+y%10))
	case year2:
		return two(t.Year() % 100)
	case month2:
		return two(int(t.Month()))
	case month1:
		return strconv.AppendInt(b, int64(t.Month()), 10)
	case day2:
		return two(t.Day())
	case day1:
		return strconv.AppendInt(b, int64(t.Day()), 10)
	case monthWord:
		return append(b, cased(t.Month().String(), p.text)...)
	case weekday:
		return append(b, cased(t.Weekday().String(), p.text)...)
	case hour2:
		return two(t.Hour())
	case hour1:
		return strconv.AppendInt(b, int64(t.Hour()), 10)
	case half2:
		return two((t.Hour()+11)%12 + 1)
	case half1:
		return strconv.AppendInt(b, int64((t.Hour()+11)%12+1), 10)
	case minute2:
		return two(t.Minute())
	case second2:
		return two(t.Second())
	case part3, part6:
		n := 3 * (1 + int(p.kind-part3))
		return append(b, fmt.Sprintf("%09d", t.Nanosecond())[:n]...)
	case partAny:
		return append(b, strings.TrimRight(fmt.Sprintf("%09d", t.Nanosecond()), "0")...)
	case noon:
		word := "AM"
		if t.Hour() >= 12 {
			word = "PM"
		}
		return append(b, cased(word, p.text)...)
	case compactDay:
		return t.AppendFormat(b, "20060102")
	case zoneWord:
		return append(b, v.name...)
	case zoneHour:
		return two(v.zone / 60)
	}
	return b
}

// cased writes a name in a form: of three letters or in full, in capitals or small.
func cased(name, form string) string {
	if len(form) == 3 {
		name = name[:3]
	}
	switch {
	case form == strings.ToUpper(form):
		return strings.ToUpper(name)
	case form == strings.ToLower(form):
		return strings.ToLower(name)
	}
	return name
}

// nameForms are the forms in which names may be written.
var nameForms = []string{"Jan", "JAN", "jan", "January", "JANUARY", "january"}

func (t *template) print(v value) (string, bool) {
	if v.has&t.has&(hasDay|hasClock) != t.has&(hasDay|hasClock) {
		return "", false
	}
	if v.has&noYear != 0 {
		v.at = time.Date(t.year, v.at.Month(), v.at.Day(), v.at.Hour(), v.at.Minute(), v.at.Second(), v.at.Nanosecond(), time.UTC)
	}
	var buf [48]byte
	b := buf[:0]
	for _, p := range t.pieces {
		b = p.write(b, &v)
	}
	return string(b), true
}

// run is a stretch of a text: digits, letters, or other signs.
type run struct {
	kind byte // '0', 'a', or 0
	text string
}

func runsOf(s string) []run {
	var all []run
	kind := func(r rune) byte {
		switch {
		case r >= '0' && r <= '9':
			return '0'
		case unicode.IsLetter(r):
			return 'a'
		}
		return 0
	}
	from, last := 0, byte(1)
	for i, r := range s {
		if k := kind(r); k != last || k == 0 {
			if i > from {
				all = append(all, run{last, s[from:i]})
			}
			from, last = i, k
		}
	}
	if from < len(s) {
		all = append(all, run{last, s[from:]})
	}
	return all
}

// shapeOf is what of a text's runs is the same in all texts of a template.
func shapeOf(all []run) string {
	var b strings.Builder
	for _, r := range all {
		if r.kind != 0 {
			b.WriteByte(r.kind)
		} else {
			b.WriteString(r.text)
		}
	}
	return b.String()
}

// agree is the share, in percent, of texts of a template that a piece has to write.
const agree = 70

// templates lists templates by which moments may have been written as they are seen: one
// for the shape that most have, voted run by run.
func templates(all []example) []*template {
	shapes := map[string]int{}
	split := make([][]run, len(all))
	for i, x := range all {
		split[i] = runsOf(x.seen)
		shapes[shapeOf(split[i])]++
	}
	shape := common(shapes)
	var of []example
	var runs [][]run
	for i, x := range all {
		if shapeOf(split[i]) == shape {
			of = append(of, x)
			runs = append(runs, split[i])
		}
	}
	if len(of) < 2 || len(runs[0]) > 24 {
		return nil
	}
	t := &template{has: hasDay | hasClock, low: 9999}
	for _, x := range of {
		t.has &= x.v.has
		t.low, t.high = min(t.low, x.v.at.Year()), max(t.high, x.v.at.Year())
	}
	options := make([][]piece, len(runs[0]))
	for p := range runs[0] {
		if options[p] = voted(of, runs, p); len(options[p]) == 0 {
			return nil
		}
	}
	var found []*template
	for _, pieces := range assigned(options) {
		x := *t
		x.pieces = pieces
		found = append(found, &x)
	}
	return found
}

// voted lists the pieces that write a run in most texts, the better first.
func voted(of []example, runs [][]run, p int) []piece {
	literals := map[string]int{}
	for _, r := range runs {
		literals[r[p].text]++
	}
	constant := piece{literal, common(literals)}
	same := literals[constant.text]*100 >= agree*len(of)
	if runs[0][p].kind == 0 {
		return []piece{constant}
	}
	var found []piece
	try := func(c piece) {
		n := 0
		var buf [16]byte
		for i, x := range of {
			if string(c.write(buf[:0], &x.v)) == runs[i][p].text {
				n++
			}
		}
		if n*100 >= agree*len(of) {
			found = append(found, c)
		}
	}
	if runs[0][p].kind == 'a' {
		for _, f := range nameForms {
			try(piece{monthWord, f})
			try(piece{weekday, f})
		}
		try(piece{noon, "AM"})
		try(piece{noon, "am"})
		if of[0].v.name != "" && !same {
			try(piece{kind: zoneWord})
		}
	} else {
		kinds := []pieceKind{year4, year2, month2, month1, day2, day1, compactDay}
		clock := []pieceKind{hour2, hour1, half2, half1, minute2, second2, part3, part6, partAny}
		if of[0].v.has&hasClock != 0 {
			kinds = append(kinds, clock...)
		}
		if of[0].v.has&hasDay == 0 {
			kinds = clock
		}
		for _, k := range kinds {
			if of[0].v.has&noYear != 0 && k.field() == 1 {
				continue
			}
			try(piece{kind: k})
		}
	}
	if same {
		found = append(found, constant)
	} else if of[0].v.name != "" && runs[0][p].kind == '0' {
		try(piece{kind: zoneHour})
	}
	return found
}

// assigned lists the choices of one piece a run in which nothing is told twice.
func assigned(options [][]piece) [][]piece {
	const most = 24
	var all [][]piece
	chosen := make([]piece, 0, len(options))
	told := 0
	var next func(p int)
	next = func(p int) {
		if len(all) == most {
			return
		}
		if p == len(options) {
			all = append(all, slices.Clone(chosen))
			return
		}
		for _, c := range options[p] {
			bit := 1 << c.kind.field() &^ 1
			if told&bit != 0 {
				continue
			}
			told |= bit
			chosen = append(chosen, c)
			next(p + 1)
			chosen = chosen[:len(chosen)-1]
			told &^= bit
		}
	}
	next(0)
	return all
}

// taken are the parts of a moment that were read.
type taken struct {
	year, month, day, hour, minute, second, nanos int
	half, afternoon                               bool // the hour is one of twelve
}

// digitsOf says where a piece of digits goes, and how many it has at most.
func (p piece) digitsOf(t *taken) (to *int, most int) {
	switch p.kind.field() {
	case 1:
		if p.kind == year2 {
			return &t.year, 2
		}
		return &t.year, 4
	case 2:
		return &t.month, 2
	case 3:
		return &t.day, 2
	case 4:
		return &t.hour, 2
	case 5:
		return &t.minute, 2
	case 6:
		return &t.second, 2
	}
	return new(int), 2 // a zone's hour
}

// take reads one piece; false if it is not there.
func (p piece) take(c *scanner, t *taken) bool {
	switch p.kind {
	case literal:
		if !strings.HasPrefix(c.s[c.i:], p.text) {
			return false
		}
		c.i += len(p.text)
	case monthWord:
		t.month = int(months[strings.ToLower(c.word())])
	case weekday, zoneWord:
		c.word()
	case noon:
		t.half, t.afternoon = true, strings.EqualFold(c.word(), "PM")
	case compactDay:
		v, n := c.digits(8)
		t.year, t.month, t.day = v/10000, v/100%100, v%100
		return n == 8
	case part3, part6, partAny:
		from := c.i
		_, _ = c.digits(9)
		for _, x := range []byte((c.s[from:c.i] + "000000000")[:9]) {
			t.nanos = t.nanos*10 + int(x-'0')
		}
	default:
		to, most := p.digitsOf(t)
		v, n := c.digits(most)
		*to = v
		return n == most || n > 0 && p.kind.unpadded()
	}
	return true
}

// read is the moment of which the template makes a text.
func (t *template) read(seen string) (v value, ok bool) {
	x := taken{year: t.year, month: 1, day: 1}
	if t.has&hasDay == 0 {
		x.year = 0
	}
	c := scanner{s: seen}
	told := 0
	for _, p := range t.pieces {
		if !p.take(&c, &x) {
			return v, false
		}
		told |= 1 << p.kind.field()
		if p.kind == year2 {
			if t.low/100 != t.high/100 {
				return v, false // of which century it is cannot be told
			}
			x.year += t.low / 100 * 100
		}
	}
	if x.half {
		if x.hour %= 12; x.afternoon {
			x.hour += 12
		}
	}
	const monthAndDay, compact = 1<<2 | 1<<3, 1 << 9
	if !c.done() || x.month < 1 || x.month > 12 || t.has&hasDay != 0 && told&monthAndDay != monthAndDay && told&compact == 0 {
		return v, false
	}
	v.at = time.Date(x.year, time.Month(x.month), x.day, x.hour, x.minute, x.second, x.nanos, time.UTC)
	v.has = t.has
	return v, v.at.Day() == x.day && v.at.Hour() == x.hour && v.at.Minute() == x.minute
}

// unpadded reports whether a piece has no zero before a single digit.
func (k pieceKind) unpadded() bool {
	return k == month1 || k == day1 || k == hour1 || k == half1
}

// marks are how the pieces are told to people.
var marks = map[pieceKind]string{year4: "yyyy", year2: "yy", month2: "mm", month1: "m", day2: "dd", day1: "d", hour2: "hh", hour1: "h", half2: "hh", half1: "h", minute2: "mi", second2: "ss",
	part3: "sss", part6: "ssssss", partAny: "s", noon: "AM", weekday: "weekday", compactDay: "yyyymmdd", zoneWord: "zone", zoneHour: "zone"}

// words show the template: dd/mm/yyyy hh:mi.
func (t *template) words() string {
	var b strings.Builder
	for _, p := range t.pieces {
		switch {
		case p.kind == literal:
			b.WriteString(p.text)
		case p.kind == monthWord:
			b.WriteString(p.text)
		default:
			b.WriteString(marks[p.kind])
		}
	}
	return "as " + b.String()
}
