package slip

import (
	"fmt"
	"slices"

	"paletwin/core/changeset"
)

// move is a number, or a day, that changes.
type move struct {
	cell     int
	from, to number
	ratio    int64 // to / from in parts of a million, its sign aside
	turned   bool  // the sign changed
	days     int64 // to - from, of days
}

// moves finds numbers that are off by powers of ten or a sign, and moves far
// outside the others'.
func (c *column) moves() {
	c.look()
	switch c.kind {
	case numbers:
		c.numberMoves()
	case days:
		c.dayMoves()
	}
}

func (c *column) numberMoves() {
	j := c.j
	filled := map[string]int{} // values that several cells get: a fill, no move
	for _, i := range c.cells {
		filled[j.Cells[i].To]++
	}
	var all []move
	for _, i := range c.free() {
		x := &j.Cells[i]
		from, ok := parseNumber(x.From)
		to, also := parseNumber(x.To)
		if !ok || !also || filled[x.To] >= fewestFilled {
			continue
		}
		m := move{cell: i, from: from, to: to}
		r, ok := to.over(from)
		if !ok {
			continue
		}
		if m.ratio = r; r < 0 {
			m.ratio, m.turned = -r, true
		}
		all = append(all, m)
	}
	if len(all) == 0 {
		return
	}
	mid, isSteady := usual(all)
	var far []move
	for _, m := range all {
		if power, sign := c.factor(m, mid, isSteady); power != 0 || sign {
			c.sayFactor(m, mid, isSteady, len(all), power, sign)
		} else if c.isFar(m, mid, isSteady) {
			far = append(far, m)
		}
	}
	if len(far)*fewOutliers > max(len(all), fewOutliers) {
		return
	}
	if isSteady && (len(all) < trusted || isFree(all, far, mid)) {
		far = slices.DeleteFunc(far, func(m move) bool { return !c.outside(m.to, wellOutside) })
	}
	for _, m := range far {
		x := &j.Cells[m.cell]
		c.add(Found{Code: changeset.Outlier, Field: c.field, Cells: []int{m.cell}, Rows: []uint32{x.Row},
			Text: fmt.Sprintf("%s → %s is %s, and the other %d moves are about %s", say(x.From), say(x.To), times(m.ratio), len(all)-1, times(mid))})
	}
}

// isFree reports whether single values are edited, besides steady moves, to
// values that are rather different: then one of them may be, too.
func isFree(all, far []move, mid int64) bool {
	free := 0
	for _, m := range all {
		if !agrees(m, mid) && (m.ratio > mid*3/2 || mid > m.ratio*3/2) {
			free++
		}
	}
	return free > 1 || len(far) > 1
}

// usual is the median of the moves, and whether most of them are about it: a
// percentage.
func usual(all []move) (mid int64, isSteady bool) {
	ratios := make([]int64, len(all))
	for k, m := range all {
		ratios[k] = m.ratio
	}
	slices.Sort(ratios)
	mid = ratios[len(ratios)/2]
	agree := 0
	for _, m := range all {
		if agrees(m, mid) {
			agree++
		}
	}
	return mid, agree >= steady && agree*100 >= len(all)*steadyShare
}

// agrees reports whether a move is the usual one, but for the rounding of the
// result.
func agrees(m move, mid int64) bool {
	off := m.ratio - mid
	if off < 0 {
		off = -off
	}
	unit, ok := number{1, m.to.scale}.over(m.from) // one of the last place
	if unit < 0 {
		unit = -unit
	}
	return ok && off <= agreeing+unit
}

// factor tells whether a move is off by a power of ten, or by its sign: among
// moves that agree, by the measure of these; else where the value is none of
// the column's, or the digits are the same ones.
func (c *column) factor(m move, mid int64, isSteady bool) (power int, sign bool) {
	if m.ratio == 0 {
		return 0, false
	}
	ten := int64(1)
	for p := 1; p <= 4; p++ {
		ten *= 10
		if c.isFactor(m, m.ratio/ten, 1, mid, isSteady) {
			return p, m.turned
		}
		if c.isFactor(m, m.ratio*ten, ten, mid, isSteady) {
			return -p, m.turned
		}
	}
	return 0, m.turned && c.turnsAway(m, mid, isSteady)
}

// isFactor judges a move whose ratio, a power of ten aside, is rest; down is
// that power where digits are lost.
func (c *column) isFactor(m move, rest, down, mid int64, isSteady bool) bool {
	unit, _ := number{1, m.to.scale}.over(m.from)
	unit = max(unit, -unit) * down / 2 // rounded
	switch {
	case c.sameDigits(m) && between(rest, million*9/10, million*11/10):
		return c.outside(m.to, million) || m.from.digits() == m.to.digits() && m.from.significant() >= 2
	case isSteady && (between(rest, mid-mid/50-unit, mid+mid/50+unit) || between(rest, million-unit, million+unit)):
		return unit < million/15
	case !c.outside(m.to, wellOutside):
		return false
	}
	// The copy's moves differ: the slip is on top of a move like theirs.
	return between(rest, million*million/loose, loose)
}

