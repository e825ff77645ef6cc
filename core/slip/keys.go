package slip

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
)

// mostMoved is how many records are compared with each other to find those
// whose keys changed.
const mostMoved = 50_000

// holder is a place where a record's values can be: a record of the snapshot
// (what it had), or a row of the copy (what it has).
type holder struct {
	record uint32
	row    uint32
	isAdd  bool
	gone   bool // the copy lacks the record
	cells  []int
	values []string
}

// keys finds records that stand under another key: a delete and an add that
// are one record, and keys that moved from record to record. A record can have
// another's key only where most of its values changed, so only those are
// looked at.
func (j *judge) keys() {
	was, is := j.holders()
	if len(was) == 0 || len(is) == 0 || len(was) > mostMoved || len(is) > mostMoved {
		return
	}
	at := j.index(was)
	from := map[int]int{} // of a place in is, where its values were
	claimed := map[int]int{}
	for k := range is {
		if w, ok := j.origin(&is[k], was, at); ok {
			from[k] = w
			claimed[w]++
		}
	}
	chain := newDisjointSets(len(was))
	moved := false
	for k, w := range from {
		if claimed[w] > 1 { // a row copied, not moved
			delete(from, k)
		}
	}
	recordAt := map[uint32]int{}
	for w := range was {
		recordAt[was[w].record] = w
	}
	for k, w := range from {
		if is[k].isAdd && was[w].gone {
			continue
		}
		moved = true
		if !is[k].isAdd {
			if to, ok := recordAt[is[k].record]; ok {
				chain.join(w, to)
			}
		}
	}
	linked := map[int]bool{}
	if moved {
		j.shiftedKeys(was, is, from, chain, linked)
	}
	for k := range is {
		if w, ok := from[k]; ok && is[k].isAdd && was[w].gone && !linked[w] {
			key, old := j.Table.RowKey(is[k].row), j.Table.Key(was[w].record)
			j.add(Found{Code: changeset.KeyEdited, Field: -1, Records: []uint32{was[w].record}, Adds: []uint32{is[k].row}, Rows: []uint32{is[k].row}, Together: true,
				Moved: []Moved{{Was: was[w].record, Row: is[k].row, Added: true}},
				Text:  fmt.Sprintf("%s is new and %s is gone, and they are one record: its key was edited. As a delete and an add, what depends on it and what the system keeps of it is lost", key, old)})
		}
	}
}

// holders are the places that records may have moved between: what was, and
// what is.
func (j *judge) holders() (was, is []holder) {
	if len(j.Missing) > mostMoved || len(j.Adds) > mostMoved {
		return nil, nil
	}
	for _, i := range j.Missing {
		was = append(was, holder{record: i, gone: true, values: j.Table.OldRow(i)})
	}
	fields := len(j.Fields) - len(j.Key)
	for lo := 0; lo < len(j.Cells); {
		hi := lo + 1
		for hi < len(j.Cells) && j.Cells[hi].Record == j.Cells[lo].Record {
			hi++
		}
		if n := hi - lo; n >= 2 && 3*n >= fields-fields/10 {
			if h, heavy := j.heavy(lo, hi); heavy {
				was = append(was, h)
				h.values = slices.Clone(h.values)
				for i := lo; i < hi; i++ {
					h.values[j.Cells[i].Field] = j.Cells[i].To
				}
				is = append(is, h)
			}
		}
		lo = hi
	}
	for _, a := range j.Adds {
		is = append(is, holder{row: a.Row, isAdd: true, values: a.Values})
	}
	return was, is
}

// heavy reports whether most of a record's values change.
// A record that most of another's values came to may have had some of them.
func (j *judge) heavy(lo, hi int) (holder, bool) {
	x := &j.Cells[lo]
	h := holder{record: x.Record, row: x.Row, values: j.Table.OldRow(x.Record)}
	filled := 0
	for f, v := range h.values {
		if v != "" && !j.isKey(f) {
			filled++
		}
	}
	for i := lo; i < hi; i++ {
		h.cells = append(h.cells, i)
	}
	return h, (hi-lo)*100 >= filled*alike/2
}

type fieldValue struct {
	field int
	value string
}

// index says which records have a value that few have.
func (j *judge) index(was []holder) map[fieldValue][]int {
	at := map[fieldValue][]int{}
	for w := range was {
		for f, v := range was[w].values {
			if k := (fieldValue{f, v}); v != "" && !j.isKey(f) && len(at[k]) <= mostIndexed {
				at[k] = append(at[k], w)
			}
		}
	}
	return at
}

