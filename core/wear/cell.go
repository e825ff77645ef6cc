package wear

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/cockroachdb/apd/v3"

	"paletwin/core/wear/learn"
)

// cell is what LibreOffice makes of a text that it imports or that is typed:
// what it then writes into CSV as shown, into CSV as stored, and what a reader
// finds in its XLSX and ODS files.
type cell struct {
	shown, raw  string
	stored, ods string // in XLSX and in ODS
	through     string // in CSV after XLSX, where that is another than shown
	kind        Kind
}

// Kind is a kind of wear, for counting and explaining.
type Kind string

const (
	Zeros      Kind = "leading-zeros"
	Exponent   Kind = "exponent"
	Precision  Kind = "precision"
	Number     Kind = "number-format"
	DateForm   Kind = "date-format"
	DateGuess  Kind = "date-guess"
	Boolean    Kind = "boolean"
	Whitespace Kind = "whitespace"
	Encoding   Kind = "encoding"
	Unicode    Kind = "unicode"
	Truncated  Kind = "truncated"
	ErrorValue Kind = "error-value"
	Formula    Kind = "formula"
	NullToken  Kind = "null-token"
	LetterCase Kind = "letter-case"
	Marks      Kind = "marks"
)

// importer is how LibreOffice takes text: under a locale, with the detection
// of special numbers on or off, in a year.
type importer struct {
	*Locale
	special bool
	year    int // the clock's, for dates without one
}

// take recognises a text; ok is false if it stays text.
func (im *importer) take(text string) (cell, bool) {
	inner := strings.Trim(text, " ")
	if inner == "" || len(inner) > 400 {
		return cell{}, false
	}
	for _, f := range []func(string) (cell, bool){im.number, im.scientific, im.isoDate} {
		if c, ok := f(inner); ok {
			return c, true
		}
	}
	if !im.special {
		return cell{}, false
	}
	inner = strings.Trim(text, " \u00a0")
	if inner != strings.Trim(text, " ") {
		if c, ok := im.number(inner); ok {
			return c, true
		}
	}
	for _, f := range []func(string) (cell, bool){im.boolean, im.date, im.monthDate, im.moment, im.clock, im.percent, im.bracketed, im.currency, im.fraction} {
		if c, ok := f(inner); ok {
			return c, true
		}
	}
	return cell{}, false
}

// plain is the text of a number with a point as digits with the locale's sign.
func (im *importer) plain(d *apd.Decimal) string {
	return strings.Replace(general(d), ".", string(im.decimal), 1)
}

// number takes signs, digits, the locale's decimal sign and its groups.
func (im *importer) number(s string) (cell, bool) {
	d, ok := im.decimalOf(s)
	if !ok {
		return cell{}, false
	}
	return im.numberCell(d, s), true
}

func (im *importer) numberCell(d *apd.Decimal, s string) cell {
	shown := im.plain(d)
	c := cell{shown: shown, raw: shown, stored: stored(d), ods: odsNumber(d), through: im.plain(round15(d)), kind: Number}
	digits := strings.TrimLeft(s, "+-")
	switch {
	case strings.ContainsRune(shown, 'E'):
		c.kind = Exponent
	case d.NumDigits() > 15 && strings.Trim(strings.Trim(s, "+-"), "0123456789") == "":
		c.kind = Precision
	case len(digits) > 1 && digits[0] == '0' && digits[1] >= '0' && digits[1] <= '9':
		c.kind = Zeros
	case d.NumDigits() > 15:
		c.kind = Precision
	}
	return c
}

var (
	pointed = regexp.MustCompile(`^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)$`)
	tail    = regexp.MustCompile(`^[0-9]+(\.[0-9]+)?-$`)
)

