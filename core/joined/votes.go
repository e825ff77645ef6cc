package joined

import (
	"bytes"
	"cmp"
	"context"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table/csv"
)

// split makes the set's table.
func (s *setOf) split(ctx context.Context) (*Split, error) {
	s.said = slices.Repeat([]spot{unsaid}, len(s.groups)*len(s.fields))
	flagged := s.first()
	if len(flagged) > 0 {
		s.judge(s.hear(flagged))
	}
	return s.out, s.image()
}

// keyOf is the key of one of the sheet's records, as it stands there first.
func (s *setOf) keyOf(g *group) record.Key { return s.x.cells.key(g.row, s.parts[g.part].key) }

// wasKey is the key of one of the snapshot's records.
func (s *setOf) wasKey(n int32) record.Key { return record.KeyOf(bytes.Clone(s.known.key(n))) }

// wasValue is what the snapshot has for a field of a record; there is false where it has none.
func (s *setOf) wasValue(n int32, field string) (v record.Value, there bool) {
	col := s.Snapshot.Column(field)
	if n < 0 || col < 0 {
		return v, false
	}
	cell, ok := s.known.cell(n, col)
	if !ok {
		return v, false
	}
	return csv.Value(s.Snapshot, cell)
}

// voice reports whether a cell says something of its record: in a row that is new a blank cell is
// one that was not filled in, and so it is where the record is new.
func (s *setOf) voice(p *partOf, row int32, g *group, cell []byte) bool {
	return len(csv.Unquote(cell)) > 0 || g.known >= 0 && !p.unborn[row]
}

// first takes what each record's rows say, and lists the records whose rows do not say one thing, or
// were given this record.
func (s *setOf) first() map[int32]bool {
	flagged := map[int32]bool{}
	for i := range int32(s.x.cells.len()) {
		for k, p := range s.parts {
			n := p.group[i]
			if n < 0 {
				continue
			}
			if s.listed {
				for f := range s.fields {
					s.say(n, f, spot{i, int32(k)})
				}
				continue
			}
			g := &s.groups[n]
			strange := !g.moved && len(p.strange) > 0 && len(p.strange[i]) > 0
			if strange {
				flagged[n] = true
			}
			for f, c := range p.cols {
				if c < 0 || strange && f >= len(s.key) {
					continue
				}
				cell, said := s.x.cells.cell(i, c), s.cell(n, f)
				switch {
				case f >= len(s.key) && !s.voice(p, i, g, cell):
				case said == nil:
					s.say(n, f, spot{i, int32(k)})
				case f >= len(s.key) && !s.same(s.fields[f], said, cell):
					flagged[n] = true
				}
			}
		}
	}
	return flagged
}

// said is what some rows say of a field.
type said struct {
	cell    []byte
	part    int32
	rows    []int32
	count   int
	strange bool // only rows say so that were given the record
}

// heard is what all rows say of a record, by the set's fields, and what may be left of the records before.
type heard struct {
	said [][]said
	left [][]said
}

// hear goes through the rows of some records again.
func (s *setOf) hear(of map[int32]bool) map[int32]*heard {
	all := map[int32]*heard{}
	for i := range int32(s.x.cells.len()) {
		for k, p := range s.parts {
			n := p.group[i]
			if n < 0 || !of[n] {
				continue
			}
			h := all[n]
			if h == nil {
				h = &heard{make([][]said, len(s.fields)), make([][]said, len(s.fields))}
				all[n] = h
			}
			s.listen(h, spot{i, int32(k)}, n)
		}
	}
	return all
}

// listen takes in what one row says of a record.
func (s *setOf) listen(h *heard, at spot, n int32) {
	p, g := s.parts[at.part], &s.groups[n]
	was := p.strange[at.row]
	if g.moved {
		was = nil
	}
	for f, c := range p.cols {
		if c < 0 || f < len(s.key) {
			continue
		}
		cell := s.x.cells.cell(at.row, c)
		switch {
		case !s.voice(p, at.row, g, cell):
		case len(was) == 0:
			h.said[f] = s.add(h.said[f], f, cell, at, false)
		case s.isOwn(n, f, cell):
		case s.isLeft(was, f, cell):
			h.left[f] = s.add(h.left[f], f, cell, at, true)
		default:
			h.said[f] = s.add(h.said[f], f, cell, at, true)
		}
	}
}

func (s *setOf) add(all []said, f int, cell []byte, at spot, strange bool) []said {
	for i := range all {
		if x := &all[i]; s.same(s.fields[f], x.cell, cell) {
			if x.count++; len(x.rows) < changeset.MaxRows {
				x.rows = append(x.rows, at.row)
			}
			x.strange = x.strange && strange
			return all
		}
	}
	return append(all, said{cell, at.part, []int32{at.row}, 1, strange})
}

