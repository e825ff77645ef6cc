package slip

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"

	"paletwin/core/changeset"
	"paletwin/core/glyph"
	"paletwin/core/words"
)

// invisible finds changes in something that nobody can see, and new records
// with it.
func (j *judge) invisible(c *column) {
	f := Found{Code: changeset.Invisible, Field: c.field}
	shown := ""
	for _, i := range c.free() {
		if x := &j.Cells[i]; glyph.Differs(x.From, x.To) {
			if shown == "" {
				shown = say(x.From) + " → " + say(glyph.Visible(x.To))
			}
			f.Cells, f.Rows = append(f.Cells, i), append(f.Rows, x.Row)
		}
	}
	for _, r := range j.Adds {
		if v := r.Values[c.field]; glyph.Unseen(v) {
			if shown == "" {
				shown = say(glyph.Visible(v))
			}
			f.Adds, f.Rows = append(f.Adds, r.Row), append(f.Rows, r.Row)
		}
	}
	if len(f.Rows) > 0 {
		f.Text = fmt.Sprintf("%s: something in it cannot be seen (%s)", shown, words.Count(len(f.Rows), "cell"))
		j.add(f)
	}
}

// formula is what a spreadsheet takes for one, and people do not write.
var formula = regexp.MustCompile(`^[=+@]\s*[A-Za-z(+$\-0-9."'].*`)

// reference is a cell, or a function, in a formula.
var reference = regexp.MustCompile(`\$?[A-Za-z]{1,3}\$?[0-9]+|[A-Za-z][A-Za-z.]*\(`)

// formulas finds formulas where values should be.
func (c *column) formulas() {
	j := c.j
	var cells []int
	for _, i := range c.free() {
		x := &j.Cells[i]
		if isFormula(x.To) && !strings.HasPrefix(x.From, x.To[:1]) {
			cells = append(cells, i)
		}
	}
	if rows, there := j.Formulas[c.field]; there {
		c.computed(rows)
	}
	if len(cells) == 0 {
		return
	}
	c.look()
	for v := range c.counts {
		if isFormula(v) {
			return // here, that is a value
		}
	}
	x := &j.Cells[cells[0]]
	c.add(Found{Code: changeset.FormulaLeft, Field: c.field, Cells: cells, Rows: j.rowsOf(cells),
		Text: fmt.Sprintf("%s is a formula where a value should be (%s)", say(x.To), words.Count(len(cells), "cell"))})
}

// computed finds changed cells of a workbook that hold formulas; of rows that
// are not listed, all may.
func (c *column) computed(rows []int) {
	j := c.j
	at := map[int]bool{}
	for _, r := range rows {
		at[r] = true
	}
	var cells []int
	for _, i := range c.free() {
		if len(rows) == 0 || at[j.Table.RowNumber(j.Cells[i].Row)] {
			cells = append(cells, i)
		}
	}
	if len(cells) > 0 {
		c.found = append(c.found, Found{Code: changeset.FormulaLeft, Field: c.field, Cells: cells, Rows: j.rowsOf(cells),
			Text: fmt.Sprintf("%s of %s in %s: what was last computed is taken; paste the values to be sure", words.Count(len(cells), "formula"), c.name(), j.rowWords(j.rowsOf(cells)))})
	}
}

// isFormula reports whether a text is a formula: an equals sign with
// something after it, or a plus or at sign and a cell or function.
func isFormula(v string) bool {
	return formula.MatchString(v) && (v[0] == '=' || reference.MatchString(v[1:]) && !strings.Contains(v, " "))
}

// nearMisses finds new values that are one letter away from one that occurs
// often.
func (c *column) nearMisses() {
	c.look()
	if c.kind != texts {
		return
	}
	filled := c.n - c.blanks
	var usual []string
	for v, n := range c.counts {
		if v != "" && n >= commonly && n*frequent >= filled {
			usual = append(usual, v)
		}
	}
	if len(usual) == 0 || len(c.counts) > mostKinds && len(c.counts)*3 > filled {
		return
	}
	j := c.j
	open := c.unseen() > doubtful
	gets := map[string]int{}
	for _, i := range c.cells {
		gets[j.Cells[i].To]++
	}
	for _, i := range c.free() {
		x := &j.Cells[i]
		if c.counts[x.To] > 0 || gets[x.To] > 2 || x.To == "" || j.Known != nil && j.Known(c.field, x.To) {
			continue
		}
		best := ""
		for _, v := range usual {
			if isNear(x.To, v, !open) && (best == "" || c.counts[v] > c.counts[best] || c.counts[v] == c.counts[best] && v < best) {
				best = v
			}
		}
		if best == "" || c.isUsed(x.To) {
			continue
		}
		c.add(Found{Code: changeset.NearMiss, Field: c.field, Cells: []int{i}, Rows: []uint32{x.Row},
			Text: fmt.Sprintf("no record has %s %s; it is one letter from %s, which occurs often", c.name(), say(x.To), say(best))})
	}
}

// isNumber reports whether there are letters and all are digits.
func isNumber(r []rune) bool {
	for _, c := range r {
		if !unicode.IsDigit(c) {
			return false
		}
	}
	return len(r) > 0
}

// isUsed looks a value up where the sample is not the whole.
func (c *column) isUsed(v string) bool {
	if c.n >= c.j.Table.Records() || c.j.Table.Records() > countedRows {
		return false
	}
	for i := range c.j.Table.Records() {
		if c.j.Table.Old(uint32(i), c.field) == v {
			return true
		}
	}
	return false
}

// isNear reports whether a is b but for one letter: another, one more, one
// less, two exchanged, or only another case or space. Another digit is one
// only if digits says so, and never in texts of several words.
func isNear(a, b string, digits bool) bool {
	if a == b || len(b) < 2 {
		return false
	}
	if strings.EqualFold(strings.Join(strings.Fields(a), " "), b) {
		return true
	}
	x, y := []rune(a), []rune(b)
	if len(x) > len(y)+1 || len(y) > len(x)+1 {
		return false
	}
	head := 0
	for head < min(len(x), len(y)) && x[head] == y[head] {
		head++
	}
	tail := 0
	for tail < min(len(x), len(y))-head && x[len(x)-1-tail] == y[len(y)-1-tail] {
		tail++
	}
	p, q := x[head:len(x)-tail], y[head:len(y)-tail]
	switch {
	case len(p)+len(q) == 1:
		return digits || !isNumber(p) && !isNumber(q)
	case len(p) == 1 && len(q) == 1:
		return !isNumber(p) || !isNumber(q) || digits && !strings.Contains(b, " ")
	}
	return len(p) == 2 && len(q) == 2 && p[0] == q[1] && p[1] == q[0] && (digits || !isNumber(p))
}