// decimalOf reads a number in the locale's way; what it cannot be is no number.
func (im *importer) decimalOf(s string) (*apd.Decimal, bool) {
	sign := ""
	body := s
	if body != "" && (body[0] == '-' || body[0] == '+') {
		sign, body = body[:1], body[1:]
	}
	if im.special {
		if sign != "" {
			body = strings.TrimLeft(body, " ")
		}
		if sign == "" && tail.MatchString(strings.ReplaceAll(body, string(im.decimal), ".")) {
			sign, body = "-", strings.TrimSuffix(body, "-")
		}
	}
	if im.decimal == ',' && im.Name == "fr-FR" && strings.Contains(body, ".") {
		return nil, false
	}
	whole, fraction, cut := strings.Cut(body, string(im.decimal))
	if groups := strings.Split(whole, im.group); len(groups) > 1 {
		for i, g := range groups {
			if len(g) != 3 && (i > 0 || len(g) == 0 || len(g) > 3) {
				return nil, false
			}
		}
		if im.group == "\u202f" {
			return nil, false
		}
		whole = strings.Join(groups, "")
	} else if im.Name == "fr-FR" {
		for _, g := range []string{" ", "\u00a0", "\u202f"} {
			if groups := strings.Split(whole, g); len(groups) > 1 {
				for i, x := range groups {
					if len(x) != 3 && (i > 0 || len(x) == 0 || len(x) > 5) {
						return nil, false
					}
				}
				whole = strings.Join(groups, "")
			}
		}
	}
	text := whole
	if cut {
		text += "." + fraction
	}
	if !pointed.MatchString(text) || strings.ContainsAny(text, "+-") {
		return nil, false
	}
	if text = strings.TrimSuffix(text, "."); strings.HasPrefix(text, ".") {
		text = "0" + text
	}
	d, _, err := apd.NewFromString(text)
	if err != nil {
		return nil, false
	}
	d.Negative = sign == "-"
	return d, true
}

// round15 rounds a number to the digits that a binary number surely has: what is
// rounded is the shortest decimal that is the same double.
func round15(d *apd.Decimal) *apd.Decimal {
	if d.NumDigits() > learn.Digits15 {
		if f, err := strconv.ParseFloat(d.Text('e'), 64); err == nil {
			if short, _, err := apd.NewFromString(strconv.FormatFloat(f, 'e', -1, 64)); err == nil {
				d = short
			}
		}
	}
	r := new(apd.Decimal)
	c := apd.Context{Precision: learn.Digits15, MaxExponent: 100_000, MinExponent: -100_000, Rounding: apd.RoundHalfUp}
	_, _ = c.Round(r, d) // without traps it has no error
	r.Reduce(r)
	return r
}

var exact53 = apd.New(1<<53, 0)

// general writes a number as the format General does in CSV: up to 15 digits,
// whole numbers below 2^53 in full, larger ones with an exponent of three
// digits.
func general(d *apd.Decimal) string {
	if d.IsZero() {
		return "0"
	}
	abs := new(apd.Decimal).Abs(d)
	r := new(apd.Decimal)
	_, err := r.Reduce(abs)
	_ = err
	whole := r.Exponent >= 0
	sign := ""
	if d.Negative {
		sign = "-"
	}
	switch {
	case whole && abs.Cmp(exact53) < 0:
		return sign + r.Text('f')
	case abs.Cmp(exact53) >= 0:
		m := round15(abs)
		digits := m.Coeff.String()
		exponent := int(m.Exponent) + len(digits) - 1
		digits = strings.TrimRight(digits, "0")
		if len(digits) > 1 {
			digits = digits[:1] + "." + digits[1:]
		}
		return fmt.Sprintf("%s%sE+%03d", sign, digits, exponent)
	}
	return sign + trimZeros(round15(abs).Text('f'))
}

// stored is what a reader finds in a workbook: at most 15 digits, in full.
func stored(d *apd.Decimal) string {
	if d.IsZero() {
		return "0"
	}
	return trimZeros(round15(d).Text('f'))
}

// odsNumber is what a reader finds in ODS: as General shows it, with a point,
// and a zero keeps its sign.
func odsNumber(d *apd.Decimal) string {
	if d.IsZero() && d.Negative {
		return "-0"
	}
	return general(d)
}

