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

// standingUnit is a unit that was done and stands: the run that did it last,
// and the step it belongs to.
type standingUnit struct {
	run  int
	step *Step
}

// units are units with what is known of each. Of a million records most have one step, all of whose units are there: so they are kept by
// their steps. The zero units are none, and take none.
type units struct{ of map[changeset.ID]share }

// share is the part of a step in the units of its record.
type share struct {
	standingUnit
	fields changeset.Packed // of an amend; what else stands there of an edit says nothing
	more   *share           // of other steps
}

// makeUnits returns no units, with room for those of some steps.
func makeUnits(steps int) units { return units{make(map[changeset.ID]share, steps)} }

// whole reports whether the unit is all of an add or a delete.
func (s *share) whole() bool { return s.step.Act != changeset.Amend }

func (s *share) has(field string) bool {
	if s.whole() {
		return field == ""
	}
	_, has := s.fields.Of(field)
	return has
}

// get returns what is known of a unit, and whether it is there.
func (u units) get(x unit) (standingUnit, bool) {
	s, there := u.of[x.id]
	if !there {
		return standingUnit{}, false
	}
	for p := &s; p != nil; p = p.more {
		if p.has(x.field) {
			return p.standingUnit, true
		}
	}
	return standingUnit{}, false
}

func (u units) has(x unit) bool {
	_, has := u.get(x)
	return has
}

func (u units) none() bool { return len(u.of) == 0 }

// take takes in all units of a step.
func (u units) take(run int, s *Step) { u.takeFields(run, s, s.Fields) }

// takeFields takes in units of a step: of an amend some fields. What others had of them they have no more.
func (u units) takeFields(run int, s *Step, fields changeset.Packed) {
	mine := share{standingUnit: standingUnit{run, s}}
	if mine.whole() {
		u.of[s.ID] = mine
		return
	}
	if fields.None() {
		return
	}
	mine.fields = fields
	if was, there := u.of[s.ID]; there {
		mine.more = was.without(func(f changeset.Edit) bool { _, taken := fields.Of(f.Field); return taken })
	}
	u.of[s.ID] = mine
}

// set takes in one unit.
func (u units) set(x unit, d standingUnit) {
	u.drop(x)
	fields := changeset.Pack([]changeset.Edit{{Field: x.field}})
	if was, there := u.of[x.id]; there && d.step.Act == changeset.Amend {
		for p := &was; p != nil; p = p.more {
			if p.standingUnit == d {
				fields = changeset.Pack(append(p.fields.Edits(), changeset.Edit{Field: x.field}))
			}
		}
	}
	u.takeFields(d.run, d.step, fields)
}

// drop takes a unit out.
func (u units) drop(x unit) {
	was, there := u.of[x.id]
	switch {
	case !there:
	case was.whole():
		if x.field == "" {
			delete(u.of, x.id)
		}
	default:
		if left := was.without(func(f changeset.Edit) bool { return f.Field == x.field }); left != nil {
			u.of[x.id] = *left
		} else {
			delete(u.of, x.id)
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
func (u units) shares() iter.Seq2[standingUnit, changeset.Packed] {
	return func(yield func(standingUnit, changeset.Packed) bool) {
		for _, s := range u.of {
			for p := &s; p != nil; p = p.more {
				if !yield(p.standingUnit, p.fields) {
					return
				}
			}
		}
	}
}

// all gives the units one by one, those of a record together.
func (u units) all() iter.Seq2[unit, standingUnit] {
	return func(yield func(unit, standingUnit) bool) {
		for d, fields := range u.shares() {
			if d.step.Act != changeset.Amend {
				if !yield(unit{d.step.ID, ""}, d) {
					return
				}
				continue
			}
			for f := range fields.All() {
				if !yield(unit{d.step.ID, f.Field}, d) {
					return
				}
			}
		}
	}
}

// clone returns a copy, to be changed.
func (u units) clone() units { return units{maps.Clone(u.of)} }

// where returns the units of which something is true.
func (u units) where(is func(x unit, d standingUnit) bool) units {
	some := makeUnits(0)
	for d, fields := range u.shares() {
		id := d.step.ID
		if d.step.Act != changeset.Amend {
			if is(unit{id, ""}, d) {
				some.of[id] = share{standingUnit: d}
			}
			continue
		}
		left := fields.Where(func(f changeset.Edit) bool { return is(unit{id, f.Field}, d) })
		some.takeFields(d.run, d.step, left)
	}
	return some
}

// standing returns the fields of an amend that are among the units.
func (u units) standing(id changeset.ID, fields changeset.Packed) changeset.Packed {
	if s := u.of[id]; s.more == nil && s.fields == fields {
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
	return s.unitsOf(s.all)
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
