package handoff

import (
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/target"
)

// load is a load file to be: records, and the fields that are sent of each.
type load struct {
	acts   []changeset.Act
	fields []string // beside the key's
	steps  []*target.Step
	all    bool // the fields are those of all the records, and not what each changes
}

// lay sorts steps into load files, in the order in which they are to be
// loaded: what comes before what changes, and that before what goes, so that
// no record names one that is not there; but what gives up a unique value that
// another step takes comes first.
func (s *System) lay(steps []*target.Step) []load {
	var adds, deletes []*target.Step
	amends := make([]*target.Step, 0, len(steps))
	for _, st := range steps {
		switch st.Act {
		case changeset.Add:
			adds = append(adds, st)
		case changeset.Amend:
			amends = append(amends, st)
		default:
			deletes = append(deletes, st)
		}
	}
	adds, deletes = s.parentsFirst(adds), s.parentsFirst(deletes)
	slices.Reverse(deletes)
	var come, change, leave []load
	if len(adds) > 0 {
		come = []load{{[]changeset.Act{changeset.Add}, s.settable(adds), adds, true}}
	}
	if s.Form.Rows() {
		change = s.shape(amends)
	} else if len(amends) > 0 {
		change = []load{{acts: []changeset.Act{changeset.Amend}, steps: amends}}
	}
	if len(deletes) > 0 {
		l := load{acts: []changeset.Act{changeset.Delete}, steps: deletes}
		if s.Full {
			l.fields = s.fieldsOf(deletes, func(string) bool { return true })
		}
		leave = []load{l}
	}
	all := slices.Concat(come, change, leave)
	switch freed := s.reused(steps); {
	case freed[changeset.Delete] && freed[changeset.Amend]:
		all = slices.Concat(leave, change, come)
	case freed[changeset.Delete]:
		all = slices.Concat(leave, come, change)
	case freed[changeset.Amend]:
		all = slices.Concat(change, come, leave)
	}
	if !s.Form.Rows() {
		return s.together(all)
	}
	return all
}

// reused says which acts give up a unique value that another step takes, so
// that they have to come before it.
func (s *System) reused(steps []*target.Step) map[changeset.Act]bool {
	at := s.Layout.Schema().Unique
	freed := map[schema.UniqueValue]changeset.Act{}
	for _, st := range steps {
		for _, f := range st.Fields {
			if v, ok := at(f.Field, f.From); ok {
				freed[v] = changeset.Amend
			}
		}
		for _, f := range st.Record {
			if v, ok := at(f.Name, f.Value); ok && st.Act == changeset.Delete {
				freed[v] = changeset.Delete
			}
		}
	}
	acts := map[changeset.Act]bool{}
	for _, st := range steps {
		for _, f := range st.Fields {
			if v, ok := at(f.Field, f.To); ok && freed[v] == changeset.Delete {
				acts[changeset.Delete] = true
			}
		}
		for _, f := range st.Record {
			if v, ok := at(f.Name, f.Value); ok && st.Act == changeset.Add && freed[v] != 0 {
				acts[freed[v]] = true
			}
		}
	}
	return acts
}

// together puts all steps into one file, for forms that say what each is.
func (s *System) together(parts []load) []load {
	var l load
	for _, p := range parts {
		l.acts = append(l.acts, p.acts...)
		l.steps = append(l.steps, p.steps...)
	}
	if len(l.steps) == 0 {
		return nil
	}
	return []load{l}
}

// shape sorts amends into files.
func (s *System) shape(amends []*target.Step) []load {
	if len(amends) == 0 {
		return nil
	}
	amend := []changeset.Act{changeset.Amend}
	switch s.Shape {
	case Sparse:
		return []load{{amend, s.changing(amends), amends, true}}
	case Full:
		return []load{{amend, s.writable(), amends, true}}
	case PerField:
		var all []load
		for _, f := range s.changing(amends) {
			l := load{acts: amend, fields: []string{f}}
			for _, st := range amends {
				if i := slices.IndexFunc(st.Fields, func(c changeset.Edit) bool { return c.Field == f }); i >= 0 {
					one := *st
					one.Fields = st.Fields[i : i+1]
					l.steps = append(l.steps, &one)
				}
			}
			all = append(all, l)
		}
		return all
	}
	return grouped(amends)
}

