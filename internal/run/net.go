package run

import (
	"slices"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
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
	run    int
	target string // where that run went
	step   *Step
}

// units returns the units of a step.
func (s *Step) units() []unit {
	if s.Act != changeset.Amend {
		return []unit{{s.ID, ""}}
	}
	u := make([]unit, len(s.Fields))
	for i, f := range s.Fields {
		u[i] = unit{s.ID, f.Field}
	}
	return u
}

// everDone returns the units that a dossier's runs did, undone since or not.
func everDone(t *desk.Dossier) (map[unit]standingUnit, error) {
	done := map[unit]standingUnit{}
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	for _, n := range runs {
		r, err := ReadRun(t, n)
		if err != nil {
			return nil, err
		}
		for _, s := range r.Steps {
			if s.Outcome != Done {
				continue
			}
			for _, u := range s.units() {
				done[u] = standingUnit{n, r.Head.Target, s}
			}
		}
	}
	return done, nil
}

// left returns what a plan passes over: what was done, unless it is to be
// done again, and what was handed over, whatever was answered. Of a retry the
// plan takes only what a system refused, or, where the target shows what it
// has, did not answer: only is then that, else nil.
func left(t *desk.Dossier, o Options) (pass func(unit) bool, only map[unit]bool, err error) {
	done, err := everDone(t)
	if err != nil {
		return nil, nil, err
	}
	handed, refused, err := everHanded(t, o.RetryUnknown)
	if err != nil {
		return nil, nil, err
	}
	pass = func(u unit) bool {
		_, there := done[u]
		return !o.Again && (there || handed[u] && !(o.Retry && refused[u]))
	}
	if o.Retry {
		only = refused
	}
	return pass, only, nil
}

// everHanded returns the units that stand in load files, and those of them
// that were refused at last, or, if unknown counts too, were not answered.
func everHanded(t *desk.Dossier, unknown bool) (handed, refused map[unit]bool, err error) {
	handed, refused = map[unit]bool{}, map[unit]bool{}
	runs, err := Runs(t)
	if err != nil {
		return nil, nil, err
	}
	for _, n := range runs {
		r, err := ReadRun(t, n)
		if err != nil {
			return nil, nil, err
		}
		if len(r.Loads) == 0 {
			continue
		}
		for _, s := range r.Steps {
			for _, u := range s.handedUnits() {
				handed[u] = true
				refused[u] = s.Outcome == Refused || s.Outcome == Unknown && unknown || slices.Contains(s.Left, u.field)
			}
		}
	}
	return handed, refused, nil
}

// handedUnits returns the units of a step that stand in load files.
func (s *Step) handedUnits() []unit {
	if !s.handed {
		return nil
	}
	return (&Step{ID: s.ID, Act: s.Act, Fields: s.all}).units()
}

// standing returns the units that a dossier's runs did and that no rollback
// has undone since.
func standing(t *desk.Dossier) (map[unit]standingUnit, error) {
	done, err := everDone(t)
	if err != nil || len(done) == 0 {
		return done, err
	}
	backs, err := t.Desk().Undoing(t.Meta.Number)
	if err != nil {
		return nil, err
	}
	for _, b := range backs {
		undone, err := standing(b)
		if err != nil {
			return nil, err
		}
		for u, d := range done {
			back := changeset.MakeID(t.Set().Name, d.step.Key, d.step.Act.Inverse())
			if _, ok := undone[unit{back, u.field}]; ok && slices.Contains(b.Meta.Undoes.Runs, d.run) {
				delete(done, u)
			}
		}
	}
	return done, nil
}

// takenBack returns the units that were done once and do not stand, with the
// steps that did them.
func takenBack(ever, standing map[unit]standingUnit) map[unit]*Step {
	back := map[unit]*Step{}
	for u, d := range ever {
		if _, stands := standing[u]; !stands {
			back[u] = d.step
		}
	}
	return back
}
