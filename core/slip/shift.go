package slip

import (
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/words"
)

// shifts finds a column that was pasted a row off, or sorted without the
// others.
func (c *column) shifts() {
	free := c.free()
	if len(free) < fewestShifted {
		return
	}
	// A column that was in order is in order a row off, too.
	if c.shiftedBy(free, clearlyShifted) || c.sorted(free) || c.shiftedBy(free, fewestShifted) {
		return
	}
	c.permuted(free)
}

// shiftedBy tries all ways that a column may be off.
func (c *column) shiftedBy(free []int, least int) bool {
	return slices.ContainsFunc([]int{1, -1, 2, -2}, func(off int) bool { return c.shifted(free, off, least) })
}

// shifted finds the stretch of changes of which most have the old value of
// the row so many rows above, or below.
func (c *column) shifted(free []int, off, least int) bool {
	j := c.j
	var hits []bool
	var fit []int
	for k, i := range free {
		x := &j.Cells[i]
		near := k > 0 && x.Row-j.Cells[free[k-1]].Row <= hole || k+1 < len(free) && j.Cells[free[k+1]].Row-x.Row <= hole
		hit := false
		if at := int64(x.Row) - int64(off); near && at >= 0 && at < int64(j.Table.Rows()) && x.To != "" {
			hit = c.had(free, k, off, uint32(at), x.To)
		}
		hits = append(hits, hit)
	}
	from, to := bestStretch(hits, func(k int) bool { return j.Cells[free[k]].Row-j.Cells[free[k-1]].Row <= 4*hole })
	for k := from; k < to; k++ {
		if hits[k] {
			fit = append(fit, free[k])
		}
	}
	if len(fit) < least || least > fewestShifted && len(fit)*10 < (to-from)*9 || c.shiftChance(fit, to-from, len(free)) > unlikely {
		return false
	}
	word := "above"
	if off < 0 {
		word = "below"
	}
	what := "the row " + word
	if off*off > 1 {
		what = "two rows " + word
	}
	c.add(Found{Code: changeset.RowShift, Field: c.field, Cells: fit, Rows: j.rowsOf(fit),
		Text: fmt.Sprintf("from %s to row %d, %s have the value that %s had: pasted a row off, or a cell put in", j.rowWords(j.rowsOf(fit[:1])), j.Table.RowNumber(j.Cells[fit[len(fit)-1]].Row), words.Count(len(fit), "row"), what)})
	return true
}

// had reports whether a row so many above the k-th change, or below, had a
// value. Where whole stretches change, it is a change close by.
func (c *column) had(free []int, k, off int, row uint32, v string) bool {
	if n := k - off; n >= 0 && n < len(free) && c.j.Cells[free[n]].Row == row {
		return c.j.Cells[free[n]].From == v
	}
	old, ok := c.old(row)
	return ok && old == v
}

// shiftChance is how likely it is, of n changes, that these fit by accident
// within a stretch.
func (c *column) shiftChance(fit []int, stretch, n int) float64 {
	// What most of them get may be a fill, of which many a row has a neighbour
	// that had the value.
	gets := map[string]int{}
	most := ""
	for _, i := range fit {
		to := c.j.Cells[i].To
		if gets[to]++; gets[to] > gets[most] {
			most = to
		}
	}
	chance := float64(n)
	for _, i := range fit {
		if to := c.j.Cells[i].To; to != most || 5*gets[most] <= 3*len(fit) {
			chance *= c.chance(to)
		}
	}
	for range stretch - len(fit) { // any of them may be the one that does not
		chance *= float64(stretch)
	}
	return chance
}

// bestStretch is where hits are most and misses fewest: a miss takes away two
// hits. together says whether one change follows the one before it closely.
func bestStretch(hits []bool, together func(k int) bool) (from, to int) {
	best, sum, start := 0, 0, 0
	for k, hit := range hits {
		if sum <= 0 || k > 0 && !together(k) {
			sum, start = 0, k
		}
		if hit {
			sum++
		} else {
			sum -= 2
		}
		if sum > best {
			best, from, to = sum, start, k+1
		}
	}
	return from, to
}

// power is how likely it is, of n, that some k in a row all happen, each with
// chance p.
func power(p float64, k, n int) float64 {
	all := float64(n)
	for range k {
		if all *= p; all == 0 {
			break
		}
	}
	return all
}

// sorted finds a stretch of rows that has the values it had, in order, on
// other records.
func (c *column) sorted(free []int) bool {
	j := c.j
	if len(free) < 4 || c.kept(free) < 3*len(free)/10 {
		return false
	}
	for lo := 0; lo < len(free); {
		hi := lo + 1
		for hi < len(free) && j.Cells[free[hi]].Row-j.Cells[free[hi-1]].Row <= 8*hole {
			hi++
		}
		if c.sortedIn(free[lo:hi]) {
			return true
		}
		lo = hi
	}
	return false
}