// grouped makes a file for each set of fields that change together, in the
// order in which they come.
func grouped(amends []*target.Step) []load {
	at := map[string]int{}
	var all []load
	var name []byte
	for _, st := range amends {
		name = name[:0]
		for _, f := range st.Fields {
			name = append(append(name, f.Field...), 0)
		}
		i, there := at[string(name)]
		if !there {
			i = len(all)
			at[string(name)] = i
			l := load{acts: []changeset.Act{changeset.Amend}}
			for _, f := range st.Fields {
				l.fields = append(l.fields, f.Field)
			}
			all = append(all, l)
		}
		all[i].steps = append(all[i].steps, st)
	}
	return all
}

// changing lists the fields that any of the amends changes.
func (s *System) changing(amends []*target.Step) []string {
	seen := map[string]bool{}
	var all []string
	for _, st := range amends {
		for _, f := range st.Fields {
			if !seen[f.Field] {
				seen[f.Field] = true
				all = append(all, f.Field)
			}
		}
	}
	return s.sorted(all)
}

// sorted puts fields into the export's order; what it lacks comes last.
func (s *System) sorted(fields []string) []string {
	place := func(f string) int {
		if i, ok := s.order[f]; ok {
			return i
		}
		return len(s.order)
	}
	slices.SortStableFunc(fields, func(a, b string) int { return place(a) - place(b) })
	return fields
}

// writable lists the fields that an amend may write.
func (s *System) writable() []string {
	var all []string
	for _, f := range s.Export.Image.Heading {
		if lf := s.Layout.Field(f); f != "" && !slices.Contains(s.Key, f) && (lf == nil || lf.Access == schema.Free) {
			all = append(all, f)
		}
	}
	return all
}

// settable lists the fields that may be set when the records are made.
func (s *System) settable(adds []*target.Step) []string {
	return s.fieldsOf(adds, func(f string) bool {
		lf := s.Layout.Field(f)
		return lf == nil || lf.Access == schema.Free || lf.Access == schema.OnCreation
	})
}

// fieldsOf lists the fields of the steps' records that are wanted, without
// the key's.
func (s *System) fieldsOf(steps []*target.Step, want func(string) bool) []string {
	seen := map[string]bool{}
	for _, k := range s.Key {
		seen[k] = true
	}
	var all []string
	for _, st := range steps {
		for _, f := range st.Record {
			if !seen[f.Name] && want(f.Name) {
				all = append(all, f.Name)
			}
			seen[f.Name] = true
		}
	}
	return s.sorted(all)
}

// parentsFirst orders records so that one which another names in a reference
// to its own record set comes before it. Circles stay in the order they have.
func (s *System) parentsFirst(steps []*target.Step) []*target.Step {
	refs := s.selfReferences()
	if len(refs) == 0 || len(steps) < 2 {
		return steps
	}
	at := map[string]int{}
	for i, st := range steps {
		at[st.Key.Parts()[0]] = i
	}
	out := make([]*target.Step, 0, len(steps))
	seen := make([]bool, len(steps))
	var visit func(i int)
	visit = func(i int) {
		if seen[i] {
			return
		}
		seen[i] = true
		for _, f := range refs {
			if v, _ := steps[i].Record.Get(f); !v.Blank() {
				if p, ok := at[v.String()]; ok {
					visit(p)
				}
			}
		}
		out = append(out, steps[i])
	}
	for i := range steps {
		visit(i)
	}
	return out
}

// selfReferences lists the fields that refer to the record set itself: those
// whose list has its name.
func (s *System) selfReferences() []string {
	if s.Layout == nil || len(s.Key) != 1 {
		return nil
	}
	var all []string
	for i := range s.Layout.Fields {
		f := &s.Layout.Fields[i]
		if f.Kind != schema.Reference {
			continue
		}
		name := f.List.Name
		if i := strings.LastIndexByte(name, '.'); i > 0 {
			name = name[:i]
		}
		if strings.EqualFold(name[strings.LastIndexByte(name, '/')+1:], s.Set) {
			all = append(all, f.Name)
		}
	}
	return all
}

// sent returns the value that a file sends of a field, and whether it sends
// any: an amend's new value, or what the record has.
func (s *System) sent(st *target.Step, field string) (v record.Value, changed, there bool) {
	if st.Act == changeset.Amend {
		for i := range st.Fields {
			if st.Fields[i].Field == field {
				return st.Fields[i].To, true, true
			}
		}
		v, there = s.whole[st.Key].Get(field)
		return v, false, there
	}
	v, there = st.Record.Get(field)
	return v, false, there
}
