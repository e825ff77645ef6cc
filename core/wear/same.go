package wear

import (
	"strings"
	"time"

	"github.com/cockroachdb/apd/v3"
)

// likeness is whether two texts are one value in a column's own reading.
type likeness int

const (
	one     likeness = iota // they are
	another                 // both are values of the column, and not the same
	untold                  // the column does not say how the second is read
)

// digits15 is how many digits a program keeps of a number.
const digits15 = 15

// same reads a snapshot's value and what is seen by the column's own separators,
// scale and order of dates.
func (f *profile) same(snapshot, seen string) likeness {
	a, ok := f.decimal(snapshot)
	if !ok {
		if strings.EqualFold(snapshot, seen) || strings.TrimSpace(snapshot) == strings.TrimSpace(seen) {
			return one
		}
		return f.sameDate(snapshot, seen)
	}
	b, ok := f.decimal(seen)
	switch {
	case !ok, !f.scaled() && !f.whole():
		return untold
	case equalTo15(a, b):
		if f.zeros > 0 { // digits that are no number: a code
			return untold
		}
		return one
	case f.digits*2 > f.n: // ids that a program cannot hold
		return untold
	}
	return another
}

// scaled reports whether the column's numbers have one scale, so that the zeros
// which a program takes away can be put back.
func (f *profile) scaled() bool { return f.number*2 > f.n && f.scale >= 0 }

// whole reports whether the column's values are digits alone.
func (f *profile) whole() bool { return f.digits*2 > f.n }

// decimal reads a number by the column's own separators.
func (f *profile) decimal(text string) (*apd.Decimal, bool) {
	text = strings.TrimSuffix(strings.TrimSpace(text), "%")
	if f.comma > 0 {
		if strings.Contains(text, ".") {
			return nil, false
		}
		text = strings.Replace(text, ",", ".", 1)
	}
	if text == "" || strings.Trim(text, "+-.0123456789") != "" {
		return nil, false
	}
	d, _, err := apd.NewFromString(text)
	return d, err == nil && d.Form == apd.Finite
}

// equalTo15 reports whether two numbers are one to as many digits as programs
// keep.
func equalTo15(a, b *apd.Decimal) bool {
	if a.Cmp(b) == 0 {
		return true
	}
	ctx := apd.BaseContext.WithPrecision(digits15)
	x, y := new(apd.Decimal), new(apd.Decimal)
	if _, err := ctx.Round(x, a); err != nil {
		return false
	}
	if _, err := ctx.Round(y, b); err != nil {
		return false
	}
	return x.Cmp(y) == 0 && a.NumDigits() > digits15
}

// sameDate compares dates in the column's own order of day and month.
func (f *profile) sameDate(snapshot, seen string) likeness {
	form := f.dateForm()
	if form == "" {
		return untold
	}
	day, ok := exactDate(form, snapshot)
	if !ok {
		return untold
	}
	readable := false
	for _, short := range []string{time.DateOnly, form, strings.Replace(form, "2006", "06", 1), padded(form), strings.Replace(padded(form), "2006", "06", 1)} {
		for _, sep := range []string{"/", ".", "-"} {
			t, ok := looseDate(separated(short, sep), seen)
			if ok && t.YearDay() == day.YearDay() && t.Year()%100 == day.Year()%100 { // a year of two digits has no century
				return one
			}
			readable = readable || ok
		}
	}
	if readable {
		return another
	}
	return untold
}

// exactDate reads a date that is written just so: with a zero before a day of one
// digit, or without.
func exactDate(form, text string) (time.Time, bool) {
	t, err := time.Parse(form, text)
	return t, err == nil && t.Format(form) == text
}

func looseDate(form, text string) (time.Time, bool) {
	t, err := time.Parse(form, text)
	return t, err == nil
}

// padded is a form of dates with two digits for days and months, and separated
// one with another separator.
func padded(form string) string {
	if strings.Contains(form, "02") || strings.Contains(form, "Jan") {
		return form
	}
	return strings.NewReplacer("2006", "2006", "2", "02", "1", "01").Replace(form)
}

func separated(form, sep string) string {
	return strings.NewReplacer("/", sep, ".", sep, "-", sep).Replace(form)
}

// ratio is how many times as much a number became, "" if it is none.
func (f *profile) ratio(snapshot, seen string) string {
	a, ok := f.decimal(snapshot)
	b, there := f.decimal(seen)
	if !ok || !there || a.IsZero() {
		return ""
	}
	q := new(apd.Decimal)
	if _, err := apd.BaseContext.WithPrecision(digits15).Quo(q, b, a); err != nil {
		return ""
	}
	q.Reduce(q)
	return q.Text('f')
}
