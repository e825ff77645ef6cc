package run

import (
	"iter"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/schema"
	"paletwin/internal/desk"
	"paletwin/internal/target"
)

// past is what a dossier's runs came to, unit by unit.
type past struct {
	done    units // done at the target, undone since or not
	unknown units // of which the target lost the answer, and which no later run settled
	handed  units // in load files, wherever these go, by the last step that has it
}

// readPast reads a dossier's runs, as far as they went to a target, but for those that are at hand.
func readPast(t *desk.Dossier, at At, atHand ...*Record) (*past, error) {
	var runs []*Record
	for r, err := range allRuns(t, atHand...) {
		if err != nil {
			return nil, err
		}
		runs = append(runs, r)
	}
	return pastOf(runs, at), nil
}

// pastOf is what runs came to, the first one first, as far as they went to a target.
func pastOf(runs []*Record, at At) *past {
	most := 0
	for _, r := range runs {
		most = max(most, len(r.Steps))
	}
	p := &past{makeUnits(most), makeUnits(0), makeUnits(0)}
	for _, r := range runs {
		for _, s := range r.Steps {
			if r.Head.At() == at {
				p.take(s)
			}
			if len(r.Loads) > 0 && s.handed {
				p.handed.takeFields(s, s.all())
			}
		}
	}
	return p
}

func (p *past) take(s *Step) {
	switch {
	case s.Outcome == Done:
		p.done.take(s)
	case s.Outcome == Unknown && !s.handed:
		p.unknown.take(s)
		return
	case s.Outcome != Settled:
		return
	}
	if p.unknown.none() {
		return
	}
	for _, u := range s.units() {
		before, open := p.unknown.get(u)
		if open && s.Outcome == Settled { // which that run did
			p.done.set(u, before)
		}
		if open {
			p.unknown.drop(u)
		}
	}
}

// allRuns reads a dossier's runs, the first one first, but for those that are at hand: they are what would be read.
func allRuns(t *desk.Dossier, atHand ...*Record) iter.Seq2[*Record, error] {
	return func(yield func(*Record, error) bool) {
		runs, err := Runs(t)
		if err != nil {
			yield(nil, err)
			return
		}
		for _, n := range runs {
			if i := slices.IndexFunc(atHand, func(r *Record) bool { return r.Head.Run == n }); i >= 0 {
				if !yield(atHand[i], nil) {
					return
				}
				continue
			}
			if r, err := ReadRun(t, n); !yield(r, err) || err != nil {
				return
			}
		}
	}
}

// everDone returns the units that a dossier's runs did at a target, undone
// since or not.
func everDone(t *desk.Dossier, at At) (units, error) {
	p, err := readPast(t, at)
	if err != nil {
		return units{}, err
	}
	return p.done, nil
}

// keylessUnknown counts new records to which the target gives their keys, and of which it is not known whether it has them: it is for
// somebody who looks to say.
func (p *past) keylessUnknown() int {
	ids := map[changeset.ID]bool{}
	for d := range p.unknown.shares() {
		if schema.IsNew(d.Key) {
			ids[d.ID] = true
		}
	}
	return len(ids)
}

// left returns what a plan passes over: what was done, unless it is to be
// done again, what was handed over, whatever was answered, and new records of which
// it is not known whether the target has them, under a key that it gave. Of a retry the
// plan takes only what a system refused, or, where the target shows what it
// has, did not answer: only is then that, else nil.
func left(t *desk.Dossier, at At, o Options) (pass func(unit) bool, only map[unit]bool, unknown int, err error) {
	if o.Again { // whatever was done
		return func(unit) bool { return false }, nil, 0, nil
	}
	p, err := readPast(t, at)
	if err != nil {
		return nil, nil, 0, err
	}
	refused := map[unit]bool{}
	for u, d := range p.handed.all() {
		s := d
		if s.Outcome == Refused || s.Outcome == Unknown && o.RetryUnknown || slices.Contains(s.Rare().Left, u.field) {
			refused[u] = true
		}
	}
	pass = func(u unit) bool {
		lost, open := p.unknown.get(u)
		return p.done.has(u) || open && schema.IsNew(lost.Key) || p.handed.has(u) && !(o.Retry && refused[u])
	}
	if o.Retry {
		only = refused
	}
	return pass, only, p.keylessUnknown(), nil
}

// standing returns the units that a dossier's runs did at a target and that no
// rollback has undone there since.
func standing(t *desk.Dossier, at At) (units, error) {
	p, err := readPast(t, at)
	if err != nil {
		return units{}, err
	}
	return p.standing(t, units{})
}

