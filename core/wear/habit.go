package wear

import (
	"cmp"
	"fmt"
	"strings"
)

// Store is how a file was saved.
type Store int

const (
	Shown   Store = iota // CSV, cells as they are shown
	Raw                  // CSV, cells as they are stored
	Book                 // an XLSX workbook, read by its stored values
	Ods                  // an ODS spreadsheet, likewise
	Through              // CSV, cells as they are shown, by way of XLSX, which keeps 15 digits
)

// Habit is what one program does to a file under one locale in one way of
// saving. Habits are comparable. The zero Habit changes nothing.
type Habit struct {
	Desktop bool // not LibreOffice, but the most common desktop program; recalled, not measured
	Locale  *Locale
	Special bool // numbers and dates in special forms were looked for
	Store   Store
	Twice   bool // opened and saved twice
	Year    int  // the clock's when the file was opened, for dates without one
	Charset Charset
}

// Name says what the habit is in words.
func (h Habit) Name() string {
	words := "LibreOffice, " + h.Locale.Name
	if h.Desktop {
		words = "a desktop spreadsheet, " + h.Locale.Name
	}
	if !h.Special {
		words += ", special numbers off"
	}
	switch h.Store {
	case Raw:
		words += ", saved as stored"
	case Book:
		words += ", saved as XLSX"
	case Ods:
		words += ", saved as ODS"
	case Through:
		words += ", by way of XLSX"
	}
	if h.Twice {
		words += ", twice"
	}
	if h.Charset != "" {
		words += ", " + string(h.Charset)
	}
	return words
}

// maxCell is how long a text may be before it is cut.
const maxCell = 32_767

// Wear returns what the file shows for a value, and what kind of wear that is;
// "" where the value stays as it is.
func (h Habit) Wear(text string) (string, Kind) {
	seen, kind := h.once(text)
	if h.Twice {
		again, second := h.once(seen)
		if seen = again; kind == "" {
			kind = second
		}
	}
	if h.Charset != "" {
		if coded := h.Charset.wear(seen); coded != seen {
			return coded, Encoding
		}
	}
	return seen, kind
}

// Makes reports whether the program makes what is seen of a value. A part of a second
// that is within ten millionths of a half may be rounded either way: the program counts in days,
// in a double.
func (h Habit) Makes(text, seen string) bool {
	if worn, _ := h.Wear(text); worn == seen {
		return true
	}
	m := isoClock.FindStringSubmatchIndex(strings.Trim(text, " "))
	if m == nil || m[12] < 0 || m[13]-m[12] < 4 {
		return false
	}
	text = strings.Trim(text, " ")
	part := atoi((text[m[12]:m[13]] + "00")[:6])
	for _, p := range []int{max(part-10, 0), min(part+10, 999_999)} {
		if worn, _ := h.Wear(fmt.Sprintf("%s%06d", text[:m[12]], p)); worn == seen {
			return true
		}
	}
	return false
}

// read is what the program makes of a text.
func (h Habit) read(text string) (cell, bool) {
	im := importer{h.Locale, h.Special, h.Year}
	if h.Desktop {
		return (&desktop{im}).take(text)
	}
	return im.take(text)
}

// takes reports whether the program takes a text for something else than
// text. What it writes it takes again, so that a text which it does not take
// is what somebody wrote.
func (h Habit) takes(text string) bool {
	_, ok := h.read(text)
	if !ok && (h.Store == Book || h.Store == Ods) {
		shown := importer{Locales[0], false, h.Year} // digits with a point, dates as ISO
		_, ok = shown.take(text)
	}
	return ok
}

func (h Habit) once(text string) (string, Kind) {
	if h.Locale == nil {
		return text, ""
	}
	if c, ok := h.read(text); ok {
		seen := [...]string{c.shown, c.raw, c.stored, c.ods, cmp.Or(c.through, c.shown)}[h.Store]
		if seen == text {
			return text, ""
		}
		if strings.Trim(text, " ") == seen {
			return seen, Whitespace
		}
		if h.Store == Through && c.kind == Number && c.through != c.shown {
			return seen, Precision
		}
		return seen, c.kind
	}
	seen := text
	if strings.ContainsRune(text, '\r') {
		seen = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n")
	}
	if h.Store == Ods {
		seen = strings.ReplaceAll(seen, "\t", "")
	}
	if r := []rune(seen); len(seen) > maxCell && len(r) > maxCell {
		return string(r[:maxCell]), Truncated
	}
	if seen != text {
		return seen, Whitespace
	}
	return text, ""
}

// Habits lists the habits that a file of the given format may have come from,
// the likelier first.
func Habits(format string) []Habit {
	var all []Habit
	stores := []Store{Shown, Raw, Through}
	switch format {
	case "xlsx":
		stores = []Store{Book, Shown}
	case "ods":
		stores = []Store{Ods, Shown}
	}
	for _, twice := range []bool{false, true} {
		for _, special := range []bool{true, false} {
			for _, s := range stores {
				for _, l := range Locales {
					all = append(all, Habit{Locale: l, Special: special, Store: s, Twice: twice})
				}
			}
		}
	}
	if format != "ods" {
		for _, l := range Locales {
			all = append(all, Habit{Desktop: true, Locale: l, Special: true, Store: stores[0]})
		}
	}
	return all
}
