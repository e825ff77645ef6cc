package run

import (
	"context"
	"time"

	"paletwin/internal/desk"
	"paletwin/internal/target"
)

// observe finds out, for what was handed over, what was done of it: what is
// seen done in the target is, and what is neither as before nor as meant may
// have been, and is looked at again.
func observe(ctx context.Context, t *desk.Dossier, tgt target.Target, at At, done map[unit]standingUnit, by string, now func() time.Time) error {
	h, ok := tgt.(target.Loader)
	if !ok {
		return nil
	}
	img, release, err := tgt.Table(ctx)
	if err != nil {
		return err
	}
	defer release()
	ever, err := everDone(t, at)
	if err != nil {
		return err
	}
	undone := takenBack(ever, done)
	steps, err := handedSteps(t, undone)
	if err != nil {
		return err
	}
	v := &Verification{set: t.Set().Name, later: &later{t: t, at: at}}
	if v.layout, err = t.Layout(); err != nil {
		return err
	}
	v.schema = v.layout.Schema()
	if err := v.lookUp(t, steps, Proof{Fresh: img, Name: h.From(), By: by, Now: now}); err != nil {
		return err
	}
	for _, s := range steps {
		if s.Outcome != Done && (s.Outcome != Unknown || s.kind == NotDone) {
			continue
		}
		for _, u := range s.units() {
			if _, there := done[u]; !there && undone[u] == nil {
				done[u] = standingUnit{s.of.Head.Run, s.Step}
			}
		}
	}
	return v.later.err
}

// confirmed returns, of steps whose answer was lost, the units that were carried
// out: those whose record is as they meant it.
func confirmed(ctx context.Context, t *desk.Dossier, tgt target.Target, at At) (map[unit]standingUnit, error) {
	found := map[unit]standingUnit{}
	if _, later := tgt.(target.Loader); later {
		return found, nil
	}
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	sc, err := t.Schema()
	if err != nil {
		return nil, err
	}
	for _, n := range runs {
		r, err := ReadRun(t, n)
		if err != nil {
			return nil, err
		}
		var open []*Step
		for _, s := range r.Steps {
			if s.Outcome == Unknown && !s.handed && r.Head.At() == at {
				open = append(open, s)
			}
		}
		states, err := tgt.Current(ctx, keys(open))
		if err != nil {
			return nil, err
		}
		for i, s := range open {
			if !s.stands(sc, r.Head.System, &states[i]) {
				continue
			}
			for _, u := range s.units() {
				found[u] = standingUnit{n, s}
			}
		}
	}
	return found, nil
}
