package update

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strconv"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/handoff"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

// ApplySets asks to carry a dossier of several record sets out.
type ApplySets struct {
	Dossier *desk.Dossier
	Where   map[string]Where // by record set; of one that is missing the last run's target is meant
	Options run.Options
	// Opened, if not nil, is told of each target before anything is read of it.
	Opened func(name string, t target.Traits)
	// Confirm, if not nil, is asked before anything is written; sets, plans, the numbers of records
	// that would be written, and the targets' names are in one order.
	Confirm func(sets []string, plans []*run.Plan, write []int, names []string) bool
	// Progress, if not nil, is told what is being done.
	Progress func(what string, done, all int)
	// Resumed, if not nil, is told of interrupted runs that were finished first.
	Resumed func([]*SetReport)
}

// SetReport is what carrying one of several record sets out came to.
type SetReport struct {
	Dossier *desk.Dossier
	*run.Report
}

// ApplySets carries all record sets of a dossier out, under the locks of all. Sets of which nothing is
// approved and whose target is not known are passed over, and come last; the other reports are in the order of the
// sets.
func (o *Office) ApplySets(ctx context.Context, r *ApplySets) ([]*SetReport, error) {
	unlock, err := r.Dossier.LockAll()
	if err != nil {
		return nil, err
	}
	defer unlock()
	parts, err := r.Dossier.Parts()
	if err != nil {
		return nil, err
	}
	g := &run.Group{References: r.Dossier.Meta.References}
	var sets, names []string
	var passed []*SetReport
	for _, t := range parts {
		j, left, err := o.jobOf(ctx, t, r)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", t.Set().Name, err)
		}
		if j == nil {
			passed = append(passed, &SetReport{t, &run.Report{Left: left}})
			continue
		}
		defer j.Target.Close()
		g.Jobs = append(g.Jobs, j)
		sets, names = append(sets, t.Set().Name), append(names, j.Target.Name())
	}
	if r.Confirm != nil {
		g.Confirm = func(plans []*run.Plan, write []int) bool { return r.Confirm(sets, plans, write, names) }
	}
	reports, err := g.Apply(ctx)
	for err == nil && len(reports) > 0 && reports[0].Resumed {
		if r.Resumed != nil {
			r.Resumed(setReports(g, reports))
		}
		reports, err = g.Apply(ctx)
	}
	return append(setReports(g, reports), passed...), err
}

func setReports(g *run.Group, reports []*run.Report) []*SetReport {
	var all []*SetReport
	for i, rep := range reports {
		all = append(all, &SetReport{g.Jobs[i].Dossier, rep})
	}
	return all
}

// jobOf opens the target of one record set; nil where it has none and needs none, with what is left of it.
func (o *Office) jobOf(ctx context.Context, t *desk.Dossier, r *ApplySets) (*run.Job, run.Left, error) {
	w, said := r.Where[t.Set().Name]
	if !said {
		last, err := run.LastTarget(t)
		if err != nil {
			return nil, run.Left{}, err
		}
		if last == nil {
			if left, some, err := undecided(t); err != nil || !some {
				return nil, left, err
			}
		}
	}
	tgt, read, err := o.Target(ctx, t, w)
	if err != nil {
		return nil, run.Left{}, err
	}
	if err := tgt.Writable(ctx); err != nil {
		_ = tgt.Close() // the first error counts
		return nil, run.Left{}, err
	}
	if r.Opened != nil {
		r.Opened(tgt.Name(), tgt.Traits())
	}
	j := &run.Job{Dossier: t, Target: tgt, By: o.By, Now: o.Now, Options: r.Options, Progress: r.Progress}
	j.Options.Read = read
	return j, run.Left{}, nil
}

// undecided counts the records of a change set that are open or held, and reports whether something of it
// is approved.
func undecided(t *desk.Dossier) (left run.Left, approved bool, err error) {
	c, err := t.Changes()
	if err != nil {
		return left, false, err
	}
	defer c.Close()
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return left, false, err
		}
		of := map[changeset.Decision]bool{}
		for _, s := range c.Ledger.States(line, ch) {
			of[s.Decision] = true
		}
		switch approved = approved || of[changeset.Approve]; {
		case of[changeset.Open]:
			left.Open++
		case of[changeset.Hold]:
			left.Held++
		}
	}
	return left, approved, nil
}

// RollbackSets makes a dossier that undoes what the runs of all record sets of one did, as far as anything
// of them stands. where is as for ApplySets.
func (o *Office) RollbackSets(ctx context.Context, t *desk.Dossier, where map[string]Where, back run.Undo) (*desk.Dossier, error) {
	back.By, back.Now, back.Tool = o.By, o.Now, o.Tool
	parts, err := t.Parts()
	if err != nil {
		return nil, err
	}
	draft, err := t.Desk().Draft(o.By)
	if err != nil {
		return nil, err
	}
	made, err := o.rollbackSets(ctx, t, parts, where, back, draft)
	if err != nil {
		return nil, errors.Join(err, draft.Discard())
	}
	return made, nil
}

