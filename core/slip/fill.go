package slip

import (
	"fmt"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/words"
)

// fills are the changes that no slip explains yet, by the value they get, in
// the copy's order; only values that so many get that it may be a fill. A
// number or date that many moves come to by their own ways is none.
func (c *column) fills(least int) [][]int {
	j := c.j
	free := c.free()
	by := map[string][]int{}
	for _, i := range free {
		by[j.Cells[i].To] = append(by[j.Cells[i].To], i)
	}
	c.look()
	var fills [][]int
	for _, i := range free { // in order, each value once
		to := j.Cells[i].To
		all := by[to]
		delete(by, to)
		if len(all) < least || to == "" || c.kind != texts && 2*len(all) < len(free) {
			continue
		}
		fills = append(fills, all)
	}
	return fills
}

// trait is a value that the records of a fill have in a field.
type trait struct {
	column *column
	value  string
	count  int // of the fill's records
}

// beside is what stood beside a change of the column, in another field, when
// it was filled: as the copy has it, since that is what a person saw.
func (c *column) beside(g *column, cell int) string {
	x := &c.j.Cells[cell]
	if g == c {
		return x.From
	}
	v, _ := g.new(x.Row)
	return v
}

// traits are the values that most of a fill's records have, a field each.
// explained says that all have one that few others have: they are a group.
func (c *column) traits(cells []int) (traits []trait, explained bool) {
	j := c.j
	step := max(1, len(cells)/looking)
	for _, g := range j.columns {
		seen := map[string]int{}
		most, n := "", 0
		for k := 0; k < len(cells); k += step {
			v := c.beside(g, cells[k])
			n++
			if seen[v]++; seen[v] > seen[most] || seen[v] == seen[most] && v < most {
				most = v
			}
		}
		if seen[most]*2 < n || seen[most] < 3 {
			continue
		}
		t := trait{g, most, 0}
		for _, i := range cells {
			if c.beside(g, i) == most {
				t.count++
			}
		}
		explained = explained || t.count == len(cells) && power(g.chance(most), t.count, 1) <= unlikely
		traits = append(traits, t)
	}
	return traits, explained
}

// isGroup reports whether nearly all of a fill's records have a value in
// common that not nearly all records have.
func (c *column) isGroup(fill []int) bool {
	traits, explained := c.traits(fill)
	return explained || slices.ContainsFunc(traits, func(t trait) bool {
		return t.count*100 >= len(fill)*nearlyAll && t.column.chance(t.value)*100 < nearlyAll-10
	})
}

// overruns finds fills that reach past the group they belong to.
func (c *column) overruns() {
	for _, fill := range c.fills(fewestFilled) {
		c.overrun(fill)
	}
}

// overrun looks for the group that a fill belongs to, and for what it
// overran: rows right after the last of the group, or before the first, that
// are no part of it.
func (c *column) overrun(fill []int) {
	traits, explained := c.traits(fill)
	if explained {
		return
	}
	best, bestChance := Found{}, 1.0
	blocks := c.blocks(fill)
	for _, t := range traits {
		if f, chance := c.ranPast(fill, blocks, t); chance < bestChance || chance == bestChance && chance < 1 && t.column == c {
			best, bestChance = f, chance
		}
	}
	if bestChance < 1 {
		c.add(best)
	}
}

// ranPast looks for what a fill of the records that have a trait overran, and
// says how likely it would be by chance; 1 if there is nothing.
func (c *column) ranPast(fill []int, blocks [][]int, t trait) (Found, float64) {
	limit := unlikely
	if t.column == c {
		limit = doubtful
	}
	var group, past []int
	chance, found, impure := 1.0, 0, 0
	for _, b := range blocks {
		if len(b) < fewestFilled {
			continue
		}
		first, last, strange := c.groupIn(b, t)
		n, before, after := last-first, first, len(b)-last
		p := power(t.column.chance(t.value), n, len(blocks))
		if strange*10 > n || n < 3 || (before == 0) == (after == 0) || max(before, after) > min(mostTail, n/2+1) || p > limit {
			continue
		}
		found++
		impure += strange
		chance = min(chance, p)
		group = append(group, b[first:last]...)
		past = append(append(past, b[:first]...), b[last:]...)
	}
	if p := power(t.column.chance(t.value), t.count, 1); found == 0 && t.column == c && t.count >= fewestFilled && len(fill)-t.count <= 2 && p <= limit {
		// The group's rows are no neighbours: what is beside the last of it, or the first.
		for _, i := range fill {
			if c.beside(c, i) == t.value {
				group = append(group, i)
			} else {
				past = append(past, i)
			}
		}
		if !c.isBeside(group, past) {
			return Found{}, 1
		}
		chance = p
	}
	others := len(fill) - t.count - len(past) - impure
	if len(past) == 0 || others*2*found*byAccident > c.j.Table.Rows() {
		return Found{}, 1 // others got the value, too, so that one may do so beside the group
	}
	return c.ranPastFound(group, past, t), chance
}

