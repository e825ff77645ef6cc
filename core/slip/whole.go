package slip

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/words"
)

// whole finds a column that was emptied, or overwritten with one value that no
// more than so many parts of a hundred of the records had before.
func (c *column) whole(before int) {
	j := c.j
	free := c.free()
	to := map[string]int{}
	from := map[string]int{}
	most := ""
	for _, i := range free {
		x := &j.Cells[i]
		to[x.To]++
		from[x.From]++
		if to[x.To] > to[most] || to[x.To] == to[most] && x.To < most {
			most = x.To
		}
	}
	c.look()
	all := j.Table.Records()
	of := func(v string) int { // records with the value, as the sample shows
		return c.counts[v] * all / max(c.n, 1)
	}
	pick := func(v string) []int {
		return slices.DeleteFunc(slices.Clone(free), func(i int) bool { return j.Cells[i].To != v })
	}
	if n, filled := to[""], all-of(""); n >= fewestCleared && n*100 >= filled*cleared {
		cells := pick("")
		c.add(Found{Code: changeset.MassClear, Field: c.field, Cells: cells, Rows: j.rowsOf(cells),
			Text: fmt.Sprintf("%d of the about %d values of %s are emptied", n, max(filled, n), c.name())})
		return
	}
	if n := to[most]; most != "" && n >= fewestOverwritten && (of(most)+n-from[most])*100 >= all*everywhere && of(most)*100 <= all*before && c.uniform()*100 < everywhere {
		cells := pick(most)
		if c.isGroup(cells) {
			return
		}
		c.add(Found{Code: changeset.SameEverywhere, Field: c.field, Cells: cells, Rows: j.rowsOf(cells),
			Text: fmt.Sprintf("%s would have one value in nearly all records: %s, in %s that had others", c.name(), say(most), words.Count(n, "record"))})
	}
}

// uniform is the share of records that have the column's commonest value.
func (c *column) uniform() float64 {
	most := 0
	for _, n := range c.counts {
		most = max(most, n)
	}
	return float64(most) / float64(max(c.n, 1))
}

// across finds columns whose values were exchanged, or moved from one to the
// other.
func (j *judge) across() {
	type pair struct{ a, b uint32 }
	swaps, moves, both := map[pair][]int{}, map[pair][]int{}, map[pair]int{}
	for lo := 0; lo < len(j.Cells); {
		hi := lo + 1
		for hi < len(j.Cells) && j.Cells[hi].Record == j.Cells[lo].Record {
			hi++
		}
		for a := lo; a < hi && hi-lo <= mostAcross; a++ {
			for b := lo; b < hi; b++ {
				x, y := &j.Cells[a], &j.Cells[b]
				if a < b {
					both[pair{x.Field, y.Field}]++
				}
				switch {
				case a == b || x.From == "" || y.To != x.From || j.taken[a] || j.taken[b]:
				case x.To == "":
					moves[pair{x.Field, y.Field}] = append(moves[pair{x.Field, y.Field}], a, b)
				case a < b && x.To == y.From:
					swaps[pair{x.Field, y.Field}] = append(swaps[pair{x.Field, y.Field}], a, b)
				}
			}
		}
		lo = hi
	}
	byColumns := func(p, q pair) int { return cmp.Or(cmp.Compare(p.a, q.a), cmp.Compare(p.b, q.b)) }
	seen := slices.AppendSeq(slices.Collect(maps.Keys(swaps)), maps.Keys(moves))
	slices.SortFunc(seen, byColumns)
	for _, p := range slices.Compact(seen) {
		a, b := p.a, p.b
		if n := len(swaps[p]) / 2; n >= fewestSwapped && j.swapChance(a, b, n, both[p])*float64(len(both)) <= unlikely {
			j.add(j.acrossFound(changeset.ColumnSwap, swaps[p], false,
				fmt.Sprintf("%s and %s have each other's values in %s: the columns seem to be exchanged", j.Fields[a], j.Fields[b], words.Count(n, "record"))))
		}
		if n := len(moves[p]) / 2; n >= fewestSwapped && atLeast(n, float64(max(both[p], both[pair{b, a}]))*j.alikeColumns(a, b)) <= unlikely {
			j.add(j.acrossFound(changeset.ColumnMoved, moves[p], true,
				fmt.Sprintf("in %s the value of %s is now in %s, and %s is empty: decided together", words.Count(n, "record"), j.Fields[a], j.Fields[b], j.Fields[a])))
		}
	}
}

// acrossFound is a finding on two columns; its field is the second.
func (j *judge) acrossFound(code changeset.Code, cells []int, together bool, text string) Found {
	f := Found{Code: code, Field: int(j.Cells[cells[1]].Field), Text: text, Cells: cells, Together: together}
	for k := 0; k < len(cells); k += 2 {
		f.Rows = append(f.Rows, j.Cells[cells[k]].Row)
	}
	return f
}

// swapChance is how likely it is that n of the records in which both fields
// change have the values exchanged.
func (j *judge) swapChance(a, b uint32, n, both int) float64 {
	p := j.alikeColumns(a, b)
	return atLeast(n, float64(both)*p*p)
}

// atLeast is a bound of how likely something happens n times that happens so
// many times on average (Chernoff).
func atLeast(n int, average float64) float64 {
	if float64(n) <= average {
		return 1
	}
	p := math.Exp(-average)
	for range n {
		p *= math.E * average / float64(n)
	}
	return p
}

// alikeColumns is how likely it is that two fields of a record have one
// value, and are not empty.
func (j *judge) alikeColumns(a, b uint32) float64 {
	x, y := j.columns[a], j.columns[b]
	x.look()
	y.look()
	p := 0.5 / (float64(x.n) + 1)
	for v, n := range x.counts {
		if v != "" {
			p += float64(n) * float64(y.counts[v]) / (float64(x.n) * float64(y.n))
		}
	}
	return min(p, 1)
}