func trimZeros(s string) string {
	if strings.Contains(s, ".") {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	return s
}

var scientificForm = regexp.MustCompile(`^([+-]?[0-9]+(?:\.[0-9]+)?)[eE]([+-]?[0-9]{1,3})$`)

// scientific takes 1E5, and shows it as 1.00E+05.
func (im *importer) scientific(s string) (cell, bool) {
	m := scientificForm.FindStringSubmatch(strings.Replace(s, string(im.decimal), ".", 1))
	if m == nil || im.decimal != '.' && strings.Contains(s, ".") {
		return cell{}, false
	}
	e, err := strconv.Atoi(m[2])
	if err != nil || e > 290 || e < -290 {
		return cell{}, false
	}
	d, _, err := apd.NewFromString(m[1])
	if err != nil {
		return cell{}, false
	}
	d.Exponent += int32(e)
	if !im.special { // the format stays General
		return cell{shown: im.plain(d), raw: im.plain(d), stored: stored(d), ods: odsNumber(d), kind: Exponent}, true
	}
	return cell{shown: strings.Replace(sci(d, 2), ".", string(im.decimal), 1), raw: im.plain(d), stored: stored(d), ods: odsNumber(d), kind: Exponent}, true
}

// sci writes 0.00E+00.
func sci(d *apd.Decimal, decimals uint32) string {
	sign := ""
	if d.Negative {
		sign = "-"
	}
	if d.IsZero() {
		return "0." + strings.Repeat("0", int(decimals)) + "E+00"
	}
	r := new(apd.Decimal)
	c := apd.Context{Precision: decimals + 1, MaxExponent: 100_000, MinExponent: -100_000, Rounding: apd.RoundHalfUp}
	_, _ = c.Round(r, d)
	digits := r.Coeff.String()
	exponent := int(r.Exponent) + len(digits) - 1
	for len(digits) < int(decimals)+1 {
		digits += "0"
	}
	digits = digits[:decimals+1]
	es := "+"
	if exponent < 0 {
		es, exponent = "-", -exponent
	}
	return fmt.Sprintf("%s%s.%sE%s%02d", sign, digits[:1], digits[1:], es, exponent)
}

var (
	iso      = regexp.MustCompile(`^([0-9]{4})-([0-9]{1,2})-([0-9]{1,2})$`)
	isoClock = regexp.MustCompile(`^([0-9]{4}-[0-9]{2}-[0-9]{2})([T ])([0-9]{2}):([0-9]{2})(?::([0-9]{2})(?:[.,]([0-9]+))?)?$`)
)

// isoDate takes 2026-03-11, alone or with a time.
func (im *importer) isoDate(s string) (cell, bool) {
	if m := iso.FindStringSubmatch(s); m != nil && (im.special || len(m[2]) == 2 && len(m[3]) == 2) {
		y, mo, d := atoi(m[1]), atoi(m[2]), atoi(m[3])
		if y == 0 || !valid(y, mo, d) {
			return cell{}, false
		}
		t := fmt.Sprintf("%04d-%02d-%02d", y, mo, d)
		return cell{shown: t, raw: t, stored: t, ods: t, kind: DateForm}, true
	}
	m := isoClock.FindStringSubmatch(s)
	if m == nil || !im.special && m[5] == "" {
		return cell{}, false
	}
	day, err := time.Parse(time.DateOnly, m[1])
	h, mi, sec := atoi(m[3]), atoi(m[4]), atoi(m[5])
	if err != nil || h > 24 || mi > 59 || sec > 59 {
		return cell{}, false
	}
	day = day.Add(time.Duration(h)*time.Hour + time.Duration(mi)*time.Minute + time.Duration(sec)*time.Second)
	text := day.Format("2006-01-02") + m[2] + day.Format("15:04:05")
	c := cell{shown: text, raw: text, stored: day.Format("2006-01-02T15:04:05"), kind: DateForm}
	if c.ods = c.stored; strings.HasSuffix(c.ods, "T00:00:00") {
		c.ods = strings.TrimSuffix(c.ods, "T00:00:00")
	}
	if m[6] != "" {
		part := partOf(m[6], 3)
		c.ods = c.stored + strings.TrimRight("."+partOf(m[6], 2), "0.")
		c.shown += string(im.decimal) + part
		c.raw = c.shown
		switch {
		case atoi((m[6] + "0000")[:4]) >= 9995: // a workbook has days, and rounds up to the next second
			c.stored = day.Add(time.Second).Format("2006-01-02T15:04:05")
		case strings.Trim(part, "0") != "":
			c.stored += strings.TrimRight("."+part, "0")
		}
	}
	return c, true
}

// partOf rounds the digits of a part of a second to so many, as the program does:
// never up to the next second.
func partOf(digits string, n int) string {
	most := 1
	for range n {
		most *= 10
	}
	part := atoi((digits + "0000")[:n+1])
	return fmt.Sprintf("%0*d", n, min((part+5)/10, most-1))
}

func atoi(s string) int {
	n, err := strconv.Atoi(s)
	if err != nil {
		return 0
	}
	return n
}

// valid reports whether there is such a day.
func valid(y, m, d int) bool {
	t := time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC)
	return m >= 1 && m <= 12 && d >= 1 && t.Day() == d
}