// groupIn is the part of a block from the first record that has a trait to
// the last, and how many strangers are within.
func (c *column) groupIn(block []int, t trait) (first, last, strange int) {
	first, last = -1, -1
	in := 0
	for k, i := range block {
		if c.beside(t.column, i) != t.value {
			continue
		}
		if first < 0 {
			first = k
		}
		last = k + 1
		in++
	}
	return first, last, last - first - in
}

// isBeside reports whether cells are right after the last row of a group, or
// before the first.
func (c *column) isBeside(group, cells []int) bool {
	first, last := c.j.Cells[group[0]].Row, c.j.Cells[group[len(group)-1]].Row
	n := uint32(len(cells))
	return !slices.ContainsFunc(cells, func(i int) bool {
		r := c.j.Cells[i].Row
		return !(r > last && r <= last+n || r < first && r+n >= first)
	})
}

// goesOn reports whether two changes to one value are neighbours, rows that
// had the value before aside.
func (c *column) goesOn(a, b int) bool {
	x, y := &c.j.Cells[a], &c.j.Cells[b]
	if y.Row-x.Row > hole {
		return false
	}
	for r := x.Row + 1; r < y.Row; r++ {
		if v, ok := c.new(r); !ok || v != x.To {
			return false
		}
	}
	return true
}

func (c *column) ranPastFound(group, past []int, t trait) Found {
	j := c.j
	to := j.Cells[past[0]].To
	was := say(c.beside(t.column, past[0]))
	if slices.ContainsFunc(past, func(i int) bool { return say(c.beside(t.column, i)) != was }) {
		was = "others"
	}
	f := Found{Code: changeset.FillOverrun, Field: c.field, Cells: slices.Clone(past), Rows: j.rowsOf(past)}
	form := "%s went %s → %s, and so did %s, which had %s: the fill seems to reach too far"
	if t.column != c {
		form = "%s with " + t.column.name() + " %s got %s, and so did %s with %s: the fill seems to reach too far"
	}
	f.Text = fmt.Sprintf(form, j.rowWords(j.rowsOf(group)), say(t.value), say(to), j.rowWords(j.rowsOf(past)), was)
	return f
}

// gaps finds the one cell that a fill left out.
func (c *column) gaps() {
	j := c.j
	for _, fill := range c.fills(wholeGroup) {
		from := map[string][]int{}
		for _, i := range fill {
			from[j.Cells[i].From] = append(from[j.Cells[i].From], i)
		}
		done := false
		for _, v := range sortedKeys(from) {
			if group := from[v]; v != "" && len(group) >= wholeGroup && len(group)*4 >= len(fill)*3 && c.gap(group) {
				done = true
			}
		}
		if !done && len(fill) > wholeGroup && j.Table.Rows() <= countedRows {
			c.gapIn(fill)
		}
	}
}

// gap looks for the one record with the same old value that was left out of a
// fill: within its rows, or, in a copy of which all can be counted, anywhere.
func (c *column) gap(group []int) bool {
	j := c.j
	from := j.Cells[group[0]].From
	first, last := j.Cells[group[0]].Row, j.Cells[group[len(group)-1]].Row
	var inside, outside []uint32
	lo, hi := first, last
	if rows := j.Table.Rows(); rows <= countedRows {
		lo, hi = 0, uint32(rows-1)
	} else if int(last-first) > len(group)+hole {
		return false
	}
	for r := lo; r <= hi && len(inside) < 2 && len(outside) < 2*len(group); r++ {
		if v, ok := c.old(r); !ok || v != from || c.changeAt(r) >= 0 {
			continue
		}
		if r > first && r < last {
			inside = append(inside, r)
		} else {
			outside = append(outside, r)
		}
	}
	left := inside
	if len(inside) == 0 && len(outside) == 1 && hi-lo > last-first {
		left = outside
	}
	if len(left) != 1 || len(inside) == 1 && c.chance(from) > 0.6 && len(outside) > 0 {
		return false
	}
	x := &j.Cells[group[0]]
	c.add(Found{Code: changeset.FillGap, Field: c.field, Rows: left,
		Text: fmt.Sprintf("%s went %s → %s, and %s, which has %s too, did not: it seems to be left out", words.Count(len(group), "row"), say(x.From), say(x.To), j.rowWords(left), say(from))})
	return true
}

