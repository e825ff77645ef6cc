package layout

import (
	"strings"
	"unicode"

	"paletwin/core/wear"
)

// Match says which column of a file holds which field.
type Match struct {
	// Column holds for each field, in the order asked for, the column
	// (from 0) that holds it, or -1.
	Column []int
	// How says for each matched field how its heading was recognised.
	How []How
	// Ignored lists the columns that hold no field.
	Ignored []int
}

// How says in what way a heading was recognised as a field.
type How string

const (
	Exact   How = "exact"           // the heading is the field's name
	Folded  How = "case or spaces"  // it differs in case or outer spaces
	Decoded How = "wrong code page" // its letters came through a wrong code page
	// OtherSigns is a heading in which other signs stand between its letters and digits.
	OtherSigns How = "other signs"
	// ByProgram is a heading that a program changed as it changes cells.
	ByProgram How = "changed by a program"
)

// MatchColumns finds the column of each field by its heading. Headings wear
// as cells do: a byte-order mark, letters read in a wrong code page, other
// case and outer spaces, and other signs than letters and digits (statistics
// programs write "asset no" as asset.no) are looked through, in that order, and
// only where exactly one column fits, and it fits one field alone.
func MatchColumns(fields, headings []string) Match {
	m := Match{Column: make([]int, len(fields)), How: make([]How, len(fields))}
	taken := make([]bool, len(headings))
	for i := range m.Column {
		m.Column[i] = -1
	}
	for _, step := range []struct {
		how  How
		form func(string) string
	}{
		{Exact, func(s string) string { return s }},
		{Decoded, mendHeading},
		{Folded, func(s string) string { return strings.ToLower(strings.TrimSpace(mendHeading(s))) }},
		{OtherSigns, lettersOnly},
	} {
		free := byForm(headings, taken, step.form)
		like := map[string]int{}
		for i, f := range fields {
			if m.Column[i] < 0 {
				like[step.form(f)]++
			}
		}
		for i, f := range fields {
			if form := step.form(f); m.Column[i] >= 0 || step.how == OtherSigns && (form == "" || like[form] > 1) {
				continue
			}
			if c, ok := free[step.form(f)]; ok && c >= 0 && !taken[c] {
				m.Column[i], m.How[i], taken[c] = c, step.how, true
			}
		}
	}
	for c := range headings {
		if !taken[c] {
			m.Ignored = append(m.Ignored, c)
		}
	}
	return m
}

// lettersOnly is a heading without all that is no letter and no digit.
func lettersOnly(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, mendHeading(s))
}

// byForm returns the free columns by the form of their headings; a form that
// several have names none: it maps to -1.
func byForm(headings []string, taken []bool, form func(string) string) map[string]int {
	m := make(map[string]int, len(headings))
	for c, h := range headings {
		if taken[c] {
			continue
		}
		f := form(h)
		if _, twice := m[f]; twice {
			m[f] = -1
		} else {
			m[f] = c
		}
	}
	return m
}

// mendHeading takes a byte-order mark off a heading and undoes one reading
// of UTF-8 as Windows-1252.
func mendHeading(s string) string {
	return strings.TrimPrefix(wear.Mend(strings.TrimPrefix(s, "\ufeff")), "\ufeff")
}
