package compare

import (
	"slices"
	"strings"

	"github.com/zeebo/xxh3"

	"paletwin/core/table/csv"
	"paletwin/core/wear"
)

// mostByHand is how many rows, and records, that differ from all records are
// compared each with each.
const mostByHand = 2000

// byEvidence matches rows and records that one key is seen of, one to one, by
// their other fields read through the file's habit: first those that agree in
// all fields and alone do; then, in what is left, the best match of a row, if
// it agrees in half of its fields or more, no other record agrees in as
// many, and no other row has it for its best. It returns the rows and records
// that are left.
func (p *pairs) byEvidence(rows, records []uint32) (left, without []uint32) {
	h := p.habitInOrder(rows, records)
	seen := make(map[uint64][]uint32, len(rows))
	for _, j := range rows {
		k := xxh3.HashString(strings.Join(p.otherCells(j), "\x00"))
		seen[k] = append(seen[k], j)
	}
	worn := make(map[uint64][]uint32, len(records))
	for _, i := range records {
		k := xxh3.HashString(strings.Join(p.wornCells(h, i), "\x00"))
		worn[k] = append(worn[k], i)
	}
	matched := map[uint32]bool{}
	if p.evidence == nil {
		p.evidence = map[uint32]bool{}
	}
	pair := func(i, j uint32) {
		p.join(i, j)
		p.evidence[i], matched[j] = true, true
	}
	for k, is := range worn {
		if js := seen[k]; len(is) == 1 && len(js) == 1 {
			pair(is[0], js[0])
		}
	}
	left = slices.DeleteFunc(slices.Clone(rows), func(j uint32) bool { return matched[j] })
	without = slices.DeleteFunc(slices.Clone(records), func(i uint32) bool { return p.evidence[i] })
	if len(left) > mostByHand || len(without) > mostByHand {
		return left, without
	}
	for j, i := range p.bestMatches(h, left, without) {
		pair(i, j)
	}
	left = slices.DeleteFunc(left, func(j uint32) bool { return matched[j] })
	without = slices.DeleteFunc(without, func(i uint32) bool { return p.evidence[i] })
	return left, without
}

// bestMatches finds for each row the one record that agrees with it best.
func (p *pairs) bestMatches(h wear.Habit, rows, records []uint32) map[uint32]uint32 {
	texts := make([][]string, len(records))
	for k, i := range records {
		texts[k] = p.wornCells(h, i)
	}
	best := map[uint32]uint32{}
	claimed := map[uint32]int{}
	for _, j := range rows {
		cells := p.otherCells(j)
		most, second, at := 0, 0, -1
		for k := range texts {
			n := 0
			for f := range cells {
				if cells[f] == texts[k][f] {
					n++
				}
			}
			switch {
			case n > most:
				most, second, at = n, most, k
			case n > second:
				second = n
			}
		}
		if at >= 0 && most > second && 2*most >= len(cells) {
			best[j] = records[at]
			claimed[records[at]]++
		}
	}
	for j, i := range best {
		if claimed[i] > 1 {
			delete(best, j)
		}
	}
	return best
}

// habitInOrder concludes the file's habit from rows and records of one order:
// what is no edit agrees there.
func (p *pairs) habitInOrder(rows, records []uint32) wear.Habit {
	cells := make([][]wear.Pair, len(p.res.Fields))
	for k := range min(len(rows), len(records), sameSampled) {
		was, is := p.plainCells(records[k]), p.otherCells(rows[k])
		for f := range was {
			cells[f] = append(cells[f], wear.Pair{Snapshot: was[f], Seen: is[f]})
		}
	}
	v, ok := wear.Choose(some(cells), p.known())
	if !ok {
		v.Habit = p.known().All()[0]
	}
	return v.Habit
}

// otherCells are the copy's cells of a row in the fields that are no key.
func (p *pairs) otherCells(j uint32) []string {
	return p.noKey(p.copy, j, func(_, col int) int { return col })
}

// plainCells are the snapshot's cells of a record in the same fields, and
// wornCells what the habit makes of them.
func (p *pairs) plainCells(i uint32) []string {
	return p.noKey(p.snap, i, func(f, _ int) int { return f })
}

// noKey reads the cells of a row in the fields that both tables have and that
// are no key; at says where a table has a field.
func (p *pairs) noKey(s *side, row uint32, at func(field, column int) int) []string {
	cells := csv.Split(nil, s.raw(row), s.img.Comma)
	var all []string
	for f, col := range p.pair {
		if col >= 0 && !slices.Contains(p.snap.keyCol, f) {
			v, _ := csv.Value(s.img, cells[at(f, col)])
			all = append(all, v.String())
		}
	}
	return all
}

func (p *pairs) wornCells(h wear.Habit, i uint32) []string {
	all := p.plainCells(i)
	for f := range all {
		all[f], _ = h.Wear(all[f])
	}
	return all
}
