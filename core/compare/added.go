package compare

import (
	"slices"
	"strings"

	"paletwin/core/changeset"
)

// addition is a row of a copy that is a new record.
type addition struct {
	key  string // as the schema has it, encoded; "" where it has none
	part int
	row  uint32
}

// listAdds lists the new records of all copies by their keys.
func (jt *joint) listAdds() {
	s := jt.o.Layout.Schema()
	for c, p := range jt.parts {
		for _, j := range p.adds {
			a := addition{part: c, row: j}
			if k := p.copy.own(p.copy.raw(j)); !k.Blank() || !s.Assigned() {
				a.key = s.Key(k).Encoding()
			}
			jt.added = append(jt.added, a)
		}
	}
	slices.SortStableFunc(jt.added, func(a, b addition) int { return strings.Compare(a.key, b.key) })
}

// additions makes the adds of rows that are in the order of their keys.
func (jt *joint) additions(b *batch, rows []addition) {
	b.parts = make([]*batch, len(jt.parts))
	for c := range b.parts {
		b.parts[c] = new(batch)
	}
	for len(rows) > 0 {
		n := 1
		for n < len(rows) && rows[n].key == rows[0].key {
			n++
		}
		var of []draft
		for _, a := range rows[:n] {
			if ch := jt.draft(b, a); ch != nil {
				of = append(of, draft{a.part, ch})
			}
		}
		if len(of) > 0 {
			b.changes = append(b.changes, jt.mergeAdds(b, of))
		}
		rows = rows[n:]
	}
}

// draft makes the add of a row, or nil.
func (jt *joint) draft(b *batch, a addition) *changeset.Change {
	p, x := jt.parts[a.part], b.parts[a.part]
	before := len(x.changes)
	if p.additions(x, []uint32{a.row}); len(x.changes) == before {
		return nil
	}
	p.slips.Mark(x.changes[before], x.places[before])
	return x.changes[before]
}

// nameless makes the adds of rows that have no key. Those of equal content are one, as often as
// one copy has it.
func (jt *joint) nameless(b *batch, rows []addition) {
	b.parts = make([]*batch, len(jt.parts))
	for c := range b.parts {
		b.parts[c] = new(batch)
	}
	type content struct {
		values string
		nth    int
	}
	found := map[content][]draft{}
	times := make([]map[string]int, len(jt.parts))
	var order []content
	for _, a := range rows {
		ch := jt.draft(b, a)
		if ch == nil {
			continue
		}
		values := string(changeset.AppendRecord(nil, ch.Record))
		if times[a.part] == nil {
			times[a.part] = map[string]int{}
		}
		x := content{values, times[a.part][values]}
		times[a.part][values]++
		if found[x] == nil {
			order = append(order, x)
		}
		found[x] = append(found[x], draft{a.part, ch})
	}
	for _, x := range order {
		b.changes = append(b.changes, jt.mergeAdds(b, found[x]))
	}
}