// kept is how many of the new values are old values of the same changes.
func (c *column) kept(cells []int) int {
	have := make(map[string]int, len(cells))
	for _, i := range cells {
		have[c.j.Cells[i].From]++
	}
	n := 0
	for _, i := range cells {
		if to := c.j.Cells[i].To; have[to] > 0 {
			have[to]--
			n++
		}
	}
	return n
}

// sortedIn looks for ordered values in the rows from the first to the last
// of the given changes.
func (c *column) sortedIn(cells []int) bool {
	j := c.j
	if len(cells) < 4 {
		return false
	}
	first, last := j.Cells[cells[0]].Row, j.Cells[cells[len(cells)-1]].Row
	if last-first+1 < fewestSorted {
		return false
	}
	olds := make([]string, 0, last-first+1)
	news := make([]string, 0, last-first+1)
	rows := make([]uint32, 0, last-first+1)
	k := 0
	for r := first; r <= last; r++ {
		old, ok := c.old(r)
		if !ok {
			continue
		}
		to := old
		for k < len(cells) && j.Cells[cells[k]].Row < r {
			k++
		}
		if k < len(cells) && j.Cells[cells[k]].Row == r {
			to = j.Cells[cells[k]].To
		}
		olds, news, rows = append(olds, old), append(news, to), append(rows, r)
	}
	for _, up := range []int{1, -1} {
		order := c.order(up)
		from, to := ordered(news, order)
		if to-from < fewestSorted || disorder(olds[from:to], order) < 2 {
			continue
		}
		lo, hi := rows[from], rows[to-1]
		in := slices.DeleteFunc(slices.Clone(cells), func(i int) bool { return j.Cells[i].Row < lo || j.Cells[i].Row > hi })
		if len(in) < 4 || disorder(olds[from:to], order)*4 < len(in) || c.kept(in)*10 < len(in)*9 || distinct(news[from:to]) < 3 && (c.kept(in) < len(in) || len(in) < 2*fewestSorted) {
			continue
		}
		c.add(Found{Code: changeset.LoneSort, Field: c.field, Cells: in, Rows: j.rowsOf(in),
			Text: fmt.Sprintf("rows %d–%d have the values they had, in order, on other records: %s seems to be sorted without the other columns", j.Table.RowNumber(lo), j.Table.RowNumber(hi), c.name())})
		return true
	}
	return false
}

// permuted finds changes that only deal the same values out anew, in no
// order.
func (c *column) permuted(free []int) {
	j := c.j
	const most = 10
	if len(free) < most || c.kept(free) < len(free) {
		return
	}
	values := map[string]bool{}
	for _, i := range free {
		values[j.Cells[i].From] = true
	}
	if len(values) < most*4/5 || 3*len(values) < len(free) {
		return
	}
	c.add(Found{Code: changeset.LoneSort, Field: c.field, Cells: slices.Clone(free), Rows: j.rowsOf(free),
		Text: fmt.Sprintf("%s have the same values as before, on other records: %s seems to be sorted without the other columns", words.Count(len(free), "row"), c.name())})
}

// order compares values as a program sorts them, up or down.
func (c *column) order(up int) func(a, b string) int {
	c.look()
	return func(a, b string) int {
		x, ok := parse(c.kind, a)
		y, also := parse(c.kind, b)
		switch {
		case a == b:
			return 0
		case a == "" || b == "": // empty cells are last, whichever way
			if a == "" {
				return 1
			}
			return -1
		case ok && also:
			return up * x.compare(y)
		}
		return up * strings.Compare(strings.ToLower(a), strings.ToLower(b))
	}
}

func parse(k kind, v string) (number, bool) {
	switch k {
	case numbers:
		return parseNumber(v)
	case days:
		return parseDay(v)
	}
	return number{}, false
}

// ordered is the longest stretch that is in order, a few values aside.
func ordered(values []string, order func(a, b string) int) (from, to int) {
	best, sum, start := 0, 0, 0
	last := 0 // the last value that is in order
	for k := 1; k < len(values); k++ {
		if sum <= 0 {
			sum, start, last = 0, k-1, k-1
		}
		if order(values[last], values[k]) <= 0 {
			sum++
			last = k
		} else if sum -= 5; k+1 < len(values) && order(values[last], values[k+1]) > 0 {
			last = k // it is not one value that is odd: the order begins anew
		}
		if sum > best {
			best, from, to = sum, start, k+1
		}
	}
	return from, to
}

// disorder counts the neighbours that are not in order.
func disorder(values []string, order func(a, b string) int) int {
	n := 0
	for k := 1; k < len(values); k++ {
		if order(values[k-1], values[k]) > 0 {
			n++
		}
	}
	return n
}

func distinct(values []string) int {
	seen := map[string]bool{}
	for _, v := range values {
		seen[v] = true
	}
	return len(seen)
}
