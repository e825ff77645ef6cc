package run

import (
	"context"
	"fmt"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/desk"
)

// This file says what of several record sets belongs together: a new record with what refers to it, and
// what has to be changed before a record goes.

// cluster is steps of several record sets that are written together or not at all.
type cluster struct {
	steps []owned
	torn  bool
	split bool // of one set, and not written at one time
}

// owned is a step and whose it is.
type owned struct {
	m *member
	s *Step
}

// apart reports whether a cluster is not written at one time: it is of several record sets, or some of it
// waits for others.
func (c *cluster) apart() bool {
	return c.split || slices.ContainsFunc(c.steps, func(p owned) bool { return p.m != c.steps[0].m })
}

// stand has a record that gets another key, and is not written at one time with what refers to it, added under
// it and deleted under the old one: with all that the target has of it, whoever knows of that.
func (g *Group) stand(ctx context.Context) error {
	for _, m := range g.members {
		var moved []*Step
		var was []record.Key
		for _, s := range m.plan.steps {
			if c := g.of[s]; s.Act == changeset.Add && len(s.Was().Parts()) > 0 && c != nil && c.apart() {
				moved, was = append(moved, s), append(was, s.Was())
				s.apart.was = record.Key{}
			}
		}
		if len(moved) == 0 || m.hands() {
			continue
		}
		states, err := m.Target.Current(ctx, was)
		if err != nil {
			return err
		}
		for i, s := range moved {
			r := s.Record.Record()
			for _, f := range states[i].Record {
				if _, said := r.Get(f.Name); !said && !slices.Contains(m.Options.System, f.Name) {
					r.Set(f.Name, f.Value)
				}
			}
			s.Record = r.Pack()
		}
	}
	return nil
}

// late refuses deletes of records that others still refer to, since these could not be written.
func (g *Group) late(m *member, steps []*Step) (late []*Step) {
	for _, s := range steps {
		if s.Act != changeset.Delete {
			continue
		}
		for _, p := range g.leaving(m, s) {
			if p.s.Outcome != Done && p.s.Outcome != Settled {
				s.Outcome, s.When = Refused, momentOf(m.Now())
				s.Reason = fmt.Sprintf("%s %s still refers to it, and could not be changed", p.m.Dossier.Set().Name, p.s.Key)
				late = append(late, s)
				break
			}
		}
	}
	return late
}

// needed is late before anything is written.
func (g *Group) needed() {
	for _, m := range g.members {
		for _, s := range m.plan.steps {
			if s.Act != changeset.Delete || s.Outcome != "" {
				continue
			}
			for _, p := range g.leaving(m, s) {
				if p.s.Outcome != "" && p.s.Outcome != Settled {
					s.Outcome, s.Reason = Refused, fmt.Sprintf("%s %s refers to it, and cannot be changed: %s", p.m.Dossier.Set().Name, p.s.Key, p.s.Reason)
					break
				}
			}
		}
	}
	g.tear()
}

// leaving lists the steps of other sets by which records cease to refer to one.
func (g *Group) leaving(m *member, gone *Step) []owned {
	return g.left[m.Dossier.Set().Name][m.schema.Key(gone.Key)]
}

// leave finds by which steps records cease to refer to others.
func (g *Group) leave() {
	g.left = map[string]map[record.Key][]owned{}
	for _, r := range g.References {
		from, to := g.member(r.Set), g.member(r.To)
		if from == nil || to == nil {
			continue
		}
		at := g.left[r.To]
		if at == nil {
			at = map[record.Key][]owned{}
			g.left[r.To] = at
		}
		for _, s := range from.allSteps() {
			if k, ok := s.referred(from.Dossier.Set().Key, r.Fields); ok {
				k = to.schema.Key(k)
				at[k] = append(at[k], owned{from, s})
			}
		}
	}
}

// refers is the key that a step gives fields that name a record; ok is false where it gives them none, or
// not all of it is known.
func (s *Step) refers(key, fields []string) (k record.Key, ok bool) {
	return s.fieldsKey(key, fields, changeset.Add, func(f *changeset.Edit) record.Value { return f.To })
}

// referred is the key that fields had which a step changes.
func (s *Step) referred(key, fields []string) (k record.Key, ok bool) {
	return s.fieldsKey(key, fields, changeset.Delete, func(f *changeset.Edit) record.Value { return f.From })
}

func (s *Step) fieldsKey(key, fields []string, whole changeset.Act, of func(*changeset.Edit) record.Value) (k record.Key, ok bool) {
	var parts []string
	changed := s.Act == whole
	for _, f := range fields {
		v, there := s.Record.Get(f)
		switch i := slices.Index(key, f); {
		case s.Act == whole && there:
		case s.Act != changeset.Amend:
			return k, false
		default:
			var edit changeset.Edit
			if edit, there = s.Fields.Of(f); there {
				v, changed = of(&edit), true
			} else if i >= 0 {
				v, there = record.Text(s.Key.Parts()[i]), true
			}
		}
		if !there || v.Blank() {
			return k, false
		}
		parts = append(parts, v.String())
	}
	return record.NewKey(parts...), changed
}

