package joined

import (
	"bytes"
	"cmp"
	"slices"

	"paletwin/core/record"
	"paletwin/core/table/csv"
)

// changedReferences finds the rows in which a part names another record than it did in the snapshot:
// what their cells say may be what was left of the record before.
func (x *splitter) changedReferences() error {
	for _, ref := range x.refs {
		from, to := x.parts[ref.From], x.parts[ref.To]
		cols, err := csv.KeyColumns(from.set.Snapshot, ref.Fields)
		if err != nil {
			return err
		}
		c := &referenceOf{x: x, from: from, to: to, cols: cols, fields: ref.Fields}
		for i := range int32(x.cells.len()) {
			c.row(i)
		}
	}
	return nil
}

// referenceOf is a reference of one part to another.
type referenceOf struct {
	x        *splitter
	from, to *partOf
	cols     []int                   // of from's snapshot
	fields   []string                // of from
	missing  map[string][]record.Key // what records that the sheet lacks named, by the rest of their key
}

func (c *referenceOf) row(i int32) {
	g, mine := c.to.group[i], c.from.group[i]
	if g < 0 || mine < 0 || c.to.set.groups[g].bad {
		return
	}
	own := &c.from.set.groups[mine]
	if own.known < 0 {
		c.to.unborn[i] = true
		if was := c.before(i); len(was) > 0 {
			c.to.strange[i] = append(c.to.strange[i], was...)
		}
		return
	}
	known := c.from.set.known
	equal := true
	for k, col := range c.cols {
		cell, _ := known.cell(own.known, col)
		if !bytes.Equal(csv.Unquote(cell), csv.Unquote(c.x.cells.cell(i, c.to.key[k]))) {
			equal = false
			break
		}
	}
	if equal {
		return
	}
	was := record.KeyOf(csv.AppendKey(nil, known.raw(own.known), c.cols, known.img.Comma))
	of, now := c.to.set.Schema, c.x.cells.key(i, c.to.key)
	if k := c.to.set.groups[g].known; k >= 0 {
		now = c.to.set.wasKey(k) // whatever a program made of it
	}
	if of.Key(was) != of.Key(now) {
		c.to.strange[i] = append(c.to.strange[i], was)
	}
}

// before lists what the record may have named whose key was changed along with what it names:
// records that the sheet lacks, and whose key is the same but for that.
func (c *referenceOf) before(row int32) []record.Key {
	rest := c.restOf()
	if rest == nil {
		return nil
	}
	if c.missing == nil {
		c.missing = map[string][]record.Key{}
		s := c.from.set
		for n := range int32(len(s.known.start)) {
			if _, is := s.on(n); is {
				continue
			}
			parts := s.wasKey(n).Parts()
			var other []string
			for _, k := range rest {
				other = append(other, parts[k])
			}
			at := record.NewKey(other...).Encoding()
			c.missing[at] = append(c.missing[at], record.KeyOf(csv.AppendKey(nil, s.known.raw(n), c.cols, s.Snapshot.Comma)))
		}
	}
	var other []string
	for _, k := range rest {
		other = append(other, string(csv.Unquote(c.x.cells.cell(row, c.from.key[k]))))
	}
	return c.missing[record.NewKey(other...).Encoding()]
}

// restOf are the fields of the key, by their numbers, that do not name the other record; nil where
// all do or none does.
func (c *referenceOf) restOf() (rest []int) {
	for i, k := range c.from.set.key {
		if !slices.Contains(c.fields, k) {
			rest = append(rest, i)
		}
	}
	if len(rest) == len(c.from.set.key) {
		return nil
	}
	return rest
}

// move finds the records all of whose rows were given one key that no record has.
func (s *setOf) move() {
	type way struct {
		to    int32
		torn  bool
		count int
	}
	ways := map[record.Key]*way{}
	rows := map[int32]int{} // of new records
	for _, p := range s.parts {
		for i, g := range p.group {
			if g < 0 || s.groups[g].known >= 0 || s.groups[g].bad {
				continue
			}
			rows[g]++
			was := p.strange[int32(i)]
			if len(was) != 1 {
				continue
			}
			k := s.Schema.Key(was[0])
			w := ways[k]
			if w == nil {
				w = &way{to: g}
				ways[k] = w
			}
			w.torn = w.torn || w.to != g
			w.count++
		}
	}
	for k, w := range ways {
		enc := []byte(k.Encoding())
		n, known := s.known.find(enc)
		if !known {
			continue
		}
		if _, there := s.on(n); there || w.torn || w.count != rows[w.to] || s.listed {
			continue
		}
		s.groups[w.to].known, s.groups[w.to].moved = n, true
		s.took(n, &s.groups[w.to], false)
	}
}

