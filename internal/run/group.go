package run

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/desk"
)

// This file carries out several record sets of one dossier together. Each has a run of its own, with
// backup, rollback file and journal, as it would have alone; what they have in common is the order:
// first of all what is added, those that are referred to before those that refer to them, then what is
// amended, and at last what is deleted, those that refer to others first. All runs begin before
// anything is written, and end after everything was.
//
// A record that refers to a new one belongs to it: they are a cluster. Where one of a cluster is not
// written, those that were are taken back at once (undone.go).

// Group is several record sets of a dossier, to be carried out together.
type Group struct {
	Jobs       []*Job // those that are referred to first
	References []desk.Reference
	// Confirm, if not nil, is asked once all was read and checked and before anything is written;
	// write are the numbers of steps that would be written. false ends it with nothing written.
	Confirm func(plans []*Plan, write []int) bool

	members []*member
	of      map[*Step]*cluster
	touched []*cluster // in the order in which they were found
}

// member is a record set that is carried out.
type member struct {
	*Job
	n      int // its number in the order
	last   *Record
	rep    *Report
	plan   *planned
	record *Record
	jr     *journal
	before map[changeset.ID]former
	write  []*Step
}

// cluster is steps of several record sets that are written together or not at all.
type cluster struct {
	steps []owned
	torn  bool
}

// owned is a step and whose it is.
type owned struct {
	m *member
	s *Step
}

// Apply carries the approved parts of all sets out. The caller holds the locks of all. A run of all that
// was interrupted is finished first and alone: its reports come back with Resumed set, and the caller
// calls again for the rest. The reports are in the order of the jobs.
func (g *Group) Apply(ctx context.Context) ([]*Report, error) {
	g.members = nil
	var open []*member
	for i, j := range g.Jobs {
		m := &member{Job: j, n: i}
		var err error
		if m.last, err = j.ready(); err != nil {
			return nil, err
		}
		g.members = append(g.members, m)
		if m.last != nil && m.last.Ended == "" {
			if err := j.mayFinish(m.last); err != nil {
				return nil, err
			}
			open = append(open, m)
		}
	}
	if len(open) > 0 {
		return g.finish(ctx, open)
	}
	return g.begin(ctx)
}

func (g *Group) reports() []*Report {
	all := make([]*Report, len(g.members))
	for i, m := range g.members {
		all[i] = m.rep
	}
	return all
}

// begin plans all runs, prepares and carries them out.
func (g *Group) begin(ctx context.Context) ([]*Report, error) {
	for _, m := range g.members {
		var err error
		if m.plan, err = m.Job.plan(ctx); err != nil {
			return nil, g.named(m, err)
		}
		m.rep = m.plan.rep
	}
	if err := g.settle(); err != nil {
		return nil, err
	}
	var plans []*Plan
	var write []int
	any, stop := false, false
	for _, m := range g.members {
		any = any || len(m.plan.steps) > 0
		stop = stop || m.Options.StopAfter.reached(refusals(m.plan.steps), len(m.plan.steps))
		plans, write = append(plans, m.plan.plan), append(write, len(m.plan.write))
	}
	switch {
	case !any:
		return g.reports(), nil
	case stop:
		for _, m := range g.members {
			m.rep = m.rep.stopped(m.plan.steps)
		}
		return g.reports(), nil
	case g.members[0].Options.Rehearse:
		for _, m := range g.members {
			if m.rep = m.rep.rehearsed(m.plan.steps); len(m.plan.steps) > 0 {
				if err := m.room(); err != nil {
					return nil, err
				}
			}
		}
		return g.reports(), nil
	case g.Confirm != nil && !g.Confirm(plans, write):
		for _, m := range g.members {
			m.rep.Declined = true
		}
		return g.reports(), nil
	}
	if err := g.start(ctx); err != nil {
		return nil, err
	}
	return g.carryOut(ctx)
}

// named says whose error it is.
func (g *Group) named(m *member, err error) error {
	return fmt.Errorf("%s: %w", m.Dossier.Set().Name, err)
}