// sameDigits reports whether a move only shifts the point, perhaps losing
// digits at the end.
func (c *column) sameDigits(m move) bool {
	from, to := m.from.digits(), m.to.digits()
	return from == to || len(to) >= 2 && len(to) < len(from) && from[:len(to)] == to && m.ratio < million
}

// outside reports whether a number is beyond all of the column's by a factor,
// in parts of a million.
func (c *column) outside(n number, factor int64) bool {
	beyond := func(end number) bool {
		r, ok := n.over(end)
		return !ok || r > factor || r < 0 && factor == million
	}
	zero := number{}
	switch {
	case c.n-c.blanks < fewestKnown:
		return false
	case n.compare(c.top) > 0:
		return c.top.compare(zero) <= 0 || beyond(c.top)
	case n.compare(c.low) < 0:
		if c.low.compare(zero) <= 0 {
			return n.compare(zero) >= 0 || c.low.compare(zero) == 0 || beyond(c.low)
		}
		r, ok := c.low.over(n)
		return !ok || r < 0 || r > factor
	}
	return false
}

// turnsAway judges a move whose sign changed: the digits are the same, or the
// move is, or no value of the column has this sign.
func (c *column) turnsAway(m move, mid int64, isSteady bool) bool {
	if m.ratio == million || isSteady && agrees(m, mid) {
		return true
	}
	zero := number{}
	return m.to.compare(zero) < 0 && c.low.compare(zero) >= 0 || m.to.compare(zero) > 0 && c.top.compare(zero) <= 0
}

func between(v, lo, hi int64) bool { return v >= lo && v <= hi }

func (c *column) sayFactor(m move, mid int64, isSteady bool, all, power int, sign bool) {
	j := c.j
	x := &j.Cells[m.cell]
	what := map[int]string{1: "ten times too much", 2: "a hundred times too much", 3: "a thousand times too much", 4: "ten thousand times too much",
		-1: "a tenth of what it should be", -2: "a hundredth of what it should be", -3: "a thousandth of what it should be", -4: "a ten-thousandth of what it should be"}[power]
	switch {
	case sign && power != 0:
		what += ", and of the other sign"
	case sign:
		what = "of the other sign"
	}
	text := fmt.Sprintf("%s → %s looks %s", say(x.From), say(x.To), what)
	if isSteady {
		text += fmt.Sprintf("; the other %d moves of %s are about %s", all-1, c.name(), times(mid))
	} else if m.to.compare(c.top) > 0 || m.to.compare(c.low) < 0 {
		text += fmt.Sprintf("; no other value of %s is so %s", c.name(), map[bool]string{true: "high", false: "low"}[m.to.compare(c.top) > 0])
	}
	c.add(Found{Code: changeset.Factor, Field: c.field, Cells: []int{m.cell}, Rows: []uint32{x.Row}, Text: text})
}

// isFar reports whether a move is far outside the others'.
func (c *column) isFar(m move, mid int64, isSteady bool) bool {
	far := int64(farValue)
	switch {
	case isSteady:
		far = farMove
	case !c.outside(m.to, wellOutside):
		return false
	}
	return m.ratio > mid/million*far+mid%million*far/million || mid > m.ratio/million*far+m.ratio%million*far/million
}

func (c *column) dayMoves() {
	j := c.j
	var all []move
	for _, i := range c.free() {
		x := &j.Cells[i]
		from, ok := parseDay(x.From)
		to, also := parseDay(x.To)
		if ok && also {
			all = append(all, move{cell: i, from: from, to: to, days: to.mantissa - from.mantissa})
		}
	}
	if len(all) == 0 {
		return
	}
	sorted := make([]int64, len(all))
	for k, m := range all {
		sorted[k] = m.days
	}
	slices.Sort(sorted)
	mid, spread := int64(0), int64(0) // two or three moves have no middle
	if len(sorted) >= steady {
		mid, spread = sorted[len(sorted)/2], sorted[len(sorted)*3/4]-sorted[len(sorted)/4]
	}
	var far []move
	for _, m := range all {
		off := max(m.days-mid, mid-m.days)
		outside := m.to.compare(c.top) > 0 && m.to.mantissa-c.top.mantissa > farDays/4 || m.to.compare(c.low) < 0 && c.low.mantissa-m.to.mantissa > farDays/4
		if off > farDays+3*spread && outside && c.n-c.blanks >= fewestKnown {
			far = append(far, m)
		}
	}
	if len(far)*fewOutliers > max(len(all), fewOutliers) {
		return
	}
	for _, m := range far {
		x := &j.Cells[m.cell]
		c.add(Found{Code: changeset.Outlier, Field: c.field, Cells: []int{m.cell}, Rows: []uint32{x.Row},
			Text: fmt.Sprintf("%s → %s moves by %d days, and no other date of %s is there", say(x.From), say(x.To), m.days, c.name())})
	}
}