func (im *importer) boolean(s string) (cell, bool) {
	switch strings.ToUpper(s) {
	case im.yes:
		return cell{shown: im.yes, raw: im.yes, stored: "true", ods: "true", kind: Boolean}, true
	case im.no:
		return cell{shown: im.no, raw: im.no, stored: "false", ods: "false", kind: Boolean}, true
	}
	return cell{}, false
}

// century gives a year of two digits its century: 30 to 99 are the last one's.
func century(y int) int {
	switch {
	case y >= 100:
		return y
	case y < 30:
		return 2000 + y
	}
	return 1900 + y
}

// day is the cell of a date that is not written as ISO.
func (im *importer) day(y, m, d int, kind Kind) (cell, bool) {
	if !valid(y, m, d) {
		return cell{}, false
	}
	short, long := fmt.Sprintf("%02d", y%100), fmt.Sprintf("%04d", y)
	write := func(year string) string {
		if im.order == "mdy" {
			return fmt.Sprintf("%02d%s%02d%s%s", m, im.sep, d, im.sep, year)
		}
		return fmt.Sprintf("%02d%s%02d%s%s", d, im.sep, m, im.sep, year)
	}
	isoText := fmt.Sprintf("%04d-%02d-%02d", y, m, d)
	return cell{shown: write(short), raw: write(long), stored: isoText, ods: isoText, kind: kind}, true
}

var numericDate = regexp.MustCompile(`^([0-9]{1,2})([-/.])([0-9]{1,2})(?:([-/.])([0-9]{1,4}))?$`)

// date takes 4/5/2026 and 3/4 in the locale's order.
func (im *importer) date(s string) (cell, bool) {
	m := numericDate.FindStringSubmatch(s)
	if m == nil || m[4] != "" && m[2] != m[4] {
		return cell{}, false
	}
	seps := im.seps
	if m[4] == "" { // day and month alone
		seps = map[string]string{"en-US": "/", "en-GB": "/-", "fr-FR": "/", "de-DE": ""}[im.Name]
	}
	if !strings.Contains(seps, m[2]) || len(m[5]) == 3 {
		return cell{}, false
	}
	month, day := atoi(m[1]), atoi(m[3])
	if im.order == "dmy" {
		month, day = day, month
	}
	year, kind := im.year, DateGuess
	if m[5] != "" {
		if year = century(atoi(m[5])); len(m[5]) == 4 {
			year, kind = atoi(m[5]), DateForm
		} else if len(m[5]) == 2 {
			kind = DateForm
		}
	}
	return im.day(year, month, day, kind)
}