func (o *Office) rollbackSets(ctx context.Context, t *desk.Dossier, parts []*desk.Dossier, where map[string]Where, back run.Undo, draft *desk.Draft) (*desk.Dossier, error) {
	var metas []*desk.Meta
	for _, p := range parts {
		last, err := run.LastTarget(p)
		if err != nil {
			return nil, err
		}
		if last == nil {
			continue
		}
		var meta *desk.Meta
		err = o.undo(ctx, p, where[p.Set().Name], func(tgt target.Target, sheet string) (err error) {
			b := back
			b.Sheet = sheet
			meta, err = run.RollbackInto(ctx, p, tgt, b, draft.SetDir(p.Set().Name))
			return err
		})
		var none *run.Refusal
		if errors.As(err, &none) && none.Code == run.NothingDone {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.Set().Name, err)
		}
		metas = append(metas, meta)
	}
	if len(metas) == 0 {
		return nil, &run.Refusal{Code: run.NothingDone, Text: fmt.Sprintf("dossier %s has nothing that could be undone", t.Meta.Number)}
	}
	top := &desk.Meta{Title: "rollback of " + t.Meta.Number, By: o.By, When: o.Now().UTC(), Tool: o.Tool,
		References: t.Meta.References, Undoes: &desk.Undoes{Dossier: t.Meta.Number, Runs: []int{}}}
	return draft.KeepSets(top, metas)
}

// HandOffSets asks for load files of all record sets of a dossier.
type HandOffSets struct {
	Dossier  *desk.Dossier
	Files    handoff.Options
	Current  map[string]string // fresh exports by record set, by their absolute paths
	Options  run.Options
	Out      string // a new folder for the files, too, by its absolute path; "" is none
	Progress func(what string, done, all int)
}

// HandOffSets makes load files of all record sets, under the locks of all, and a folder with all of them
// and one README that says in which order they are loaded. dir is that folder, "" where nothing was made.
func (o *Office) HandOffSets(ctx context.Context, r *HandOffSets) (all []*HandedOff, parts []*desk.Dossier, dir string, err error) {
	if r.Out != "" {
		if _, err := o.FS.Lstat(r.Out); !errors.Is(err, fs.ErrNotExist) {
			return nil, nil, "", &Misuse{OutThere, []any{r.Out}}
		}
	}
	unlock, err := r.Dossier.LockAll()
	if err != nil {
		return nil, nil, "", err
	}
	defer unlock()
	if parts, err = r.Dossier.Parts(); err != nil {
		return nil, nil, "", err
	}
	g := &run.Group{References: r.Dossier.Meta.References}
	var systems []*system
	for _, t := range parts {
		sys, err := o.system(t, r.Files, r.Current[t.Set().Name])
		if err != nil {
			return nil, nil, "", fmt.Errorf("%s: %w", t.Set().Name, err)
		}
		defer sys.Close()
		j := &run.Job{Dossier: t, Target: sys, By: o.By, Now: o.Now, Options: r.Options, Progress: r.Progress}
		j.Options.Read, j.Options.RetryUnknown = sys.read, r.Current[t.Set().Name] != ""
		g.Jobs, systems = append(g.Jobs, j), append(systems, sys)
	}
	reports, err := g.Apply(ctx)
	if err != nil {
		return nil, nil, "", err
	}
	var made []*handoff.Part
	for i, rep := range reports {
		h := &HandedOff{Report: rep, ByHand: systems[i].ByHand, RunScript: systems[i].RunScript()}
		if len(rep.Loads) > 0 {
			h.Dir = systems[i].Dir(rep.Run)
			made = append(made, &handoff.Part{Set: parts[i].Set().Name, Dossier: parts[i].Meta.Number, Dir: h.Dir, Loads: rep.Loads, ByHand: h.ByHand, Run: h.RunScript})
		}
		all = append(all, h)
	}
	if len(made) == 0 {
		return all, parts, "", nil
	}
	dir, err = o.together(r, made)
	return all, parts, dir, err
}

// together puts the files of all sets into one folder of the dossier, and where they are wanted besides.
func (o *Office) together(r *HandOffSets, made []*handoff.Part) (string, error) {
	t := r.Dossier
	if err := o.FS.Mkdir(t.Path("load")); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	n := 1
	for ; ; n++ {
		if _, err := o.FS.Lstat(t.Path("load", strconv.Itoa(n))); errors.Is(err, fs.ErrNotExist) {
			break
		}
	}
	dir := t.Path("load", strconv.Itoa(n))
	stage := disk.TempName(dir)
	if err := o.FS.Mkdir(stage); err != nil {
		return "", err
	}
	err := func() error {
		for _, p := range made {
			if err := copyInto(o.FS, p.Dir, filepath.Join(stage, p.Set)); err != nil {
				return err
			}
		}
		if err := handoff.ReadMeOf(o.FS, filepath.Join(stage, handoff.ReadMe), t.Meta.Number, t.Meta.Title, made); err != nil {
			return err
		}
		if err := o.FS.SyncDir(stage); err != nil {
			return err
		}
		return disk.Replace(o.FS, stage, dir)
	}()
	if err != nil {
		_ = o.FS.RemoveAll(stage) // the first error counts
		return "", err
	}
	if r.Out == "" {
		return dir, nil
	}
	if err := copyFolder(o.FS, dir, r.Out); err != nil {
		return dir, &CopyError{dir, err}
	}
	return r.Out, nil
}