// gapIn looks for the one record of a group, told by another field, that a
// fill left out; there is none if the fill is the whole of another group.
func (c *column) gapIn(fill []int) {
	j := c.j
	var found *Found
	traits, _ := c.traits(fill)
	for _, t := range traits {
		g := t.column
		if g == c || t.count < wholeGroup || power(g.chance(t.value), t.count, 1) > unlikely/10 {
			continue
		}
		left := c.leftOut(t, j.Cells[fill[0]].To)
		switch {
		case len(left) == 0 && t.count*100 >= len(fill)*nearlyAll:
			return
		case len(left) == 1 && found == nil:
			found = &Found{Code: changeset.FillGap, Field: c.field, Rows: left,
				Text: fmt.Sprintf("%s with %s %s got %s, and %s, which has it too, did not: it seems to be left out", words.Count(t.count, "row"), g.name(), say(t.value), say(j.Cells[fill[0]].To), j.rowWords(left))}
		}
	}
	if found == nil {
		found = c.gapBetween(fill)
	}
	if found != nil {
		c.add(*found)
	}
}

// gapBetween looks for a row left out within a stretch of a fill, of which it
// has what all the others have in a field.
func (c *column) gapBetween(fill []int) *Found {
	j := c.j
	blocks := c.blocks(fill)
	for k := 1; k < len(blocks); k++ {
		a, b := blocks[k-1], blocks[k]
		left := j.Cells[a[len(a)-1]].Row + 1
		if j.Cells[b[0]].Row != left+1 || len(a)+len(b) < wholeGroup || len(a) < 2 || len(b) < 2 || c.changeAt(left) >= 0 ||
			k > 1 && j.Cells[a[0]].Row-j.Cells[blocks[k-2][len(blocks[k-2])-1]].Row <= hole || k+1 < len(blocks) && j.Cells[blocks[k+1][0]].Row-j.Cells[b[len(b)-1]].Row <= hole {
			continue
		}
		both := slices.Concat(a, b)
		traits, _ := c.traits(both)
		for _, t := range traits {
			v, ok := t.column.new(left)
			if ok && v == t.value && t.count*10 >= len(both)*9 && power(t.column.chance(v), t.count, len(blocks)) <= unlikely {
				return &Found{Code: changeset.FillGap, Field: c.field, Rows: []uint32{left},
					Text: fmt.Sprintf("%s with %s %s got %s, and %s between them, which has it too, did not: it seems to be left out", j.rowWords(j.rowsOf(both)), t.column.name(), say(v), say(j.Cells[a[0]].To), j.rowWords([]uint32{left}))}
			}
		}
	}
	return nil
}

// blocks are the stretches of a fill without other rows between.
func (c *column) blocks(fill []int) (blocks [][]int) {
	from := 0
	for k := 1; k <= len(fill); k++ {
		if k == len(fill) || !c.goesOn(fill[k-1], fill[k]) {
			blocks = append(blocks, fill[from:k])
			from = k
		}
	}
	return blocks
}

// leftOut are rows with a trait that did not get a value; two are enough.
func (c *column) leftOut(t trait, to string) (left []uint32) {
	j := c.j
	for r := uint32(0); r < uint32(j.Table.Rows()) && len(left) < 2; r++ {
		i, ok := j.Table.Record(r)
		if !ok || j.Table.Old(i, t.column.field) != t.value || c.changeAt(r) >= 0 || j.Table.Old(i, c.field) == to {
			continue
		}
		if now, _ := t.column.new(r); now == t.value {
			left = append(left, r)
		}
	}
	return left
}