var (
	monthFirst = regexp.MustCompile(`^([A-Za-zäéû]{3,9})[- /]([0-9]{1,4})$`)
	monthLast  = regexp.MustCompile(`^([0-9]{1,2})[- ]([A-Za-zäéû]{3,9})$`)
	dayMonth   = regexp.MustCompile(`^([0-9]{1,2})-([A-Za-zäéû]{3,9})-([0-9]{2}|[0-9]{4})$`)
	monthDay   = regexp.MustCompile(`^([A-Za-zäéû]{3,9}) ([0-9]{1,2}), ([0-9]{4})$`)
	spokenDay  = regexp.MustCompile(`^(?:[A-Za-z]{3} )?([0-9]{1,2}) ([A-Za-zäéû]{3,9}) ([0-9]{4})$`)
)

// monthDate takes dates with a month's name, and codes that look so: MAR-2.
func (im *importer) monthDate(s string) (cell, bool) {
	if im.Name == "fr-FR" {
		return cell{}, false
	}
	if m := monthFirst.FindStringSubmatch(s); m != nil {
		month, n := im.month(m[1]), atoi(m[2])
		switch {
		case month == 0 || strings.Contains(s, "/") && im.Name == "en-GB" && len(m[2]) > 2:
			return cell{}, false
		case len(m[2]) == 4:
			return im.day(n, month, 1, DateGuess)
		case im.order == "mdy" && len(m[2]) <= 2:
			return im.day(im.year, month, n, DateGuess)
		case len(m[2]) <= 2:
			return im.day(century(n), month, 1, DateGuess)
		}
		return cell{}, false
	}
	if m := monthLast.FindStringSubmatch(s); m != nil && im.Name == "en-GB" && strings.Contains(s, " ") {
		return im.day(im.year, im.month(m[2]), atoi(m[1]), DateGuess)
	}
	if m := dayMonth.FindStringSubmatch(s); m != nil && im.months == english {
		return im.day(century(atoi(m[3])), im.month(m[2]), atoi(m[1]), DateForm)
	}
	if m := monthDay.FindStringSubmatch(s); m != nil && im.Name == "en-US" {
		return im.day(atoi(m[3]), im.month(m[1]), atoi(m[2]), DateForm)
	}
	if m := spokenDay.FindStringSubmatch(s); m != nil && im.Name == "en-GB" {
		return im.day(atoi(m[3]), im.month(m[2]), atoi(m[1]), DateForm)
	}
	return cell{}, false
}

var dateAndClock = regexp.MustCompile(`^([0-9]{1,2}[/.][0-9]{1,2}[/.][0-9]{2,4}) ([0-9]{1,2}):([0-9]{2})(?::([0-9]{2}))?$`)

// moment takes 11/03/2026 07:05.
func (im *importer) moment(s string) (cell, bool) {
	m := dateAndClock.FindStringSubmatch(s)
	if m == nil {
		return cell{}, false
	}
	c, ok := im.date(m[1])
	h, mi := atoi(m[2]), atoi(m[3])
	if !ok || h > 23 || mi > 59 {
		return cell{}, false
	}
	shown := fmt.Sprintf("%s %02d:%02d", c.shown, h, mi)
	if im.half {
		shown = fmt.Sprintf("%s %02d:%02d %s", c.shown, (h+11)%12+1, mi, noon(h))
	}
	isoText := fmt.Sprintf("%sT%02d:%02d:%02d", c.stored, h, mi, atoi(m[4]))
	return cell{shown: shown, raw: fmt.Sprintf("%s %02d:%02d:%02d", c.raw, h, mi, atoi(m[4])), stored: isoText, ods: isoText, kind: DateForm}, true
}

func noon(h int) string {
	if h%24 < 12 {
		return "AM"
	}
	return "PM"
}

var clockForm = regexp.MustCompile(`^(-?)([0-9]{1,4}):([0-5][0-9])(?::([0-5][0-9]))?( [AaPp][Mm])?$`)

