package update

import (
	"context"
	"fmt"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
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
// approved and whose target is not known are passed over. The reports are in the dossier's order of its
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
	for _, t := range parts {
		j, err := o.jobOf(ctx, t, r)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", t.Set().Name, err)
		}
		if j == nil {
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
	return setReports(g, reports), err
}

func setReports(g *run.Group, reports []*run.Report) []*SetReport {
	var all []*SetReport
	for i, rep := range reports {
		all = append(all, &SetReport{g.Jobs[i].Dossier, rep})
	}
	return all
}

// jobOf opens the target of one record set; nil where it has none and needs none.
func (o *Office) jobOf(ctx context.Context, t *desk.Dossier, r *ApplySets) (*run.Job, error) {
	w, said := r.Where[t.Set().Name]
	if !said {
		last, err := run.LastTarget(t)
		if err != nil {
			return nil, err
		}
		if last == nil {
			if some, err := anyApproved(t); err != nil || !some {
				return nil, err
			}
		}
	}
	tgt, read, err := o.Target(ctx, t, w)
	if err != nil {
		return nil, err
	}
	if err := tgt.Writable(ctx); err != nil {
		_ = tgt.Close() // the first error counts
		return nil, err
	}
	if r.Opened != nil {
		r.Opened(tgt.Name(), tgt.Traits())
	}
	j := &run.Job{Dossier: t, Target: tgt, By: o.By, Now: o.Now, Options: r.Options, Progress: r.Progress}
	j.Options.Read = read
	return j, nil
}

// anyApproved reports whether something of a change set is approved.
func anyApproved(t *desk.Dossier) (bool, error) {
	c, err := t.Changes()
	if err != nil {
		return false, err
	}
	defer c.Close()
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return false, err
		}
		for _, s := range c.Ledger.States(line, ch) {
			if s.Decision == changeset.Approve {
				return true, nil
			}
		}
	}
	return false, nil
}
