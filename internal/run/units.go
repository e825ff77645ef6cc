package run

import (
	"iter"
	"maps"
	"slices"

	"paletwin/core/changeset"
)

// unit names what can be done and undone on its own: a field of an amend,
// or a whole add or delete.
type unit struct {
	id    changeset.ID
	field string
}

// units are units that were done and stand, each with the step that did it last. Of a million records most have one step, all of whose
// units are there: so they are kept by their steps. The zero units are none, and take none.
type units struct {
	whole map[changeset.ID]*Step // of records of which all units are there that one step has, and no others
	parts map[changeset.ID]share // of others
}

// share is the part of a step in the units of its record.
type share struct {
	step   *Step
	fields changeset.Packed // of an amend; what else stands there of an edit says nothing
	more   *share           // of other steps
}

// makeUnits returns no units, with room for those of some steps.
func makeUnits(steps int) units {
	return units{make(map[changeset.ID]*Step, steps), map[changeset.ID]share{}}
}

// at returns the units of a record, and whether there are any.
func (u units) at(id changeset.ID) (share, bool) {
	if s := u.whole[id]; s != nil {
		return share{step: s, fields: s.Fields}, true
	}
	s, there := u.parts[id]
	return s, there
}

// put makes some the units of a record. What was handed over may be found out to have been done in part, later.
func (u units) put(id changeset.ID, s share) {
	if s.more == nil && !s.step.handed && s.fields == s.step.Fields {
		u.whole[id] = s.step
		delete(u.parts, id)
		return
	}
	u.parts[id] = s
	delete(u.whole, id)
}

func (u units) delete(id changeset.ID) {
	delete(u.whole, id)
	delete(u.parts, id)
}

// records gives the units record by record.
func (u units) records() iter.Seq2[changeset.ID, share] {
	return func(yield func(changeset.ID, share) bool) {
		for id, s := range u.whole {
			if !yield(id, share{step: s, fields: s.Fields}) {
				return
			}
		}
		for id, s := range u.parts {
			if !yield(id, s) {
				return
			}
		}
	}
}

// len is how many records there are.
func (u units) len() int { return len(u.whole) + len(u.parts) }

// whole reports whether the unit is all of an add or a delete.
func (s *share) whole() bool { return s.step.Act != changeset.Amend }

func (s *share) has(field string) bool {
	if s.whole() {
		return field == ""
	}
	_, has := s.fields.Of(field)
	return has
}

// get returns the step of a unit, and whether it is there.
func (u units) get(x unit) (*Step, bool) {
	s, there := u.at(x.id)
	if !there {
		return nil, false
	}
	for p := &s; p != nil; p = p.more {
		if p.has(x.field) {
			return p.step, true
		}
	}
	return nil, false
}

func (u units) has(x unit) bool {
	_, has := u.get(x)
	return has
}

func (u units) none() bool { return u.len() == 0 }

// take takes in all units of a step.
func (u units) take(s *Step) { u.takeFields(s, s.Fields) }

// takeFields takes in units of a step: of an amend some fields. What others had of them they have no more.
func (u units) takeFields(s *Step, fields changeset.Packed) {
	mine := share{step: s}
	if mine.whole() {
		u.put(s.ID, mine)
		return
	}
	if fields.None() {
		return
	}
	mine.fields = fields
	if was, there := u.at(s.ID); there {
		mine.more = was.without(func(f changeset.Edit) bool { _, taken := fields.Of(f.Field); return taken })
	}
	u.put(s.ID, mine)
}

// set takes in one unit.
func (u units) set(x unit, d *Step) {
	u.drop(x)
	fields := changeset.Pack([]changeset.Edit{{Field: x.field}})
	if was, there := u.at(x.id); there && d.Act == changeset.Amend {
		for p := &was; p != nil; p = p.more {
			if p.step == d {
				fields = changeset.Pack(append(p.fields.Edits(), changeset.Edit{Field: x.field}))
			}
		}
	}
	u.takeFields(d, fields)
}

// drop takes a unit out.
func (u units) drop(x unit) {
	was, there := u.at(x.id)
	switch {
	case !there:
	case was.whole():
		if x.field == "" {
			u.delete(x.id)
		}
	default:
		if left := was.without(func(f changeset.Edit) bool { return f.Field == x.field }); left != nil {
			u.put(x.id, *left)
		} else {
			u.delete(x.id)
		}
	}
}

// without is what is left of the shares of an amend without some fields, nil if that is nothing.
func (s share) without(is func(f changeset.Edit) bool) *share {
	if s.more != nil {
		s.more = s.more.without(is)
	}
	left := s.fields.Where(func(f changeset.Edit) bool { return !is(f) })
	if left.None() {
		return s.more
	}
	if left.Len() < s.fields.Len() {
		s.fields = left
	}
	return &s
}

// shares gives the steps, each with its fields; of a whole one these are none.
func (u units) shares() iter.Seq2[*Step, changeset.Packed] {
	return func(yield func(*Step, changeset.Packed) bool) {
		for _, s := range u.records() {
			for p := &s; p != nil; p = p.more {
				if !yield(p.step, p.fields) {
					return
				}
			}
		}
	}
}

// all gives the units one by one, those of a record together.
func (u units) all() iter.Seq2[unit, *Step] {
	return func(yield func(unit, *Step) bool) {
		for d, fields := range u.shares() {
			if d.Act != changeset.Amend {
				if !yield(unit{d.ID, ""}, d) {
					return
				}
				continue
			}
			for f := range fields.All() {
				if !yield(unit{d.ID, f.Field}, d) {
					return
				}
			}
		}
	}
}

// clone returns a copy, to be changed.
func (u units) clone() units { return units{maps.Clone(u.whole), maps.Clone(u.parts)} }

// where returns the units of which something is true.
func (u units) where(is func(x unit, d *Step) bool) units {
	some := makeUnits(0)
	for d, fields := range u.shares() {
		if d.Act != changeset.Amend {
			if is(unit{d.ID, ""}, d) {
				some.take(d)
			}
			continue
		}
		some.takeFields(d, fields.Where(func(f changeset.Edit) bool { return is(unit{d.ID, f.Field}, d) }))
	}
	return some
}

// standing returns the fields of an amend that are among the units.
func (u units) standing(id changeset.ID, fields changeset.Packed) changeset.Packed {
	if s, there := u.at(id); there && s.more == nil && s.fields == fields {
		return fields
	}
	return fields.Where(func(f changeset.Edit) bool { return u.has(unit{id, f.Field}) })
}

// units returns the units of a step.
func (s *Step) units() []unit { return s.unitsOf(s.Fields) }

// handedUnits returns the units of a step that stand in load files.
func (s *Step) handedUnits() []unit {
	if !s.handed {
		return nil
	}
	return s.unitsOf(s.all())
}

func (s *Step) unitsOf(fields changeset.Packed) []unit {
	if s.Act != changeset.Amend {
		return []unit{{s.ID, ""}}
	}
	u := make([]unit, 0, 8)
	for f := range fields.All() {
		u = append(u, unit{s.ID, f.Field})
	}
	return slices.Clip(u)
}
