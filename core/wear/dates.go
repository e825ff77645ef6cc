package wear

import (
	"strings"
	"time"
)

// dateForms are forms of dates as snapshots have them.
var dateForms = []string{"2006-01-02", "02/01/2006", "01/02/2006", "02.01.2006", "2/1/2006", "1/2/2006", "2.1.2006", "02-01-2006", "2-Jan-2006", "02-Jan-2006"}

// takeDate learns from a date; it returns false of anything else.
func (f *Form) takeDate(v string) bool {
	if len(v) < 8 || len(v) > 11 || v[len(v)-1] < '0' || v[len(v)-1] > '9' {
		return false
	}
	is := false
	for _, form := range dateForms {
		t, ok := exactDate(form, v)
		if !ok {
			continue
		}
		is = true
		if f.dates == nil {
			f.dates, f.low, f.high = map[string]int{}, t.Year(), t.Year()
		}
		f.dates[form]++
		f.low, f.high = min(f.low, t.Year()), max(f.high, t.Year())
	}
	return is
}

// dateForm is the form that most of the column's values have, if they are dates
// whose order of day and month is told.
func (f *Form) dateForm() string {
	form, most := "", 0
	for _, x := range dateForms {
		if n := f.dates[x]; n > most {
			form, most = x, n
		}
	}
	if most*2 <= f.n {
		return ""
	}
	for x, n := range f.dates {
		if n == most && dayFirst(x) != dayFirst(form) {
			return "" // day and month could be exchanged in every one
		}
	}
	return form
}

// dateCandidates reads a date in the form that the habit writes, and writes it
// in the column's own, as it stands and with day and month exchanged: a
// program that took one for the other took it so here, too. A century that the
// column does not have is not taken.
func (f *Form) dateCandidates(seen string, h Habit) []string {
	form := f.dateForm()
	if form == "" {
		return nil
	}
	sep := h.Locale.sep
	shown := "02" + sep + "01" + sep + "06"
	if h.Locale.order == "mdy" {
		shown = "01" + sep + "02" + sep + "06"
	}
	for _, written := range []string{"2006-01-02", shown, strings.Replace(shown, "06", "2006", 1), "1/2/2006"} {
		if written == "1/2/2006" && h.Locale.order != "mdy" {
			continue
		}
		t, err := time.Parse(written, seen)
		if err != nil {
			continue
		}
		if written == shown && (t.Year()/100 != f.low/100 || t.Year()/100 != f.high/100) {
			return nil
		}
		all := []string{t.Format(form)}
		if form[:4] != "2006" && t.Day() <= 12 {
			all = append(all, time.Date(t.Year(), time.Month(t.Day()), int(t.Month()), 0, 0, 0, 0, time.UTC).Format(form))
		}
		return all
	}
	return nil
}

// dayFirst reports whether a date form has the day before the month.
func dayFirst(form string) bool {
	return strings.Index(form, "2") < strings.IndexAny(form, "1J") && form[:4] != "2006"
}

// sameDate compares dates in the column's own order of day and month.
func (f *Form) sameDate(snapshot, seen string) likeness {
	form := f.dateForm()
	if form == "" {
		return untold
	}
	day, ok := exactDate(form, snapshot)
	if !ok {
		return untold
	}
	readable := false
	short := unpadded(form)
	for _, written := range []string{"2006-1-2", short, strings.Replace(short, "2006", "06", 1)} {
		for _, sep := range []string{"/", ".", "-"} {
			t, err := time.Parse(separated(written, sep), seen)
			if err == nil && t.YearDay() == day.YearDay() && t.Year()%100 == day.Year()%100 { // a year of two digits has no century
				return one
			}
			readable = readable || err == nil
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

// unpadded is a form of dates that takes days and months with a zero before them and
// without; separated is one with another separator.
func unpadded(form string) string {
	return strings.NewReplacer("2006", "2006", "02", "2", "01", "1").Replace(form)
}

func separated(form, sep string) string {
	return strings.NewReplacer("/", sep, ".", sep, "-", sep).Replace(form)
}

// turnedDay reports whether day and month of a date that is not written as the
// column's are can be exchanged, and the column does not say which is which.
func (f *Form) turnedDay(seen string) bool {
	m := calendar.FindStringSubmatch(seen)
	if m == nil || m[1] != "" || m[5] == m[6] {
		return false
	}
	return atoi(m[5]) <= 12 && atoi(m[6]) <= 12 && f.dateForm()[:4] == "2006"
}