// isOwn reports whether a cell has what the record has, in the snapshot or on its other rows.
func (s *setOf) isOwn(g int32, f int, cell []byte) bool {
	if said := s.cell(g, f); said != nil && s.same(s.fields[f], said, cell) {
		return true
	}
	v, there := s.wasValue(s.groups[g].known, s.fields[f])
	return there && s.Schema.Equal(s.fields[f], v, s.x.cells.value(cell))
}

// isLeft reports whether a cell has what one of some records had, or has on its own rows.
func (s *setOf) isLeft(was []record.Key, f int, cell []byte) bool {
	for _, k := range was {
		enc := []byte(k.Encoding())
		if n, there := s.known.find(enc); there {
			if g, on := s.on(n); on {
				if said := s.cell(g, f); said != nil && s.same(s.fields[f], said, cell) {
					return true
				}
			}
			if v, ok := s.wasValue(n, s.fields[f]); ok && s.Schema.Equal(s.fields[f], v, s.x.cells.value(cell)) {
				return true
			}
		}
	}
	return false
}

// judge decides what is proposed of records whose rows do not say one thing.
func (s *setOf) judge(all map[int32]*heard) {
	order := make([]int32, 0, len(all))
	for n := range all {
		order = append(order, n)
	}
	slices.Sort(order)
	for _, n := range order {
		for f := len(s.key); f < len(s.fields); f++ {
			s.judgeField(n, f, all[n])
		}
	}
}

func (s *setOf) judgeField(n int32, f int, h *heard) {
	g, values, left := &s.groups[n], h.said[f], false
	if len(values) == 0 && g.known < 0 { // of a new record nothing else is known
		values, left = h.left[f], true
	}
	if len(values) == 0 {
		s.say(n, f, unsaid)
		return
	}
	slices.SortStableFunc(values, func(a, b said) int { return cmp.Compare(b.count, a.count) })
	taken := s.taken(g, f, values)
	s.say(n, f, spot{values[taken].rows[0], values[taken].part})
	was, known := s.wasValue(g.known, s.fields[f])
	one := len(values) == 1 && !left && (!values[0].strange || g.known < 0 || known && s.Schema.Equal(s.fields[f], was, s.x.cells.value(values[0].cell)))
	if one {
		return
	}
	d := Disagreement{Key: s.keyOf(g), Field: s.fields[f], Column: s.columnOf(f), Taken: s.x.cells.value(values[taken].cell).String(), Left: left}
	for i := range values {
		v := &values[i]
		spoken := Spoken{Value: s.x.cells.value(v.cell), Count: v.count}
		spoken.Was = known && s.Schema.Equal(d.Field, was, spoken.Value)
		for _, r := range v.rows {
			spoken.Rows = append(spoken.Rows, s.x.cells.row(r))
		}
		d.Values = append(d.Values, spoken)
	}
	s.out.Disagreed = append(s.out.Disagreed, d)
	s.out.disagreed[unit{s.Schema.Key(d.Key), d.Field}] = true
}

// columnOf is the heading of a field, of the first part that has it.
func (s *setOf) columnOf(f int) string {
	for _, p := range s.parts {
		if p.cols[f] >= 0 {
			return s.x.sheet.Heading[p.cols[f]]
		}
	}
	return s.fields[f]
}

// taken is which of several values is proposed: the most frequent that the snapshot does not have.
// Where it has none of them because a program changed how the whole column is written, the most
// frequent is what it has.
func (s *setOf) taken(g *group, f int, values []said) int {
	v, known := s.wasValue(g.known, s.fields[f])
	if !known {
		return 0
	}
	had := slices.IndexFunc(values, func(x said) bool { return s.Schema.Equal(s.fields[f], v, s.x.cells.value(x.cell)) })
	switch {
	case len(values) == 1 || had > 0:
		return 0
	case had == 0 || s.worn(f):
		return 1
	}
	return 0
}

// worn reports whether most records have another value of a field than the snapshot, though all their
// rows say one thing.
func (s *setOf) worn(f int) bool {
	const enough = 1000
	same, other := 0, 0
	for i := range s.groups {
		g := &s.groups[i]
		v, known := s.wasValue(g.known, s.fields[f])
		said := s.cell(int32(i), f)
		if !known || said == nil {
			continue
		}
		if s.Schema.Equal(s.fields[f], v, s.x.cells.value(said)) {
			same++
		} else {
			other++
		}
		if same+other == enough {
			break
		}
	}
	return other > same
}