// settle finds what belongs together, and leaves alone what needs something that is not written.
func (g *Group) settle() error {
	for _, m := range g.members {
		m.write = m.plan.write
	}
	g.cluster(func(m *member) []*Step { return m.plan.steps })
	waits, err := g.waiting()
	if err != nil {
		return err
	}
	for s, why := range waits {
		for _, p := range g.clusterOf(s) {
			if _, known := waits[p.s]; !known {
				waits[p.s] = why
			}
		}
	}
	for _, m := range g.members {
		all := m.plan.steps
		m.plan.steps = slices.DeleteFunc(slices.Clone(all), func(s *Step) bool {
			why, left := waits[s]
			if left = left && (s.Outcome == "" || s.Outcome == Settled); left {
				s.Reason = why
				m.rep.Waiting = append(m.rep.Waiting, s)
				m.rep.Left.Held++
			}
			return left
		})
	}
	g.tear()
	g.needed()
	for _, m := range g.members {
		m.plan.write = first(m.plan.steps, 0)
		for _, s := range m.plan.steps {
			if s.Outcome != "" && s.When.IsZero() {
				s.When = m.Now()
			}
		}
	}
	return nil
}

// start begins the runs of all that have steps.
func (g *Group) start(ctx context.Context) error {
	with := map[string]int{}
	for _, m := range g.members {
		if len(m.plan.steps) > 0 {
			with[m.Dossier.Set().Name] = m.last.next()
		}
	}
	for _, m := range g.members {
		if len(m.plan.steps) == 0 {
			continue
		}
		m.Job.with = with
		var err error
		if m.record, err = m.Job.start(ctx, with[m.Dossier.Set().Name], m.plan); err != nil {
			return g.named(m, err)
		}
		m.write = m.plan.write
	}
	return nil
}

// finish ends runs that were interrupted. Where not all had begun nothing was written, and they are given up.
func (g *Group) finish(ctx context.Context, open []*member) ([]*Report, error) {
	for _, m := range open {
		if m.last.Head.With == nil { // it was of this set alone
			rep, err := m.Job.finish(ctx, m.last)
			if err != nil {
				return nil, g.named(m, err)
			}
			m.rep = rep
			return g.resumed(), nil
		}
	}
	with := open[0].last.Head.With
	begun := true
	for _, m := range g.members {
		n, is := with[m.Dossier.Set().Name]
		if !is {
			continue
		}
		if m.last == nil || m.last.Head.Run != n {
			begun = false
			continue
		}
		m.record = m.last
	}
	if !begun {
		for _, m := range open {
			if err := m.giveUp(); err != nil {
				return nil, g.named(m, err)
			}
		}
		return g.resumed(), nil
	}
	for _, m := range g.members {
		if m.record == nil {
			continue
		}
		if m.rep = (&Report{Target: m.Target.Name(), Run: m.record.Head.Run, Resumed: true}); m.record.Ended != "" {
			continue
		}
		m.lookAgain()
		var err error
		if m.rep, m.write, err = m.Job.resume(ctx, m.record); err != nil {
			return nil, g.named(m, err)
		}
	}
	g.cluster(func(m *member) []*Step {
		if m.record == nil {
			return nil
		}
		return m.record.Steps
	})
	return g.carryOut(ctx)
}

// lookAgain takes back that it is not known what became of steps of a batch after which the runs were
// interrupted: they are looked at again.
func (m *member) lookAgain() {
	for _, s := range m.record.Steps {
		if s.Outcome == Unknown && !(s.Act == changeset.Add && schema.IsNew(s.Key)) {
			s.Outcome, s.Reason, m.record.open[s.ID] = "", "", true
			if m.record.lost == nil {
				m.record.lost = map[changeset.ID]bool{}
			}
			m.record.lost[s.ID] = true
		}
	}
}

// resumed are the reports of runs that were finished.
func (g *Group) resumed() []*Report {
	for _, m := range g.members {
		if m.rep == nil {
			m.rep = &Report{Target: m.Target.Name()}
		}
		m.rep.Resumed = true
	}
	return g.reports()
}

