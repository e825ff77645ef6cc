package wear

import (
	"strings"

	"github.com/cockroachdb/apd/v3"

	"paletwin/core/wear/learn"
)

// likeness is whether two texts are one value in a column's own reading.
type likeness int

const (
	one     likeness = iota // they are
	another                 // both are values of the column, and not the same
	untold                  // the column does not say how the second is read
)

// same reads a snapshot's value and what is seen by the column's own separators,
// scale and order of dates.
func (f *Form) same(snapshot, seen string) likeness {
	a, ok := f.decimal(snapshot)
	if !ok {
		if strings.EqualFold(snapshot, seen) || strings.TrimSpace(snapshot) == strings.TrimSpace(seen) {
			return one
		}
		return f.sameDate(snapshot, seen)
	}
	b, ok := f.decimal(seen)
	switch {
	case !ok, !f.scaled() && !f.whole() && !f.percents():
		return untold
	case learn.EqualTo15(a, b):
		if f.zeros > 0 { // digits that are no number: a code
			return untold
		}
		return one
	case f.digits*2 > f.n: // ids that a program cannot hold
		return untold
	}
	return another
}

// decimal reads a number by the column's own separators.
func (f *Form) decimal(text string) (*apd.Decimal, bool) {
	text, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	text = strings.TrimRight(text, " ")
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
	if err != nil || d.Form != apd.Finite {
		return nil, false
	}
	if percent {
		d.Exponent -= 2
	}
	return d, true
}

// ratio is how many times as much a number became, "" if it is none.
func (f *Form) ratio(snapshot, seen string) string {
	a, ok := f.decimal(snapshot)
	b, there := f.decimal(seen)
	if !ok || !there || a.IsZero() {
		return ""
	}
	q := new(apd.Decimal)
	if _, err := apd.BaseContext.WithPrecision(learn.Digits15).Quo(q, b, a); err != nil {
		return ""
	}
	q.Reduce(q)
	return q.Text('f')
}
