package wear

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/cockroachdb/apd/v3"
)

// desktop is what the most common desktop spreadsheet program makes of text
// that it opens from a CSV file. Unlike LibreOffice's ways these are recalled
// and not measured (docs/wear.md says so).
type desktop struct{ importer }

var (
	codeMonth = regexp.MustCompile(`^([A-Za-z]{3,9})[- ]?([0-9]{1,2})$`)
	monthCode = regexp.MustCompile(`^([0-9]{1,2})[- ]?([A-Za-z]{3,9})$`)
	twoParts  = regexp.MustCompile(`^([0-9]{1,2})[-/]([0-9]{1,2})$`)
	yearMonth = regexp.MustCompile(`^([0-9]{4})-([0-9]{2})$`)
	threePart = regexp.MustCompile(`^([0-9]{1,2})([/.-])([0-9]{1,2})([/.-])([0-9]{4}|[0-9]{2})$`)
	isoMoment = regexp.MustCompile(`^([0-9]{4}-[0-9]{2}-[0-9]{2}) ([0-9]{2}):([0-9]{2})(?::([0-9]{2}))?$`)
)

func (d *desktop) take(text string) (cell, bool) {
	inner := strings.Trim(text, " ")
	if inner == "" || len(inner) > 400 {
		return cell{}, false
	}
	for _, f := range []func(string) (cell, bool){d.number, d.scientific, d.isoDay, d.boolean, d.numericDay, d.code, d.clock, d.percent, d.bracketed} {
		if c, ok := f(inner); ok {
			return c, true
		}
	}
	return cell{}, false
}

// number cuts digits past the 15th, and shows 12 digits and more with an
// exponent and six digits.
func (d *desktop) number(s string) (cell, bool) {
	x, ok := d.decimalOf(s)
	if !ok {
		return cell{}, false
	}
	cut := new(apd.Decimal)
	ctx := apd.Context{Precision: 15, MaxExponent: 100_000, MinExponent: -100_000, Rounding: apd.RoundDown}
	_, _ = ctx.Round(cut, x) // without traps it has no error
	c := d.numberCell(x, s)
	c.stored = trimZeros(cut.Text('f'))
	c.shown = strings.Replace(c.stored, ".", string(d.decimal), 1)
	if whole, _, _ := strings.Cut(strings.TrimPrefix(c.stored, "-"), "."); len(whole) >= 12 {
		m := sci(cut, 5)
		digits, exponent, _ := strings.Cut(m, "E")
		c.shown = strings.Replace(trimZeros(digits), ".", string(d.decimal), 1) + "E" + exponent
		c.kind = Exponent
	}
	if x.IsZero() {
		c.shown, c.stored = "0", "0"
	}
	c.raw, c.ods, c.through = c.shown, c.stored, c.shown
	return c, true
}

// short is the system's short form of a day.
func (d *desktop) short(y, m, day int) string {
	switch d.Name {
	case "en-US":
		return fmt.Sprintf("%d/%d/%d", m, day, y)
	case "de-DE":
		return fmt.Sprintf("%02d.%02d.%04d", day, m, y)
	}
	return fmt.Sprintf("%02d/%02d/%04d", day, m, y)
}

func (d *desktop) dayCell(y, m, day int, kind Kind) (cell, bool) {
	if !valid(y, m, day) || y < 1900 {
		return cell{}, false
	}
	iso := fmt.Sprintf("%04d-%02d-%02d", y, m, day)
	return cell{shown: d.short(y, m, day), raw: d.short(y, m, day), stored: iso, ods: iso, kind: kind}, true
}

func (d *desktop) isoDay(s string) (cell, bool) {
	if m := iso.FindStringSubmatch(s); m != nil {
		return d.dayCell(atoi(m[1]), atoi(m[2]), atoi(m[3]), DateForm)
	}
	m := isoMoment.FindStringSubmatch(s)
	if m == nil {
		return cell{}, false
	}
	c, ok := d.isoDay(m[1])
	if !ok || atoi(m[2]) > 23 || atoi(m[3]) > 59 || atoi(m[4]) > 59 {
		return cell{}, false
	}
	hour := m[2]
	if d.half {
		hour = fmt.Sprint(atoi(m[2]))
	}
	c.shown += " " + hour + ":" + m[3]
	c.raw = c.shown
	c.stored += fmt.Sprintf("T%s:%s:%02d", m[2], m[3], atoi(m[4]))
	c.ods = c.stored
	return c, true
}

func (d *desktop) numericDay(s string) (cell, bool) {
	m := threePart.FindStringSubmatch(s)
	if m == nil || m[2] != m[4] {
		return cell{}, false
	}
	month, day := atoi(m[1]), atoi(m[3])
	if d.order == "dmy" {
		month, day = day, month
	}
	return d.dayCell(century(atoi(m[5])), month, day, DateForm)
}

// code takes codes with a month in them and pairs of small numbers for days of
// this year, and shows them as 2-Mar.
func (d *desktop) code(s string) (cell, bool) {
	month, day := 0, 0
	if m := codeMonth.FindStringSubmatch(s); m != nil {
		month, day = d.month(m[1]), atoi(m[2])
	} else if m := monthCode.FindStringSubmatch(s); m != nil {
		month, day = d.month(m[2]), atoi(m[1])
	} else if m := twoParts.FindStringSubmatch(s); m != nil {
		if month, day = atoi(m[1]), atoi(m[2]); d.order == "dmy" {
			month, day = day, month
		}
	} else if m := yearMonth.FindStringSubmatch(s); m != nil {
		c, ok := d.dayCell(atoi(m[1]), atoi(m[2]), 1, DateGuess)
		if ok {
			c.shown = fmt.Sprintf("%s-%02d", d.monthName(atoi(m[2])), atoi(m[1])%100)
			c.raw = c.shown
		}
		return c, ok
	}
	c, ok := d.dayCell(d.year, month, day, DateGuess)
	if ok {
		form := "%d-%s"
		if d.Name != "en-US" {
			form = "%02d-%s"
		}
		c.shown = fmt.Sprintf(form, day, d.monthName(month))
		c.raw = c.shown
	}
	return c, ok
}

func (d *desktop) monthName(m int) string {
	r := []rune(d.months[m-1])
	return strings.ToUpper(string(r[:1])) + string(r[1:])
}

// clock shows hours and minutes where no seconds were given.
func (d *desktop) clock(s string) (cell, bool) {
	m := clockForm.FindStringSubmatch(s)
	c, ok := d.importer.clock(s)
	if !ok || m[1] != "" || m[5] != "" {
		return cell{}, false
	}
	hour := fmt.Sprintf("%02d", atoi(m[2]))
	if d.half {
		hour = fmt.Sprint(atoi(m[2]))
	}
	c.shown = hour + ":" + m[3]
	if m[4] != "" || atoi(m[2]) > 23 {
		c.shown = hour + ":" + m[3] + fmt.Sprintf(":%02d", atoi(m[4]))
	}
	c.raw = c.shown
	return c, true
}