// origin finds the one record that had most of a place's values.
func (j *judge) origin(h *holder, was []holder, at map[fieldValue][]int) (int, bool) {
	var able []int
	for f, v := range h.values {
		if v == "" || j.isKey(f) {
			continue
		}
		if list := at[fieldValue{f, v}]; len(list) <= mostIndexed {
			able = append(able, list...)
		}
	}
	slices.Sort(able)
	best, most, second := -1, 0, 0
	for k, w := range able {
		if k > 0 && able[k-1] == w || was[w].record == h.record && !h.isAdd {
			continue
		}
		n := 0
		for f, v := range h.values {
			if v != "" && v == was[w].values[f] && !j.isKey(f) {
				n++
			}
		}
		switch {
		case n > most:
			best, most, second = w, n, most
		case n > second:
			second = n
		}
	}
	if best < 0 || most == second {
		return 0, false
	}
	filled, own, chance := 0, 0, float64(len(was))
	for f, v := range h.values {
		if j.isKey(f) || v == "" && was[best].values[f] == "" {
			continue
		}
		filled++
		if v != "" && v == was[best].values[f] {
			chance *= j.columns[f].chance(v)
		}
		if !h.isAdd && v == j.Table.Old(h.record, f) {
			own++
		}
	}
	return best, most*100 >= filled*alike && most > own && chance <= unlikely
}

// shiftedKeys says which keys moved, chain by chain.
func (j *judge) shiftedKeys(was, is []holder, from map[int]int, chain *disjointSets, linked map[int]bool) {
	type group struct {
		moves [][2]string
		found Found
	}
	groups := map[int]*group{}
	var order []int
	for k := range is {
		w, ok := from[k]
		if !ok || is[k].isAdd && was[w].gone && chain.alone(w) {
			continue
		}
		root := chain.root(w)
		g := groups[root]
		if g == nil {
			g = &group{found: Found{Code: changeset.KeyShifted, Field: -1, Together: true}}
			groups[root] = g
			order = append(order, root)
		}
		linked[w] = true
		to := j.Table.RowKey(is[k].row)
		if is[k].isAdd {
			g.found.Adds = append(g.found.Adds, is[k].row)
		} else {
			to = j.Table.Key(is[k].record)
			g.found.Records = append(g.found.Records, is[k].record)
			g.found.Cells = append(g.found.Cells, is[k].cells...)
		}
		if was[w].gone {
			g.found.Records = append(g.found.Records, was[w].record)
		}
		g.found.Rows = append(g.found.Rows, is[k].row)
		g.found.Moved = append(g.found.Moved, Moved{Was: was[w].record, Record: is[k].record, Row: is[k].row, Added: is[k].isAdd})
		g.moves = append(g.moves, [2]string{j.Table.Key(was[w].record), to})
	}
	for _, root := range order {
		g := groups[root]
		slices.Sort(g.found.Records)
		g.found.Records = slices.Compact(g.found.Records)
		exchange := len(g.moves) == 2 && g.moves[0][0] == g.moves[1][1] && g.moves[0][1] == g.moves[1][0]
		if exchange {
			a, b := g.moves[0][0], g.moves[0][1]
			g.found.Text = fmt.Sprintf("%s and %s have exchanged their keys: each has nearly all values that the other had. What depends on them stays with the key", a, b)
			j.add(g.found)
			pair := Found{Code: changeset.SwappedPair, Field: -1, Records: g.found.Records, Rows: g.found.Rows,
				Text: fmt.Sprintf("or, seen from the keys: %s and %s have exchanged all their values", a, b)}
			j.add(pair)
			continue
		}
		var words []string
		for i, m := range g.moves {
			if i == 5 && len(g.moves) > 6 {
				words = append(words, fmt.Sprintf("and %d more", len(g.moves)-i))
				break
			}
			words = append(words, m[0]+" → "+m[1])
		}
		g.found.Text = fmt.Sprintf("keys moved from record to record: %s. What depends on them stays with the key", strings.Join(words, ", "))
		j.add(g.found)
	}
}

// disjointSets are sets of records whose keys moved among each other.
type disjointSets struct{ up []int }

func newDisjointSets(n int) *disjointSets {
	c := &disjointSets{make([]int, n)}
	for i := range c.up {
		c.up[i] = i
	}
	return c
}

func (c *disjointSets) root(i int) int {
	for c.up[i] != i {
		c.up[i] = c.up[c.up[i]]
		i = c.up[i]
	}
	return i
}

func (c *disjointSets) join(a, b int) { c.up[max(c.root(a), c.root(b))] = min(c.root(a), c.root(b)) }

// alone reports whether nothing was joined with i.
func (c *disjointSets) alone(i int) bool {
	for k := range c.up {
		if k != i && c.root(k) == c.root(i) {
			return false
		}
	}
	return true
}

func sortedKeys[K cmp.Ordered, V any](m map[K]V) []K {
	keys := make([]K, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
