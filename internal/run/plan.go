package run

import (
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
}

// MakePlan takes the approved part of a dossier's change set, without what
// its runs have done and nothing has undone.
func MakePlan(t *desk.Dossier, c *desk.Changes) (*Plan, error) {
	done, err := standing(t)
	if err != nil {
		return nil, err
	}
	p := new(Plan)
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return nil, err
		}
		p.take(ch, c.Ledger.States(line, ch), done)
	}
	return p, nil
}

func (p *Plan) take(ch *changeset.Change, states []changeset.State, done map[unit]standingUnit) {
	s := &Step{ID: ch.ID, Act: ch.Act, Key: ch.Key}
	open, held, was := false, false, false
	approved := false
	for i, st := range states {
		if _, there := done[unit{ch.ID, st.Field}]; there {
			was = true
			continue
		}
		switch st.Decision {
		case changeset.Open:
			open = true
		case changeset.Hold:
			held = true
		case changeset.Approve:
			approved = true
			if ch.Act == changeset.Amend {
				s.Fields = append(s.Fields, ch.Fields[i])
			}
		}
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
	if approved {
		s.Record = ch.Record
		p.Steps = append(p.Steps, s)
	}
}

// keys returns the steps' keys in order.
func keys(steps []*Step) []record.Key {
	k := make([]record.Key, len(steps))
	for i, s := range steps {
		k[i] = s.Key
	}
	return k
}

// forTarget turns steps into what a target takes.
func forTarget(steps []*Step, forms map[changeset.ID]target.Form) []target.Step {
	out := make([]target.Step, len(steps))
	for i, s := range steps {
		out[i] = target.Step{ID: s.ID, Act: s.Act, Key: s.Key, Fields: s.Fields, Record: s.Record, Form: forms[s.ID]}
	}
	return out
}

// forms returns how the records that a rollback brings back looked before
// the runs it undoes, by the rollback's change ids.
func forms(t *desk.Dossier) (map[changeset.ID]target.Form, error) {
	u := t.Meta.Undoes
	if u == nil || u.Restore {
		return nil, nil
	}
	from, err := t.Desk().Dossier(u.Dossier, "")
	if err != nil {
		return nil, err
	}
	all := map[changeset.ID]target.Form{}
	for i := len(u.Runs) - 1; i >= 0; i-- { // the earliest run's form counts
		r, err := ReadRun(from, u.Runs[i])
		if err != nil {
			return nil, err
		}
		for _, s := range r.Steps {
			if s.Outcome == Done && s.Form.Kept {
				f := s.Form
				f.Age = u.Runs[i]
				all[changeset.MakeID(t.Set().Name, s.Key, s.Act.Inverse())] = f
			}
		}
	}
	return all, nil
}