// clock takes 7:05 and 25:30.
func (im *importer) clock(s string) (cell, bool) {
	m := clockForm.FindStringSubmatch(s)
	if m == nil || m[5] != "" && (im.Name == "de-DE" || m[1] != "") {
		return cell{}, false
	}
	h, mi, sec := atoi(m[2]), atoi(m[3]), atoi(m[4])
	if m[5] != "" {
		if h < 1 || h > 12 {
			return cell{}, false
		}
		if h %= 12; strings.EqualFold(m[5], " PM") {
			h += 12
		}
	}
	full := fmt.Sprintf("%s%02d:%02d:%02d", m[1], h, mi, sec)
	if h >= 24 || m[1] != "" || !im.half {
		return cell{shown: full, raw: full, stored: full, ods: full, kind: DateGuess}, true
	}
	half := fmt.Sprintf("%02d:%02d:%02d %s", (h+11)%12+1, mi, sec, noon(h))
	return cell{shown: half, raw: half, stored: full, ods: full, kind: DateGuess}, true
}

// percent takes 12.5%.
func (im *importer) percent(s string) (cell, bool) {
	body, ok := strings.CutSuffix(s, "%")
	if !ok {
		return cell{}, false
	}
	d, ok := im.decimalOf(strings.TrimRight(body, " "))
	if !ok {
		return cell{}, false
	}
	part := new(apd.Decimal).Set(d)
	part.Exponent -= 2
	two := new(apd.Decimal)
	c := apd.Context{Precision: 60, MaxExponent: 1000, MinExponent: -1000, Rounding: apd.RoundHalfUp}
	_, _ = c.Quantize(two, d, -2)
	unit := "%"
	switch im.Name {
	case "de-DE":
		unit = "\u00a0%"
	case "fr-FR":
		unit = " %"
	}
	return cell{shown: strings.Replace(two.Text('f'), ".", string(im.decimal), 1) + unit, raw: im.plain(d) + "%", stored: stored(part), ods: odsNumber(part), kind: Number}, true
}

// bracketed takes (12) for -12.
func (im *importer) bracketed(s string) (cell, bool) {
	if len(s) < 3 || s[0] != '(' || s[len(s)-1] != ')' {
		return cell{}, false
	}
	d, ok := im.decimalOf(s[1 : len(s)-1])
	if !ok || strings.ContainsAny(s[1:2], "+-") {
		return cell{}, false
	}
	d.Negative = !d.IsZero()
	return im.numberCell(d, s), true
}

// currency takes the locale's own: $1,234.50, 12,50 €.
func (im *importer) currency(s string) (cell, bool) {
	body := strings.TrimPrefix(s, im.money)
	if im.after {
		body = strings.TrimRight(strings.TrimSuffix(s, im.money), " \u00a0")
	}
	if body == s {
		return cell{}, false
	}
	d, ok := im.decimalOf(body)
	if !ok {
		return cell{}, false
	}
	if im.after {
		return im.numberCell(d, s), true
	}
	return cell{shown: s, raw: im.plain(d), stored: stored(d), ods: odsNumber(d), kind: Number}, true
}

var fractionForm = regexp.MustCompile(`^([0-9]+) ([0-9]{1,3})/([0-9]{1,3})$`)

// fraction takes 1 1/2.
func (im *importer) fraction(s string) (cell, bool) {
	m := fractionForm.FindStringSubmatch(s)
	if m == nil || atoi(m[3]) == 0 {
		return cell{}, false
	}
	n := new(apd.Decimal)
	c := apd.BaseContext.WithPrecision(30)
	_, _ = c.Quo(n, apd.New(int64(atoi(m[2])), 0), apd.New(int64(atoi(m[3])), 0))
	_, _ = c.Add(n, n, apd.New(int64(atoi(m[1])), 0))
	shown := s
	if m[1] == "0" {
		shown = " " + m[2] + "/" + m[3]
	}
	return cell{shown: shown, raw: im.plain(n), stored: stored(n), ods: odsNumber(n), kind: DateGuess}, true
}
