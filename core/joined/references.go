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
		g := &s.groups[w.to]
		to := s.keyOf(g)
		g.known, g.moved = n, true
		from := s.wasKey(n)
		s.out.Moved = append(s.out.Moved, Move{from, to})
		s.out.moved[s.Schema.Key(from)], s.out.moved[s.Schema.Key(to)] = true, true
	}
	slices.SortFunc(s.out.Moved, func(a, b Move) int { return cmp.Compare(a.From.Encoding(), b.From.Encoding()) })
}
