package run

import (
	"runtime"
	"runtime/debug"
	"slices"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/desk"
	"paletwin/internal/target"
)

// Plan is what a dossier's decisions would have a run do.
type Plan struct {
	Steps []*Step // in the change set's order
	Left  Left
	Done  int // changes that earlier runs carried out
	shelf shelf
}

// MakePlan takes the approved part of a dossier's change set, without what
// its runs have done at the target, undone since or not, unless the options say
// so. Linked changes are planned only if all of them are approved.
func MakePlan(t *desk.Dossier, c *desk.Changes, at At, o Options) (*Plan, error) {
	pass, only, unknown, err := left(t, at, o)
	if err != nil {
		return nil, err
	}
	manyStay(t.Set().Changes.Changes())
	parts := c.Parts(runtime.GOMAXPROCS(0) * 4)
	plans := make([]Plan, len(parts))
	waiting := make([][]string, len(parts)) // links of which a part is not approved
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, part := range parts {
		g.Go(func() error {
			reading := changeset.NewReading(c.Header.Fields)
			var states []changeset.State
			for line := range part.All() {
				ch, err := reading.Change(line)
				if err != nil {
					return err
				}
				states = c.Ledger.AppendStates(states[:0], line, ch)
				if approved := plans[i].take(ch, states, c.Ledger.Seen(line, ch), pass, only); !approved && ch.Linked != "" {
					waiting[i] = append(waiting[i], ch.Linked)
				}
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	p := merge(plans, waiting)
	if !o.Again {
		p.Left.Unknown = unknown
	}
	return p, nil
}

// manyStay says that so many steps may stay in memory: of very many the collector leaves less of it unused, which takes it little longer.
func manyStay(steps int) {
	if steps > 1<<17 {
		debug.SetGCPercent(30)
	}
}

// merge puts the plans of a change set's parts together, without the changes
// whose links wait.
func merge(plans []Plan, waiting [][]string) *Plan {
	p := new(Plan)
	waits := map[string]bool{}
	n := 0
	for _, x := range plans {
		n += len(x.Steps)
	}
	p.Steps = make([]*Step, 0, n)
	for i, x := range plans {
		p.Steps = append(p.Steps, x.Steps...)
		p.Left.Open += x.Left.Open
		p.Left.Held += x.Left.Held
		p.Left.Approved += x.Left.Approved
		p.Done += x.Done
		for _, link := range waiting[i] {
			waits[link] = true
		}
	}
	all := len(p.Steps)
	p.Steps = slices.DeleteFunc(p.Steps, func(s *Step) bool { return s.Linked() != "" && waits[s.Linked()] })
	p.Left.Held += all - len(p.Steps)
	return p
}

// take plans one change, and reports whether all of it is approved or done.
func (p *Plan) take(ch *changeset.Change, states []changeset.State, over record.Record, pass func(unit) bool, only map[unit]bool) bool {
	var room [8]changeset.Edit
	edits := room[:0]
	open, held, rejected, was, approved, later := false, false, false, false, false, false
	var waits []string // links of fields of which one is not approved
	for i, st := range states {
		u := unit{ch.ID, st.Field}
		if pass(u) {
			was = true
			continue
		}
		if st.Decision == changeset.Approve && only != nil && !only[u] {
			later = true
			continue
		}
		switch st.Decision {
		case changeset.Open:
			open = true
		case changeset.Hold:
			held = true
		case changeset.Reject:
			rejected = true
		case changeset.Approve:
			approved = true
			if ch.Act == changeset.Amend {
				f := ch.Fields[i].Edit
				f.To = st.Wanted(&ch.Fields[i])
				edits = append(edits, f)
			}
			continue
		}
		if ch.Act == changeset.Amend && ch.Fields[i].Linked != "" {
			waits = append(waits, ch.Fields[i].Linked)
		}
	}
	if len(waits) > 0 {
		all := len(edits)
		edits = slices.DeleteFunc(edits, func(f changeset.Edit) bool { return slices.Contains(waits, f.Linked) })
		held, approved = held || len(edits) < all, len(edits) > 0
	}
	switch {
	case open:
		p.Left.Open++
	case held:
		p.Left.Held++
	}
	if was {
		p.Done++
	}
	if later && !approved {
		p.Left.Approved++
	}
	if approved {
		s := p.shelf.step(Step{ID: ch.ID, Act: ch.Act, Key: p.shelf.Key(ch.Key), Fields: changeset.PackAmong(&p.shelf.Texts, edits), Record: ch.Chosen(states[0].Of).Pack()})
		if a := (apart{was: ch.Was, linked: ch.Linked, over: over.Pack()}); a != (apart{}) {
			s.apart = &a
		}
		p.Steps = append(p.Steps, s)
	}
	return !open && !held && !rejected
}

// keys returns the steps' keys in order.
func keys(steps []*Step) []record.Key {
	k := make([]record.Key, len(steps))
	for i, s := range steps {
		k[i] = s.Key
	}
	return k
}

// forTarget turns steps into what a target takes, each when it is asked for.
func (j *Job) forTarget(steps []*Step, before *formers) *sent {
	return &sent{j: j, steps: steps, before: before}
}

// Form returns how a record is to look.
func (x *sent) Form(i int) target.Form { return x.before.formOf(x.steps[i].ID) }

// sent are steps as a target takes them.
type sent struct {
	j      *Job
	steps  []*Step
	before *formers // how they are to look, not how they looked
	s      target.Step
}

func (x *sent) Len() int { return len(x.steps) }

func (x *sent) At(i int) *target.Step {
	s := x.steps[i]
	room := x.s.Fields[:0]
	x.s = s.forTarget(former{along: x.before.alongOf(s.ID)}, room)
	x.s.Cascade, x.s.Anew = x.j.Options.Cascade, x.j.Options.Anew
	return &x.s
}