// cluster finds which steps of several sets are written together or not at all: a new record, or one
// that gets another key, with what refers to it, and with all that these are linked with.
func (g *Group) cluster(steps func(*member) []*Step) {
	g.of, g.touched = map[*Step]*cluster{}, nil
	for _, m := range g.members {
		linked := map[string]*Step{}
		for _, s := range steps(m) {
			if s.Linked() == "" {
				continue
			}
			if linked[s.Linked()] != nil {
				g.join(owned{m, linked[s.Linked()]}, owned{m, s})
			} else {
				linked[s.Linked()] = s
			}
		}
	}
	for _, r := range g.References {
		from, to := g.member(r.Set), g.member(r.To)
		if from == nil || to == nil {
			continue
		}
		added := map[record.Key]*Step{}
		for _, s := range steps(to) {
			if s.Act != changeset.Add {
				continue
			}
			added[to.schema.Key(s.Key)] = s
			if went := s.wentBy(); went != "" {
				added[to.schema.Key(record.NewKey(went))] = s
			}
		}
		if len(added) == 0 {
			continue
		}
		for _, s := range steps(from) {
			if k, ok := s.refers(from.Dossier.Set().Key, r.Fields); ok {
				if a := added[to.schema.Key(k)]; a != nil {
					g.join(owned{to, a}, owned{from, s})
				}
			}
		}
	}
	g.leave()
	for _, m := range g.members {
		for _, s := range steps(m) {
			if c := g.of[s]; c != nil && s.Act == changeset.Delete && len(g.leaving(m, s)) > 0 {
				c.split = true
			}
		}
	}
}

// join makes one cluster of two steps and what belongs to them.
func (g *Group) join(a, b owned) {
	ca, cb := g.of[a.s], g.of[b.s]
	if ca == nil {
		ca = &cluster{steps: []owned{a}}
		g.of[a.s], g.touched = ca, append(g.touched, ca)
	}
	switch {
	case cb == ca:
		return
	case cb == nil:
		ca.steps = append(ca.steps, b)
		g.of[b.s] = ca
		return
	}
	if len(cb.steps) > len(ca.steps) {
		ca, cb = cb, ca
	}
	for _, p := range cb.steps {
		g.of[p.s] = ca
	}
	ca.steps, cb.steps = append(ca.steps, cb.steps...), nil
}

func (g *Group) clusterOf(s *Step) []owned {
	if c := g.of[s]; c != nil {
		return c.steps
	}
	return nil
}

// waiting finds the steps that name a new record which is not to be added, and is not there.
func (g *Group) waiting() (map[*Step]string, error) {
	waits := map[*Step]string{}
	for _, r := range g.References {
		from, to := g.member(r.Set), g.member(r.To)
		if from == nil || to == nil || len(from.plan.steps) == 0 {
			continue
		}
		unplanned, err := to.unplanned()
		if err != nil {
			return nil, err
		}
		if len(unplanned) == 0 {
			continue
		}
		for _, s := range from.plan.steps {
			if k, ok := s.refers(from.Dossier.Set().Key, r.Fields); ok && unplanned[to.schema.Key(k)] {
				waits[s] = fmt.Sprintf("it names %s %s, which is new and not approved", r.To, k)
			}
		}
	}
	for _, r := range g.References {
		from, to := g.member(r.Set), g.member(r.To)
		if from == nil || to == nil {
			continue
		}
		gone := map[record.Key]*Step{}
		for _, s := range to.plan.steps {
			if s.Act == changeset.Delete {
				gone[to.schema.Key(s.Key)] = s
			}
		}
		if len(gone) == 0 {
			continue
		}
		err := from.leftAlone(func(s *Step) {
			if k, ok := s.referred(from.Dossier.Set().Key, r.Fields); ok && gone[to.schema.Key(k)] != nil {
				waits[gone[to.schema.Key(k)]] = fmt.Sprintf("%s %s refers to it, and the change of that is not approved", r.Set, s.Key)
			}
		})
		if err != nil {
			return nil, err
		}
	}
	return waits, nil
}

// unanswered leaves, of what is handed over, what names a new record whose key is not answered yet. The new
// record itself goes first.
func (g *Group) unanswered(waits map[*Step]string) error {
	for _, r := range g.References {
		from, to := g.member(r.Set), g.member(r.To)
		if from == nil || to == nil || !to.hands() || to.newRecords == nil {
			continue
		}
		keys, err := knownKeys(to.Dossier, to.at())
		if err != nil {
			return err
		}
		for _, s := range from.plan.steps {
			k, ok := s.refers(from.Dossier.Set().Key, r.Fields)
			if _, known := keys[k.String()]; ok && to.newRecords[k.String()] && !known {
				waits[s] = fmt.Sprintf("it names %s %s, whose key is not known yet: say what was answered, and hand over again", r.To, k)
			}
		}
	}
	return nil
}