// giveUp ends a run that had begun before those of other sets, which had not: nothing was written.
func (m *member) giveUp() error {
	r := m.last
	jr := r.journal(m.Dossier)
	var rest []*Step
	for _, s := range r.Steps {
		if s.Outcome == "" {
			s.Outcome, s.Reason, s.When = Skipped, "the run was interrupted before anything was written", m.Now()
			rest = append(rest, s)
		}
	}
	if err := jr.append(outcomes(r.batch, rest, nil)); err != nil {
		return err
	}
	return m.close(jr, r, "stopped")
}

// carryOut writes the steps of all, phase by phase, and ends the runs.
func (g *Group) carryOut(ctx context.Context) ([]*Report, error) {
	for _, m := range g.members {
		if m.record == nil || m.record.Ended != "" {
			continue
		}
		m.jr = m.record.journal(m.Dossier)
		var err error
		if m.before, err = formerly(m.Dossier); err != nil {
			return nil, err
		}
		m.rep.Run, m.rep.Backup = m.record.Head.Run, m.record.backup()
		m.Job.batched = func(batch []*Step) error { return g.after(ctx, m, batch) }
	}
	err := g.mend(ctx) // what an interruption left torn
	for _, p := range g.phases() {
		if err == nil {
			err = g.phase(ctx, p)
		}
	}
	if err != nil {
		return nil, g.broken(err)
	}
	for _, m := range g.members {
		if m.record == nil || m.record.Ended != "" {
			continue
		}
		rep, err := m.end(ctx, m.jr, m.record, m.rep)
		if err != nil {
			return nil, &Broken{Run: m.record.Head.Run, Done: m.record.Counts().Done, Of: len(m.record.Steps), Written: true, Err: g.named(m, err)}
		}
		m.rep = rep
	}
	for _, m := range g.members {
		if m.rep == nil {
			m.rep = &Report{Target: m.Target.Name()}
		}
	}
	return g.reports(), nil
}

// broken is how far all runs had come when one of them failed.
func (g *Group) broken(err error) error {
	b := &Broken{Err: err}
	for _, m := range g.members {
		if m.record != nil {
			b.Run, b.Done, b.Of = max(b.Run, m.record.Head.Run), b.Done+m.record.Counts().Done, b.Of+len(m.record.Steps)
			b.Unknown += m.record.Counts().Unknown
		}
	}
	return b
}

// phase is the steps of a member that are written at one time.
type phase struct {
	m     *member
	steps []*Step
}

// phases puts the steps into their order. What is linked within a set is written at one time: where
// something of it is amended or added, before what is deleted; but a delete that others have to be
// written for first is the last of all.
func (g *Group) phases() (all []phase) {
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
	for _, m := range g.members {
		acts(m, changeset.Add)
	}
	for _, m := range g.members {
		acts(m, changeset.Amend)
	}
	for _, m := range slices.Backward(g.members) {
		acts(m, changeset.Delete)
	}
	return all
}

// when is the act with which a step is written: its own, or, where it is linked with others of its set,
// that of amends.
func (m *member) when(g *Group, s *Step) changeset.Act {
	if s.Linked == "" || g.of[s] != nil && g.of[s].crosses() {
		return s.Act
	}
	return changeset.Amend
}

