package judge

import (
	"fmt"
	"iter"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/slip"
)

// codeSet is a set of slip codes, by their numbers in Marks.kinds.
type codeSet uint64

// Marks say which changes slips concern. The zero Marks concern none.
type Marks struct {
	held    bool     // they are held, not only noted
	kinds   []string // the codes
	field   map[string]uint32
	cells   map[uint64]codeSet // by record and field
	records map[uint32]codeSet
	adds    map[uint32]codeSet // by row
	links   map[uint64]string  // by record, or by row and ofRow: what it is linked by
	within  map[uint64]string  // by record and field: what links fields of one record
	joined  map[string]string  // links that have a change in common are one
	was     map[uint64]uint32  // by record, or by row and ofRow: the record that stands there now
	key     func(record uint32) record.Key
	all     codeSet // kinds that concern every change
	Of      string  // the copy, where there are several: links of one are none of another
}

// NewMarks returns the marks of slips among changes of the fields: they are
// held, or else only noted. key gives the keys of the snapshot's records.
func NewMarks(fields []string, hold bool, key func(record uint32) record.Key) Marks {
	m := Marks{held: hold, key: key, field: make(map[string]uint32, len(fields))}
	for f, name := range fields {
		m.field[name] = uint32(f)
	}
	return m
}

// Take takes in what was found.
func (m *Marks) Take(in *slip.Input, found []slip.Found) {
	m.cells, m.records, m.adds = map[uint64]codeSet{}, map[uint32]codeSet{}, map[uint32]codeSet{}
	m.links, m.joined, m.within, m.was = map[uint64]string{}, map[string]string{}, map[uint64]string{}, map[uint64]uint32{}
	for n := range found {
		f := &found[n]
		bit := m.bit(f.Code.Name)
		for _, i := range f.Cells {
			x := &in.Cells[i]
			if f.Field < 0 && f.Code.Scope == changeset.OfRecord {
				m.records[x.Record] |= bit
			} else {
				m.cells[unit(x.Record, x.Field)] |= bit
			}
		}
		for _, i := range f.Records {
			m.records[i] |= bit
		}
		for _, j := range f.Adds {
			m.adds[j] |= bit
		}
		for _, x := range f.Moved {
			if at := uint64(x.Record); x.Added {
				m.was[uint64(x.Row)|ofRow] = x.Was
			} else {
				m.was[at] = x.Was
			}
		}
		if f.Together {
			name := fmt.Sprintf("%s %d", f.Code.Name, n+1)
			if m.Of != "" {
				name += " in " + m.Of
			}
			m.link(in, f, name)
		}
	}
}

// All marks every change with a code.
func (m *Marks) All(code changeset.Code) { m.all |= m.bit(code.Name) }

func unit(record, field uint32) uint64 { return uint64(record)<<32 | uint64(field) }

const ofRow = 1 << 32

// bit is the bit of a code.
func (m *Marks) bit(code string) codeSet {
	n := slices.Index(m.kinds, code)
	if n < 0 {
		n = len(m.kinds)
		m.kinds = append(m.kinds, code)
	}
	if n == 64 {
		panic("judge: more kinds of slips than a codeSet holds")
	}
	return 1 << n
}

// link links what a slip concerns: a slip of fields those of each record, one
// of records the records.
func (m *Marks) link(in *slip.Input, f *slip.Found, name string) {
	if f.Field >= 0 {
		for _, i := range f.Cells {
			m.within[unit(in.Cells[i].Record, in.Cells[i].Field)] = name
		}
		return
	}
	add := func(at uint64) {
		if other, there := m.links[at]; !there {
			m.links[at] = name
		} else if other = m.linkName(other); other != name {
			m.joined[name] = other
			name = other
		}
	}
	for _, i := range f.Cells {
		add(uint64(in.Cells[i].Record))
	}
	for _, i := range f.Records {
		add(uint64(i))
	}
	for _, j := range f.Adds {
		add(uint64(j) | ofRow)
	}
}

// linkName is the name that a link has after others were joined with it.
func (m *Marks) linkName(name string) string {
	for {
		other, joined := m.joined[name]
		if !joined {
			return name
		}
		name = other
	}
}

// Links gives the links of whole changes by their places, those of adds by their rows.
func (m *Marks) Links() iter.Seq2[Place, string] {
	return func(yield func(Place, string) bool) {
		for at, name := range m.links {
			place := Place{Record: uint32(at), Row: None}
			if at&ofRow != 0 {
				place = Place{Record: None, Row: uint32(at)}
			}
			if !yield(place, m.linkName(name)) {
				return
			}
		}
	}
}

// Was gives the record that stands under the key of an added row now, where it got another key.
func (m *Marks) Was(row uint32) (record uint32, moved bool) {
	record, moved = m.was[uint64(row)|ofRow]
	return record, moved
}

// Mark puts what slips say on a change.
func (m *Marks) Mark(ch *changeset.Change, at Place) {
	if len(m.kinds) == 0 {
		return
	}
	whole := m.all
	link := uint64(at.Record)
	if ch.Act == changeset.Add {
		whole |= m.adds[at.Row]
		link = uint64(at.Row) | ofRow
	} else {
		whole |= m.records[at.Record]
	}
	m.put(whole, &ch.Held, &ch.Noted)
	if name, there := m.links[link]; m.held && there && ch.Linked == "" {
		ch.Linked = m.linkName(name)
		if was, moved := m.was[link]; moved && ch.Act != changeset.Delete {
			ch.Was = m.key(was)
		}
	}
	if ch.Act != changeset.Amend || len(m.cells) == 0 {
		return
	}
	for i := range ch.Fields {
		f := &ch.Fields[i]
		u := unit(at.Record, m.field[f.Field])
		m.put(m.cells[u], &f.Held, &f.Noted)
		if m.held {
			f.Linked = m.within[u]
		}
	}
}

// put adds the codes of a set to those that hold a change, or are noted
// of it.
func (m *Marks) put(set codeSet, held, noted *[]string) {
	to := held
	if !m.held {
		to = noted
	}
	for n, code := range m.kinds {
		if set&(1<<n) != 0 {
			*to = append(slices.Clip(*to), code)
		}
	}
}