// leftAlone goes through the changes, or of an amend the fields, that are not to be carried out, nor were.
func (m *member) leftAlone(yield func(s *Step)) error {
	c, err := m.Dossier.Changes()
	if err != nil {
		return err
	}
	defer c.Close()
	done, err := everDone(m.Dossier, m.at())
	if err != nil {
		return err
	}
	for _, s := range m.plan.steps {
		done.take(s)
	}
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return err
		}
		s := &Step{ID: ch.ID, Act: ch.Act, Key: ch.Key, Record: ch.Record.Pack()}
		if done.has(unit{ch.ID, ""}) {
			continue
		}
		var open []changeset.Edit
		for _, f := range ch.Fields {
			if !done.has(unit{ch.ID, f.Field}) {
				open = append(open, f.Edit)
			}
		}
		s.Fields = changeset.Pack(open)
		if s.Act != changeset.Amend || !s.Fields.None() {
			yield(s)
		}
	}
	return nil
}

// waitForOthers leaves, of a record set that is carried out without the others of its dossier, what names
// new records of these that were added nowhere yet.
func (j *Job) waitForOthers(p *planned) error {
	if !j.Dossier.IsPart() {
		return nil
	}
	set := j.Dossier.Set()
	for _, r := range j.Dossier.Whole().Meta.References {
		if r.Set != set.Name {
			continue
		}
		to, err := j.Dossier.Whole().Part(r.To)
		if err != nil {
			return err
		}
		of, err := to.Schema()
		if err != nil {
			return err
		}
		lacking, err := notAdded(to, of.Key)
		if err != nil {
			return err
		}
		left := func(s *Step) bool {
			k, ok := s.refers(set.Key, r.Fields)
			return ok && lacking[of.Key(k)] && (s.Outcome == "" || s.Outcome == Settled)
		}
		for _, s := range p.steps {
			if left(s) {
				k, _ := s.refers(set.Key, r.Fields)
				s.Reason = fmt.Sprintf("it names %s %s, which is new and not added yet", r.To, k)
				p.rep.Waiting = append(p.rep.Waiting, s)
				p.rep.Left.Held++
			}
		}
		p.write = slices.DeleteFunc(p.write, left)
		p.steps = slices.DeleteFunc(p.steps, left)
	}
	return nil
}

// notAdded lists the new records of a dossier that no run added.
func notAdded(t *desk.Dossier, one func(record.Key) record.Key) (map[record.Key]bool, error) {
	added, err := t.Added()
	if err != nil || len(added) == 0 {
		return nil, err
	}
	for r, err := range allRuns(t) {
		if err != nil {
			return nil, err
		}
		for _, s := range r.Steps {
			if s.Outcome == Done || s.Outcome == Settled {
				delete(added, s.ID)
			}
		}
	}
	left := map[record.Key]bool{}
	for _, k := range added {
		left[one(k)] = true
	}
	return left, nil
}

// unplanned lists the new records that are not to be added, nor were.
func (m *member) unplanned() (map[record.Key]bool, error) {
	added, err := m.Dossier.Added()
	if err != nil || len(added) == 0 {
		return nil, err
	}
	done, err := everDone(m.Dossier, m.at())
	if err != nil {
		return nil, err
	}
	left := map[record.Key]bool{}
	for id, k := range added {
		if !done.has(unit{id, ""}) {
			left[m.schema.Key(k)] = true
		}
	}
	for _, s := range m.plan.steps {
		if s.Act == changeset.Add {
			delete(left, m.schema.Key(s.Key))
		}
	}
	return left, nil
}

// tear leaves what belongs together alone where something of it cannot be written.
func (g *Group) tear() {
	for _, c := range g.touched {
		by, ok := c.failed()
		if !ok {
			continue
		}
		c.torn = true
		for _, p := range c.steps {
			if p.s.Outcome == "" {
				p.s.tornBy(by)
				p.s.When = momentOf(p.m.Now())
			}
		}
	}
}

// failed is the step of a cluster that was not written, and why the others are not to be.
func (c *cluster) failed() (by owned, ok bool) {
	i := slices.IndexFunc(c.steps, func(p owned) bool {
		return p.s.Outcome == Conflict || p.s.Outcome == Refused || p.s.Outcome == Undone || p.s.Outcome == Skipped || p.s.Partly()
	})
	if i < 0 {
		return by, false
	}
	return c.steps[i], true
}

// tornBy gives a step the outcome of one that it belongs to.
func (s *Step) tornBy(by owned) {
	why := by.s.Reason
	if s.Outcome = Refused; by.s.Outcome == Conflict || by.s.Partly() {
		s.Outcome = Conflict
	}
	s.Reason = fmt.Sprintf("it belongs to %s %s, which was not written: %s", by.m.Dossier.Set().Name, by.s.Key, why)
}