// crosses reports whether a cluster is of several record sets.
func (c *cluster) crosses() bool {
	return slices.ContainsFunc(c.steps, func(p owned) bool { return p.m != c.steps[0].m })
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
		steps = slices.DeleteFunc(steps, func(s *Step) bool { return s.Outcome != "" })
	}
	if err := g.resolve(p.m, steps); err != nil {
		return err
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

// late refuses deletes of records that others still refer to, since these could not be written.
func (g *Group) late(m *member, steps []*Step) (late []*Step) {
	for _, s := range steps {
		if s.Act != changeset.Delete {
			continue
		}
		for _, p := range g.leaving(m, s) {
			if p.s.Outcome != Done && p.s.Outcome != Settled {
				s.Outcome, s.When = Refused, m.Now()
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
func (g *Group) leaving(m *member, gone *Step) (all []owned) {
	key := m.schema.Key(gone.Key)
	for _, r := range g.References {
		if r.To != m.Dossier.Set().Name {
			continue
		}
		for _, o := range g.members {
			if o.Dossier.Set().Name != r.Set {
				continue
			}
			for _, s := range o.allSteps() {
				if k, ok := s.referred(o.Dossier.Set().Key, r.Fields); ok && m.schema.Key(k) == key {
					all = append(all, owned{o, s})
				}
			}
		}
	}
	return all
}

func (m *member) allSteps() []*Step {
	switch {
	case m.record != nil:
		return m.record.Steps
	case m.plan != nil:
		return m.plan.steps
	}
	return nil
}

// refers is the key that a step gives fields that name a record; ok is false where it gives them none, or
// not all of it is known.
func (s *Step) refers(key, fields []string) (k record.Key, ok bool) {
	return s.fieldsKey(key, fields, changeset.Add, func(f *changeset.FieldChange) record.Value { return f.To })
}

// referred is the key that fields had which a step changes.
func (s *Step) referred(key, fields []string) (k record.Key, ok bool) {
	return s.fieldsKey(key, fields, changeset.Delete, func(f *changeset.FieldChange) record.Value { return f.From })
}

func (s *Step) fieldsKey(key, fields []string, whole changeset.Act, of func(*changeset.FieldChange) record.Value) (k record.Key, ok bool) {
	var parts []string
	changed := s.Act == whole
	for _, f := range fields {
		v, there := s.Record.Get(f)
		switch i := slices.Index(key, f); {
		case s.Act == whole && there:
		case s.Act != changeset.Amend:
			return k, false
		default:
			at := slices.IndexFunc(s.Fields, func(c changeset.FieldChange) bool { return c.Field == f })
			if there = at >= 0; there {
				v, changed = of(&s.Fields[at]), true
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
			if s.Linked == "" {
				continue
			}
			if linked[s.Linked] != nil {
				g.join(owned{m, linked[s.Linked]}, owned{m, s})
			} else {
				linked[s.Linked] = s
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
			if s.WentBy != "" {
				added[to.schema.Key(record.NewKey(s.WentBy))] = s
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
}

func (g *Group) member(set string) *member {
	for _, m := range g.members {
		if m.Dossier.Set().Name == set {
			return m
		}
	}
	return nil
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
	return waits, nil
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
		if _, was := done[unit{id, ""}]; !was {
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
				p.s.When = p.m.Now()
			}
		}
	}
}

// failed is the step of a cluster that was not written, and why the others are not to be.
func (c *cluster) failed() (by owned, ok bool) {
	i := slices.IndexFunc(c.steps, func(p owned) bool {
		return p.s.Outcome == Conflict || p.s.Outcome == Refused || p.s.Outcome == Undone || p.s.Outcome == Skipped || len(p.s.Left) > 0
	})
	if i < 0 {
		return by, false
	}
	return c.steps[i], true
}

// tornBy gives a step the outcome of one that it belongs to.
func (s *Step) tornBy(by owned) {
	why := by.s.Reason
	if s.Outcome = Refused; by.s.Outcome == Conflict || len(by.s.Left) > 0 {
		s.Outcome = Conflict
	}
	s.Reason = fmt.Sprintf("it belongs to %s %s, which was not written: %s", by.m.Dossier.Set().Name, by.s.Key, why)
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
			if s.WentBy != "" {
				if keys == nil {
					keys = map[string]string{}
				}
				keys[s.WentBy] = s.Key.String()
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

// resolveFields is resolve of some fields.
func (s *Step) resolveFields(keys map[string]string, fields []string) {
	used := maps.Clone(keys)
	maps.DeleteFunc(used, func(name, _ string) bool {
		for _, f := range s.Fields {
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

// backup is the file of a run's backup.
func (r *Record) backup() string { return filepath.Join(r.Dir, r.Head.Backup) }