// standing is what stands of the past, with units of which it was found out that they
// were done, too. It may be the past's own: only one of the two is gone on with.
func (p *past) standing(t *desk.Dossier, confirmed units) (units, error) {
	if p.done.none() && confirmed.none() {
		return p.done, nil
	}
	done := p.done
	if !confirmed.none() {
		done = done.clone()
	}
	for u, d := range confirmed.all() {
		if !done.has(u) {
			done.set(u, d)
		}
	}
	backs, err := t.Desk().Undoing(t.Meta.Number)
	if err != nil {
		return units{}, err
	}
	for _, b := range backs {
		undone, err := standingAnywhere(b)
		if err != nil {
			return units{}, err
		}
		if undone.none() {
			continue
		}
		var of, back changeset.ID
		done = done.where(func(u unit, d *Step) bool {
			if u.id != of {
				of, back = u.id, changeset.MakeID(t.Set().Name, d.Key, d.Act.Inverse())
			}
			return !undone.has(unit{back, u.field}) || !slices.Contains(b.Meta.Undoes.Runs, int(d.run))
		})
	}
	return done, nil
}

// standingAnywhere returns the units of a dossier that stand at any target. One
// that undoes runs goes to their target, under whatever name.
func standingAnywhere(t *desk.Dossier) (units, error) {
	all, runs, err := targets(t)
	if err != nil {
		return units{}, err
	}
	anywhere := makeUnits(0)
	for i, at := range all {
		done, err := pastOf(runs, at).standing(t, units{})
		if err != nil {
			return units{}, err
		}
		if i == 0 {
			anywhere = done
			continue
		}
		for u, d := range done.all() {
			if !anywhere.has(u) {
				anywhere.set(u, d)
			}
		}
	}
	return anywhere, nil
}

// at returns which of the targets of a dossier a state is of that is read of a
// target: its own, or, where other says that it is the last one's under another
// name, that.
func (t *wayBack) at(tgt target.Target) (At, error) {
	at := At{tgt.Name(), t.sheet}
	all, err := Targets(t.of)
	switch {
	case err != nil || slices.Contains(all, at) || len(all) == 0:
		return at, err
	case t.other:
		return all[0], nil
	}
	return at, refuse(OtherTarget, "no run of dossier %s went to %s; the last one went to %s", t.of.Meta.Number, at.Target, all[0].Target)
}

// wayBack is a dossier that is to be undone, as the command says where.
type wayBack struct {
	of    *desk.Dossier
	sheet string
	other bool
}

// Targets lists where a dossier's runs went, each once, the last one first.
func Targets(t *desk.Dossier) (all []At, err error) {
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	for _, n := range slices.Backward(runs) {
		h, err := ReadHead(t, n)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(all, h.At()) {
			all = append(all, h.At())
		}
	}
	return all, nil
}

// targets is Targets, with the runs, the first one first.
func targets(t *desk.Dossier) (all []At, runs []*Record, err error) {
	for r, err := range allRuns(t) {
		if err != nil {
			return nil, nil, err
		}
		runs = append(runs, r)
	}
	for _, r := range slices.Backward(runs) {
		if !slices.Contains(all, r.Head.At()) {
			all = append(all, r.Head.At())
		}
	}
	return all, runs, nil
}

// Changed counts the steps of a dossier that stand, by target, the last one
// first; targets at which none does are left out.
func Changed(t *desk.Dossier) (at []At, steps []int, err error) {
	all, runs, err := targets(t)
	if err != nil {
		return nil, nil, err
	}
	for _, x := range all {
		n, err := standingSteps(t, runs, x)
		if err != nil {
			return nil, nil, err
		}
		if n > 0 {
			at, steps = append(at, x), append(steps, n)
		}
	}
	return at, steps, nil
}

// standingSteps counts the steps of a dossier's runs that stand at a target, whole or in part.
func standingSteps(t *desk.Dossier, runs []*Record, at At) (int, error) {
	done, err := pastOf(runs, at).standing(t, units{})
	steps := 0
	for range done.shares() {
		steps++
	}
	return steps, err
}

// takenBack returns the units that were done once and do not stand, with the
// steps that did them.
func takenBack(ever, standing units) units {
	back := makeUnits(0)
	for d, fields := range ever.shares() {
		id := d.ID
		if d.Act != changeset.Amend {
			if !standing.has(unit{id, ""}) {
				back.take(d)
			}
		} else if stays := standing.standing(id, fields); stays != fields {
			back.takeFields(d, fields.Where(func(f changeset.Edit) bool { return !standing.has(unit{id, f.Field}) }))
		}
	}
	return back
}