// took notes that one of the snapshot's records got the key of one of the sheet's.
func (s *setOf) took(n int32, g *group, along bool) {
	from, to := s.wasKey(n), s.keyOf(g)
	m := Move{from, to, along}
	s.out.Moved = append(s.out.Moved, m)
	s.out.moved[s.Schema.Key(from)], s.out.moved[s.Schema.Key(to)] = m, m
}

// free reports whether neither of the two is known to be another.
func (s *setOf) free(n int32, g *group) bool {
	_, was := s.out.moved[s.Schema.Key(s.wasKey(n))]
	_, is := s.out.moved[s.Schema.Key(s.keyOf(g))]
	return !was && !is
}

// followAll finds the rows of the listed set that are records of the snapshot under other keys.
func (x *splitter) followAll() {
	for _, s := range x.sets {
		if s.listed && !s.Stay {
			s.follow()
			if len(s.fields) < len(s.Snapshot.Heading) {
				s.edited()
			}
		}
		slices.SortFunc(s.out.Moved, func(a, b Move) int { return cmp.Compare(a.From.Encoding(), b.From.Encoding()) })
	}
}

// follow finds the rows whose keys are other ones only since what these name got another key.
func (s *setOf) follow() {
	type back struct {
		of  *partOf
		at  []int // in the key
		was map[record.Key][]string
	}
	var all []back
	for _, ref := range s.x.refs {
		of := s.x.parts[ref.To]
		if s.x.parts[ref.From].set != s || len(of.set.out.Moved) == 0 {
			continue
		}
		b := back{of: of, was: map[record.Key][]string{}}
		for _, f := range ref.Fields {
			b.at = append(b.at, slices.Index(s.key, f))
		}
		for _, m := range of.set.out.Moved {
			b.was[of.set.Schema.Key(m.To)] = m.From.Parts()
		}
		all = append(all, b)
	}
	for i := range s.groups {
		g := &s.groups[i]
		if len(all) == 0 || g.known >= 0 || g.bad {
			continue
		}
		parts := slices.Clone(s.keyOf(g).Parts())
		for _, b := range all {
			for k, v := range b.was[b.of.set.Schema.Key(s.x.cells.key(g.row, b.of.key))] {
				if b.at[k] >= 0 {
					parts[b.at[k]] = v
				}
			}
		}
		n, known := s.known.find([]byte(s.Schema.Key(record.NewKey(parts...)).Encoding()))
		if !known {
			continue
		}
		if _, on := s.on(n); !on && s.free(n, g) {
			s.took(n, g, true)
		}
	}
}

// edited finds the rows whose key was edited: where one record that the sheet lacks is what a new row is, but for one
// field of the key, and no other pair of them is alike. It matters where the sheet has not all of the records' fields,
// which would be lost if the row were taken for a new record.
func (s *setOf) edited() {
	var fresh, gone []int32
	for i := range s.groups {
		if g := &s.groups[i]; g.known < 0 && !g.bad {
			fresh = append(fresh, int32(i))
		}
	}
	if len(fresh) == 0 {
		return
	}
	for n := range int32(len(s.known.start)) {
		if _, on := s.on(n); !on {
			gone = append(gone, n)
		}
	}
	for part := range s.key {
		was, is := map[string][]int32{}, map[string][]int32{}
		for _, n := range gone {
			k := s.butFor(part, func(f int) record.Value { v, _ := s.wasValue(n, s.fields[f]); return v })
			was[k] = append(was[k], n)
		}
		for _, g := range fresh {
			at := &s.groups[g]
			k := s.butFor(part, func(f int) record.Value { return s.x.cells.value(s.x.cells.cell(at.row, s.parts[at.part].cols[f])) })
			is[k] = append(is[k], g)
		}
		for k, n := range was {
			if g := is[k]; k != "" && len(n) == 1 && len(g) == 1 && s.free(n[0], &s.groups[g[0]]) {
				s.took(n[0], &s.groups[g[0]], false)
			}
		}
	}
}

// butFor is what a record has but for one field of its key; "" where that is too little to know it by.
func (s *setOf) butFor(part int, value func(f int) record.Value) string {
	var enc []byte
	filled := 0
	for f := range s.fields {
		v := value(f).String()
		if f == part {
			v = ""
		}
		if v != "" {
			filled++
		}
		enc = record.AppendPart(enc, v)
	}
	if filled < 2 {
		return ""
	}
	return string(enc)
}
