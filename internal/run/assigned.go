package run

import (
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/desk"
)

// This file is about new records that get their keys from the target, and about
// values that name them.

// given makes the key that the target gave a new record the step's.
func (s *Step) given(k record.Key) {
	if len(k.Parts()) > 0 && k != s.Key {
		went := s.Key.String()
		s.keep().WentBy, s.Key = went, k
		s.Reason = "it was " + went + " in the copy"
	}
}

// newRecords lists what the new records of a dossier go by, where the system gives
// these their keys; nil where it does not. A value that is none of these is a text
// like others, whatever it begins with.
func newRecords(t *desk.Dossier, s *schema.Schema) (map[string]bool, error) {
	if !s.Assigned() {
		return nil, nil
	}
	c, err := t.Changes()
	if err != nil {
		return nil, err
	}
	defer c.Close()
	names := map[string]bool{}
	for line := range c.Lines() {
		if line.Act() != changeset.Add {
			continue
		}
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return nil, err
		}
		if schema.IsNew(ch.Key) {
			names[ch.Key.String()] = true
		}
	}
	return names, nil
}

// names lists those of some new records that the step's values name.
func (s *Step) names(of map[string]bool) []string {
	var all []string
	note := func(v record.Value) {
		if t := v.String(); of[t] {
			all = append(all, t)
		}
	}
	for f := range s.Fields.All() {
		note(f.To)
	}
	if s.Act == changeset.Add {
		for f := range s.Record.All() {
			note(f.Value)
		}
	}
	return all
}

// resolve writes the keys that new records have got in the place of what they went
// by.
func (s *Step) resolve(keys map[string]string) {
	value := func(v record.Value) record.Value {
		k, known := schema.Named(v, keys)
		if known {
			rare := s.keep()
			if rare.Named == nil {
				rare.Named = map[string]string{}
			}
			rare.Named[v.String()] = k.String()
		}
		return k
	}
	edits := s.Fields.Edits()
	for i := range edits {
		edits[i].To = value(edits[i].To)
	}
	s.Fields = changeset.Pack(edits)
	if s.Act == changeset.Add {
		r := s.Record.Record()
		for i := range r {
			r[i].Value = value(r[i].Value)
		}
		s.Record = r.Pack()
	}
}

// knownKeys are the keys that new records of a dossier got at a target, by what they
// went by.
func knownKeys(t *desk.Dossier, at At) (map[string]string, error) {
	s, err := t.Schema()
	if err != nil || !s.Assigned() {
		return nil, err
	}
	keys := map[string]string{}
	for r, err := range allRuns(t) {
		if err != nil {
			return nil, err
		}
		for _, x := range r.Steps {
			if went := x.wentBy(); went != "" && r.Head.At() == at {
				keys[went] = x.Key.String()
			}
		}
	}
	return keys, nil
}

// Added are the new records of a dossier that its runs added, at targets that are not for
// trying, and that got their keys there: true by the ids of their changes, or false where the
// answer was lost; and these keys by what the records went by.
func Added(t *desk.Dossier) (ids map[changeset.ID]bool, keys map[string]string, err error) {
	ids, keys = map[changeset.ID]bool{}, map[string]string{}
	for r, err := range allRuns(t) {
		if err != nil {
			return nil, nil, err
		}
		for _, s := range r.Steps {
			switch went := s.wentBy(); {
			case t.Desk().Settings.Trial(r.Head.Target):
			case went != "" && s.Outcome == Done:
				ids[s.ID], keys[went] = true, s.Key.String()
			case s.Act == changeset.Add && s.Outcome == Unknown && schema.IsNew(s.Key):
				if _, known := ids[s.ID]; !known {
					ids[s.ID] = false
				}
			}
		}
	}
	return ids, keys, nil
}

// inTurn parts steps into those that can be written at once and those that name
// records of the parts before, by the keys that these will have; of are the new
// records. What names a record that gets none comes back as never.
func inTurn(steps []*Step, known map[string]string, of map[string]bool) (parts [][]*Step, never []*Step) {
	there := map[string]bool{}
	for name := range known {
		there[name] = true
	}
	for len(steps) > 0 {
		waits := map[string]bool{} // links of which a step waits
		ready := func(s *Step) bool {
			return !slices.ContainsFunc(s.names(of), func(n string) bool { return !there[n] })
		}
		for _, s := range steps {
			if s.Linked() != "" && !ready(s) {
				waits[s.Linked()] = true
			}
		}
		var now, later []*Step
		for _, s := range steps {
			if ready(s) && !waits[s.Linked()] {
				now = append(now, s)
			} else {
				later = append(later, s)
			}
		}
		if len(now) == 0 {
			return parts, later
		}
		for _, s := range now {
			if s.Act == changeset.Add && schema.IsNew(s.Key) {
				there[s.Key.String()] = true
			}
		}
		parts, steps = append(parts, now), later
	}
	return parts, nil
}

// named resolves what steps name, and returns those that can be written, and those of
// which a name has no key, with what is linked with these.
func named(part []*Step, keys map[string]string, of map[string]bool) (ready, lacking []*Step) {
	if of == nil {
		return part, nil // no key is given here
	}
	torn := map[string]bool{}
	for _, s := range part {
		s.resolve(keys)
		if s.Linked() != "" && len(s.names(of)) > 0 {
			torn[s.Linked()] = true
		}
	}
	for _, s := range part {
		if len(s.names(of)) > 0 || torn[s.Linked()] {
			lacking = append(lacking, s)
		} else {
			ready = append(ready, s)
		}
	}
	return ready, lacking
}

// refuseLacking refuses steps that name a new record which got no key, and what is
// linked with them.
func (j *Job) refuseLacking(jr *journal, r *Record, steps []*Step) error {
	if len(steps) == 0 {
		return nil
	}
	for _, s := range steps {
		s.Outcome, s.When = Refused, momentOf(j.Now())
		if names := s.names(j.newRecords); len(names) > 0 {
			s.Reason = "it names " + names[0] + ", which has no key there"
		} else {
			s.Reason = "linked with a record that names one which has no key there"
		}
	}
	return jr.append(outcomes(r.batch, steps, nil))
}
