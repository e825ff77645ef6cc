package schema

import (
	"fmt"
	"strings"
	"unicode"

	"paletwin/core/expr"
)

// Amount is how amounts are written: £1,234.50, 1.234,50 €, CHF 1234.50.
type Amount struct {
	Text                        string // the example that the layout gives
	before, after, group, point string
	scale                       int
}

// ParseAmount learns from an example how amounts are written. A separator with three
// digits behind it that are the last is one of groups.
func ParseAmount(example string) (m Amount, err error) {
	m.Text, m.point = example, "."
	digit := func(r rune) bool { return r >= '0' && r <= '9' }
	from, to := strings.IndexFunc(example, digit), strings.LastIndexFunc(example, digit)
	if from < 0 || strings.ContainsFunc(example[:from]+example[to+1:], func(r rune) bool { return r == '-' || r == '(' || r == ')' }) {
		return m, fmt.Errorf("%q is no amount such as £1,234.50", example)
	}
	m.before, m.after = example[:from], example[to+1:]
	core := example[from : to+1]
	parts := strings.FieldsFunc(core, func(r rune) bool { return !digit(r) })
	signs := strings.FieldsFunc(core, digit)
	last := parts[len(parts)-1]
	if n := len(signs); n > 0 && (len(last) != 3 || n > 1 && signs[n-1] != signs[0]) {
		m.point, m.scale = signs[n-1], len(last)
		signs = signs[:n-1]
	}
	for i, s := range signs {
		if m.group = signs[0]; s != m.group || len(parts[i+1]) != 3 {
			return m, fmt.Errorf("%q is no amount such as £1,234.50", example)
		}
	}
	if m.group == m.point {
		m.point = "."
		if m.group == "." {
			m.point = ","
		}
	}
	return m, nil
}

// read is the number of an amount that is written so, or as a plain number, as a
// workbook's cell holds it.
func (m Amount) read(text string) (*expr.Number, bool) {
	s := strings.TrimFunc(text, unicode.IsSpace)
	negative := false
	if inner, ok := strings.CutPrefix(s, "("); ok && strings.HasSuffix(inner, ")") {
		negative, s = true, strings.TrimSuffix(inner, ")")
	}
	for range 2 { // -£5 and £-5
		if rest, ok := strings.CutPrefix(s, "-"); ok && !negative {
			negative, s = true, rest
		}
		s = strings.TrimFunc(strings.TrimPrefix(s, strings.TrimFunc(m.before, unicode.IsSpace)), unicode.IsSpace)
	}
	s = strings.TrimFunc(strings.TrimSuffix(s, strings.TrimFunc(m.after, unicode.IsSpace)), unicode.IsSpace)
	whole, part, decimals := strings.Cut(s, m.point)
	if m.group != "" && strings.Contains(whole, m.group) {
		groups := strings.Split(whole, m.group)
		proper := true
		for i, g := range groups {
			proper = proper && (i == 0 && len(g) > 0 && len(g) <= 3 || i > 0 && len(g) == 3)
		}
		switch {
		case proper:
			s = strings.Join(groups, "")
		case !decimals && m.group == ".": // a plain number
			s = whole
		default:
			return nil, false
		}
	} else {
		s = whole
	}
	if decimals {
		s += "." + part
	}
	if negative {
		s = "-" + s
	}
	return expr.ParseNumber(s)
}

// write writes an amount; false if it has more decimals.
func (m Amount) write(n *expr.Number) (string, bool) {
	r := n.Round(int32(m.scale))
	if r.Equal(n) != expr.Bool(true) {
		return "", false
	}
	s, negative := strings.CutPrefix(r.String(), "-")
	whole, part, decimals := strings.Cut(s, ".")
	for i := len(whole) - 3; i > 0 && m.group != ""; i -= 3 {
		whole = whole[:i] + m.group + whole[i:]
	}
	if decimals {
		whole += m.point + part
	}
	s = m.before + whole + m.after
	if negative {
		s = "-" + s
	}
	return s, true
}

// readPercent is the number of parts of one: 12.5% is 0.125, and so is 0.125, as a
// workbook's cell holds it.
func readPercent(text string) (*expr.Number, bool) {
	s, percent := strings.CutSuffix(strings.TrimFunc(text, unicode.IsSpace), "%")
	n, ok := expr.ParseNumber(strings.TrimRightFunc(s, unicode.IsSpace))
	if ok && percent {
		n = n.Shift(-2)
	}
	return n, ok
}
