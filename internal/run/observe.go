package run

import (
	"context"
	"maps"
	"slices"
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
	if v.schema, err = t.Schema(); err != nil {
		return err
	}
	if err := v.giveKeys(t, steps, img); err != nil {
		return err
	}
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

// confirmed returns, of units whose answer was lost, those that were carried
// out: their record is as the step meant it.
func (p *past) confirmed(ctx context.Context, t *desk.Dossier, tgt target.Target, system []string) (map[unit]standingUnit, error) {
	if len(p.unknown) == 0 {
		return nil, nil
	}
	sc, err := t.Schema()
	if err != nil {
		return nil, err
	}
	units := slices.Collect(maps.Keys(p.unknown))
	steps := make([]*Step, len(units))
	for i, u := range units {
		steps[i] = p.unknown[u].step
	}
	states, err := tgt.Current(ctx, keys(steps))
	if err != nil {
		return nil, err
	}
	found := map[unit]standingUnit{}
	for i, u := range units {
		if steps[i].stands(sc, system, &states[i]) {
			found[u] = p.unknown[u]
		}
	}
	return found, nil
}
