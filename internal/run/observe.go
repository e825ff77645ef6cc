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
func observe(ctx context.Context, t *desk.Dossier, tgt target.Target, at At, done units, by string, now func() time.Time) error {
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
			if !done.has(u) && !undone.has(u) {
				done.set(u, s.Step)
			}
		}
	}
	return v.later.err
}

// confirmed returns, of units whose answer was lost, those that were carried
// out: their record is as the step meant it.
func (p *past) confirmed(ctx context.Context, t *desk.Dossier, tgt target.Target, system []string) (units, error) {
	if p.unknown.none() {
		return units{}, nil
	}
	sc, err := t.Schema()
	if err != nil {
		return units{}, err
	}
	var steps []*Step
	for d := range p.unknown.shares() {
		steps = append(steps, d)
	}
	states, err := tgt.Current(ctx, keys(steps))
	if err != nil {
		return units{}, err
	}
	there := map[*Step]bool{}
	for i, s := range steps {
		there[s] = s.stands(sc, system, &states[i])
	}
	return p.unknown.where(func(_ unit, d *Step) bool { return there[d] }), nil
}
