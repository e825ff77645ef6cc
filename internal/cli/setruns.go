package cli

import (
	"cmp"
	"context"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	"paletwin/internal/target"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

// applySets carries a dossier of several record sets out.
func (a *app) applySets(ctx context.Context, t *desk.Dossier, f *applyFlags) error {
	switch {
	case f.First > 0:
		return usage("--first is of one record set: name it with --record-set, or rehearse all with --rehearse")
	case f.detach:
		return usage("--detach is of one record set: name it with --record-set")
	case !f.yes && !a.asks && !f.Rehearse:
		return usage("apply writes to the target and there is nobody to ask: say --yes")
	}
	where, err := a.wheres(t, f.targetFlags)
	if err != nil {
		return err
	}
	progress := screen.NewProgress(a.say, a.asks && !a.quiet && !a.json, a.now)
	defer progress.Done()
	r := &update.ApplySets{Dossier: t, Where: where, Options: f.Options, Progress: progress.Step, Opened: func(name string, t target.Traits) { a.warnOf(name, t, f.Touched) }, Resumed: func(all []*update.SetReport) {
		progress.Done()
		a.hint("the last runs were interrupted; they are finished now, and it goes on with the rest")
		a.appliedSets(all)
	}}
	if !f.yes && !f.Rehearse {
		r.Confirm = func(sets []string, plans []*run.Plan, write []int, names []string) bool {
			return a.confirmSets(ctx, sets, plans, write, names)
		}
	}
	all, err := a.office().ApplySets(ctx, r)
	progress.Done()
	if err != nil {
		return err
	}
	if len(all) > 0 && all[0].Declined {
		a.hint("nothing was written")
		return exit(exitLook)
	}
	if a.json {
		var sets []any
		for _, s := range all {
			sets = append(sets, applyJSON(s.Dossier, s.Report))
		}
		if err := a.printJSON(setsOf(t, sets)); err != nil {
			return err
		}
	} else {
		a.appliedSets(all)
	}
	code, refused, ran := 0, false, false
	for _, s := range all {
		code = max(code, applyCode(s.Report, f.LeaveOpen))
		refused, ran = refused || s.Steps.Refused+s.Steps.Conflict+s.Left.Open+s.Left.Held > 0, ran || s.Run > 0
	}
	n := t.Meta.Number
	switch {
	case f.Rehearse:
		a.next("paletwin apply " + n)
	case refused && ran:
		a.next("paletwin show "+n, "paletwin rollback "+n)
	case ran:
		a.next("paletwin rollback " + n + "   (to undo it)")
	default:
		a.next("paletwin show " + n)
	}
	return exit(code)
}

// appliedSets says what the runs of several record sets did.
func (a *app) appliedSets(all []*update.SetReport) {
	if a.json {
		return
	}
	said := false
	var left run.Left
	for _, s := range all {
		left.Open, left.Held, left.Approved = left.Open+s.Left.Open, left.Held+s.Left.Held, left.Approved+s.Left.Approved
		if len(s.Attempted)+len(s.Waiting) == 0 && s.Run == 0 {
			continue
		}
		if said {
			a.out.Line("")
		}
		said = true
		_ = a.quietly(func() error { a.applied(s.Dossier, s.Report); return nil }) // it gives none
	}
	if !said {
		a.out.Line("nothing to carry out%s", leftWords(left))
	}
}

// confirmSets asks once, with the true numbers of all record sets.
func (a *app) confirmSets(ctx context.Context, sets []string, plans []*run.Plan, write []int, names []string) bool {
	tab := screen.Table{Indent: "  ", Right: []bool{false, true}}
	all := 0
	for i, p := range plans {
		if len(p.Steps) == 0 {
			continue
		}
		all += write[i]
		tab.Row(screen.Safe(sets[i]), screen.Strong(screen.Count(write[i])), "of "+screen.Count(len(p.Steps))+" approved", screen.Dim("to ")+a.shown(names[i]))
	}
	tab.Print(a.say)
	a.say.Line("%s will be written, after a backup of each", screen.Strong(screen.Plural(all, "record")))
	return a.goOn(ctx)
}

// rollbackSets makes a dossier that undoes the runs of several record sets.
func (a *app) rollbackSets(ctx context.Context, t *desk.Dossier, f *rollbackFlags) error {
	if err := f.check(a); err != nil {
		return err
	}
	if f.run > 0 || len(f.records)+len(f.fields)+len(f.list) > 0 {
		return &whichSet{t}
	}
	where, err := a.wheres(t, f.targetFlags)
	if err != nil {
		return err
	}
	if f.current != "" {
		if where, err = a.exportsOf(t, f.current); err != nil {
			return err
		}
	}
	made, err := a.office().RollbackSets(ctx, t, where, run.Undo{OtherTarget: f.other})
	a.made = err == nil
	if err != nil {
		return err
	}
	parts, err := made.Parts()
	if err != nil {
		return err
	}
	n := made.Meta.Number
	if a.json && !f.apply {
		var sets []any
		for _, p := range parts {
			sets = append(sets, map[string]any{"dossier": p.Meta.Number, "path": p.Rel(p.Dir), "undoes": p.Meta.Undoes, "changes": p.Set().Changes})
		}
		return a.printJSON(setsOf(made, sets))
	}
	if !a.json {
		if err := a.summarySets(made, parts); err != nil {
			return err
		}
	}
	if !f.apply {
		a.next("paletwin show "+n, "paletwin approve "+n+" --all && paletwin "+f.carries()+" "+n)
		return nil
	}
	touched := false
	for _, p := range parts {
		if _, err := p.Decide(&desk.Order{Decision: changeset.Approve, By: a.user, When: a.now(), Note: "rollback --apply", How: "rollback --apply"}); err != nil {
			return err
		}
		last, err := run.LastTarget(p)
		if err != nil {
			return err
		}
		touched = touched || last != nil && last.Touched
	}
	if !a.json {
		a.out.Line("")
	}
	return a.applySets(ctx, made, &applyFlags{targetFlags: f.targetFlags, yes: f.yes, Options: run.Options{OtherTarget: f.other, Touched: touched}})
}

// exportsOf are the fresh exports of several record sets, in a folder.
func (a *app) exportsOf(t *desk.Dossier, folder string) (map[string]update.Where, error) {
	all := map[string]update.Where{}
	for _, set := range t.SetNames() {
		file, err := a.within(t, folder, set)
		if err != nil {
			return nil, err
		}
		if file != "" {
			all[set] = update.Where{Current: file}
		}
	}
	return all, nil
}

// verifySets proves the record sets that have runs, by their targets or by a folder with fresh exports.
func (a *app) verifySets(ctx context.Context, t *desk.Dossier, fresh []string, to string, expect []string) error {
	if len(expect) > 0 || to != "" {
		return &whichSet{t}
	}
	exports := map[string]update.Where{}
	if len(fresh) > 0 {
		var err error
		if exports, err = a.exportsOf(t, fresh[0]); err != nil {
			return err
		}
	}
	parts, err := t.Parts()
	if err != nil {
		return err
	}
	var proven []*desk.Dossier
	for _, p := range parts {
		last, err := run.LastTarget(p)
		if err != nil {
			return err
		}
		if last != nil && (len(fresh) == 0 || exports[p.Set().Name].Current != "") {
			proven = append(proven, p)
		}
	}
	if len(proven) == 0 {
		return update.NothingDone(t)
	}
	return a.eachOf(proven, func(p *desk.Dossier) error { return a.verify(ctx, p, exports[p.Set().Name].Current, "", nil) })
}

// handoffSets makes load files of several record sets.
func (a *app) handoffSets(ctx context.Context, t *desk.Dossier, f *handoffFlags) error {
	o, err := f.options()
	switch {
	case err != nil:
		return err
	case f.First > 0:
		return usage("--first is of one record set: name it with --record-set")
	}
	r := &update.HandOffSets{Dossier: t, Files: o, Options: f.Options, Current: map[string]string{}}
	if f.current != "" {
		exports, err := a.exportsOf(t, f.current)
		if err != nil {
			return err
		}
		for set, w := range exports {
			r.Current[set] = w.Current
		}
	}
	if f.out != "" {
		r.Out = a.path(f.out)
	}
	progress := screen.NewProgress(a.say, a.asks && !a.quiet && !a.json, a.now)
	defer progress.Done()
	r.Progress = progress.Step
	all, parts, dir, err := a.office().HandOffSets(ctx, r)
	progress.Done()
	if err != nil {
		return err
	}
	code := 0
	var sets []any
	for i, rep := range all {
		code = max(code, applyCode(rep.Report, f.LeaveOpen))
		if a.json {
			j := applyJSON(parts[i], rep.Report).(map[string]any)
			delete(j, "verify")
			j["loads"], j["by_hand"] = orNone(rep.Loads), rep.ByHand
			sets = append(sets, j)
			continue
		}
		if i > 0 {
			a.out.Line("")
		}
		a.out.Line("%s", screen.Strong(screen.Safe(parts[i].Set().Name)))
		a.handedOff(parts[i], rep)
		a.waiting(rep.Waiting)
	}
	if a.json {
		return cmp.Or(a.printJSON(map[string]any{"dossier": t.Meta.Number, "folder": dir, "sets": sets}), exit(code))
	}
	if dir != "" {
		a.out.Line("")
		a.out.Line("%s  %s", screen.Strong(a.shown(dir)), screen.Dim("all of them, with the order in README.txt"))
		var collect []string
		for i, rep := range all {
			if rep.Dir != "" {
				collect = append(collect, "when it answers: paletwin handoff collect "+parts[i].Meta.Number+" RESULT")
			}
		}
		collect[0] = "load the files in the order of its README.txt, then: " + collect[0]
		a.next(collect...)
	}
	return exit(code)
}
