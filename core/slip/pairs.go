package slip

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
)

// swappedPairs finds two records that have each other's value in a field, or
// in several, where that is no accident.
func (j *judge) swappedPairs() {
	type records struct{ a, b uint32 }
	type swap struct {
		chance float64
		cells  []int
		fields []string
	}
	swaps := map[records]*swap{}
	for _, c := range j.columns {
		free := c.free()
		if len(free) < 2 {
			continue
		}
		by := map[[2]string][]int{}
		for _, i := range free {
			by[[2]string{j.Cells[i].From, j.Cells[i].To}] = append(by[[2]string{j.Cells[i].From, j.Cells[i].To}], i)
		}
		for _, i := range free {
			x := &j.Cells[i]
			there, back := by[[2]string{x.From, x.To}], by[[2]string{x.To, x.From}]
			if len(there) != 1 || len(back) != 1 || x.From == "" || x.To == "" || back[0] <= i {
				continue
			}
			y := &j.Cells[back[0]]
			n := float64(len(free))
			chance := n * (n - 1) / 2 * c.chance(x.From) * c.chance(x.To)
			r := records{min(x.Record, y.Record), max(x.Record, y.Record)}
			s := swaps[r]
			if s == nil {
				s = &swap{chance: 1}
				swaps[r] = s
			}
			s.chance *= min(chance, 1)
			s.cells = append(s.cells, i, back[0])
			s.fields = append(s.fields, c.name())
		}
	}
	order := make([]records, 0, len(swaps))
	for r := range swaps {
		order = append(order, r)
	}
	slices.SortFunc(order, func(x, y records) int { return cmp.Or(cmp.Compare(x.a, y.a), cmp.Compare(x.b, y.b)) })
	for _, r := range order {
		s := swaps[r]
		rows := []uint32{j.Cells[s.cells[0]].Row, j.Cells[s.cells[1]].Row}
		near := int64(rows[0])-int64(rows[1]) <= 1 && int64(rows[1])-int64(rows[0]) <= 1
		if near {
			s.chance /= 10 // a hand that slips hits a neighbour
		}
		if s.chance > exchanged {
			continue
		}
		slices.Sort(rows)
		j.add(Found{Code: changeset.SwappedPair, Field: int(j.Cells[s.cells[0]].Field), Cells: s.cells, Rows: rows,
			Text: fmt.Sprintf("%s and %s have exchanged their %s: %s and %s", j.Table.Key(r.a), j.Table.Key(r.b), strings.Join(s.fields, ", "), say(j.Cells[s.cells[0]].From), say(j.Cells[s.cells[0]].To))})
	}
}
