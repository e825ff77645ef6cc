package run

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"paletwin/core/changeset"
)

// This file puts the steps of several record sets into their order.

// phase is the steps of a member that are written at one time.
type phase struct {
	m     *member
	steps []*Step
}

// phases puts the steps into their order. What is linked within a set is written at one time: where
// something of it is amended or added, before what is deleted; but a delete that others have to be
// written for first is the last of all.
func (g *Group) phases() (all []phase) {
	if g.members[0].hands() { // the files say in which order they are loaded
		for _, m := range g.members {
			all = append(all, phase{m, m.write})
		}
		return all
	}
	acts := func(m *member, wanted changeset.Act) {
		var steps []*Step
		for _, s := range m.write {
			if s.Outcome == "" && m.when(g, s) == wanted {
				steps = append(steps, s)
			}
		}
		if len(steps) > 0 {
			all = append(all, phase{m, steps})
		}
	}
	g.inOrder(acts)
	return all
}

// inOrder goes through what is done at one time: what is added, those that are referred to first, then what is
// amended, and at last what is deleted, those that refer to others first.
func (g *Group) inOrder(do func(m *member, act changeset.Act)) {
	for _, m := range g.members {
		do(m, changeset.Add)
	}
	for _, m := range g.members {
		do(m, changeset.Amend)
	}
	for _, m := range slices.Backward(g.members) {
		do(m, changeset.Delete)
	}
}

// when is the act with which a step is written: its own, or, where it is linked with others of its set,
// that of amends.
func (m *member) when(g *Group, s *Step) changeset.Act {
	c := g.of[s]
	if c == nil || c.apart() || !slices.ContainsFunc(c.steps, func(p owned) bool { return p.s.Act != s.Act }) {
		return s.Act
	}
	return changeset.Amend
}

func (g *Group) phase(ctx context.Context, p phase) error {
	steps := slices.DeleteFunc(slices.Clone(p.steps), func(s *Step) bool { return s.Outcome != "" })
	if p.m.rep.Stopped || len(steps) == 0 {
		return nil
	}
	if late := g.late(p.m, steps); len(late) > 0 {
		if err := p.m.jr.append(outcomes(p.m.record.batch, late, nil)); err != nil {
			return err
		}
		if err := g.after(ctx, p.m, late); err != nil {
			return err
		}
		steps = slices.DeleteFunc(steps, func(s *Step) bool { return s.Outcome != "" })
	}
	if err := g.resolve(p.m, steps); err != nil {
		return err
	}
	if lacking := g.lacking(p.m, steps); len(lacking) > 0 {
		if err := p.m.jr.append(outcomes(p.m.record.batch, lacking, nil)); err != nil {
			return err
		}
		if err := g.after(ctx, p.m, lacking); err != nil {
			return err
		}
		steps = slices.DeleteFunc(steps, func(s *Step) bool { return s.Outcome != "" })
	}
	if err := p.m.Target.Refresh(ctx); err != nil {
		return err
	}
	if err := p.m.inBatches(ctx, p.m.jr, p.m.record, p.m.rep, steps, p.m.before); err != nil {
		return g.named(p.m, err)
	}
	if p.m.rep.Stopped {
		for _, o := range g.members {
			if o.rep != nil {
				o.rep.Stopped = true
			}
		}
	}
	return nil
}

// resolve writes the keys that new records of other sets have got in the place of what they went by.
func (g *Group) resolve(m *member, steps []*Step) error {
	for _, r := range g.References {
		to := g.member(r.To)
		if r.Set != m.Dossier.Set().Name || to == nil || !to.schema.Assigned() {
			continue
		}
		keys, err := knownKeys(to.Dossier, to.at())
		if err != nil {
			return err
		}
		for _, s := range to.allSteps() {
			if went := s.wentBy(); went != "" {
				if keys == nil {
					keys = map[string]string{}
				}
				keys[went] = s.Key.String()
			}
		}
		if len(keys) == 0 {
			continue
		}
		for _, s := range steps {
			s.resolveFields(keys, r.Fields)
		}
	}
	return nil
}

// lacking refuses steps that name a new record of another set which got no key.
func (g *Group) lacking(m *member, steps []*Step) (all []*Step) {
	for _, r := range g.References {
		to := g.member(r.To)
		if r.Set != m.Dossier.Set().Name || to == nil || to.newRecords == nil {
			continue
		}
		for _, s := range steps {
			k, ok := s.refers(m.Dossier.Set().Key, r.Fields)
			if ok && to.newRecords[k.String()] && s.Outcome == "" {
				s.Outcome, s.When = Refused, momentOf(m.Now())
				s.Reason = fmt.Sprintf("it names %s %s, which has no key there", r.To, k)
				all = append(all, s)
			}
		}
	}
	return all
}

// resolveFields is resolve of some fields.
func (s *Step) resolveFields(keys map[string]string, fields []string) {
	used := maps.Clone(keys)
	maps.DeleteFunc(used, func(name, _ string) bool {
		for f := range s.Fields.All() {
			if slices.Contains(fields, f.Field) && f.To.String() == name {
				return false
			}
		}
		for _, f := range fields {
			if v, ok := s.Record.Get(f); ok && s.Act == changeset.Add && v.String() == name {
				return false
			}
		}
		return true
	})
	if len(used) > 0 {
		s.resolve(used)
	}
}
