package run

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/desk"
	"paletwin/internal/target"
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
	left    map[string]map[record.Key][]owned // by which steps records cease to refer to others, by these
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
	before *formers
	write  []*Step
}

// Apply carries the approved parts of all sets out. The caller holds the locks of all. A run of all that
// was interrupted is finished first and alone: its reports come back with Resumed set, and the caller
// calls again for the rest. The reports are in the order of the jobs.
func (g *Group) Apply(ctx context.Context) ([]*Report, error) {
	g.members = nil
	var open []*member
	for i, j := range g.Jobs {
		m := &member{Job: j, n: i}
		j.inGroup = true
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

// hands reports whether the target takes files, and answers later.
func (m *member) hands() bool {
	_, handed := m.Target.(target.Loader)
	return handed
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
	if err := g.settle(ctx); err != nil {
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
func (g *Group) settle(ctx context.Context) error {
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
	if err := g.unanswered(waits); err != nil {
		return err
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
	if err := g.stand(ctx); err != nil {
		return err
	}
	g.tear()
	g.needed()
	for _, m := range g.members {
		m.plan.write = first(m.plan.steps, 0)
		m.write = m.plan.write
		for _, s := range m.plan.steps {
			if s.Outcome != "" && s.When == 0 {
				s.When = momentOf(m.Now())
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
	if m.hands() {
		return
	}
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
			s.Outcome, s.Reason, s.When = Skipped, "the run was interrupted before anything was written", momentOf(m.Now())
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
	defer func() {
		for _, m := range g.members {
			m.before.Close()
		}
	}()
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
		if h, handed := m.Target.(target.Loader); handed {
			h.Run(m.record.Head.Run)
		} else {
			m.Job.batched = func(batch []*Step) error { return g.after(ctx, m, batch) }
		}
	}
	err := g.mend(ctx) // what an interruption left torn
	if err == nil {
		err = g.joint(ctx)
	}
	for _, p := range g.phases() {
		if err == nil {
			err = g.phase(ctx, p)
		}
	}
	if err == nil {
		err = g.stopped(ctx)
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

// stopped leaves what was not attempted when the runs ended early, and takes back what belongs to it.
func (g *Group) stopped(ctx context.Context) error {
	early := false
	for _, m := range g.members {
		if m.jr == nil || !m.rep.Stopped {
			continue
		}
		var rest []*Step
		for _, s := range m.record.Steps {
			if s.Outcome == "" {
				s.Outcome, s.Reason, s.When = Skipped, "the run ended after too many refusals", momentOf(m.Now())
				rest = append(rest, s)
			}
		}
		if early = early || len(rest) > 0; len(rest) > 0 {
			if err := m.jr.append(outcomes(m.record.batch, rest, nil)); err != nil {
				return g.named(m, err)
			}
		}
	}
	if !early {
		return nil
	}
	return g.mend(ctx)
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

func (m *member) allSteps() []*Step {
	switch {
	case m.record != nil:
		return m.record.Steps
	case m.plan != nil:
		return m.plan.steps
	}
	return nil
}

func (g *Group) member(set string) *member {
	for _, m := range g.members {
		if m.Dossier.Set().Name == set {
			return m
		}
	}
	return nil
}

// backup is the file of a run's backup.
func (r *Record) backup() string { return filepath.Join(r.Dir, r.Head.Backup) }
