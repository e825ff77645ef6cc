package update

import (
	"context"
	"errors"

	"paletwin/core/compare"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	"paletwin/internal/target"
	"paletwin/internal/target/open"
)

// Rollback makes a dossier that undoes what runs of t really did, as back asks.
func (o *Office) Rollback(ctx context.Context, t *desk.Dossier, w Where, back run.Undo) (made *desk.Dossier, err error) {
	back.By, back.Now, back.Tool = o.By, o.Now, o.Tool
	err = o.undo(ctx, t, w, func(tgt target.Target, sheet string) (err error) {
		back.Sheet = sheet
		made, err = run.Rollback(ctx, t, tgt, back)
		return err
	})
	return made, err
}

// Restore makes a dossier that returns the target to a backup, as back asks.
func (o *Office) Restore(ctx context.Context, t *desk.Dossier, w Where, back run.Restoration) (made *desk.Dossier, res *compare.Result, err error) {
	back.By, back.Now, back.Tool = o.By, o.Now, o.Tool
	err = o.undo(ctx, t, w, func(tgt target.Target, sheet string) (err error) {
		back.Sheet = sheet
		made, res, err = run.Restore(ctx, t, tgt, back)
		return err
	})
	return made, res, err
}

// Create makes the table anew that a dossier's runs went to and that is not there any more,
// by the definition that stands beside the backup of a run; 0 is the last. It says where it
// made it, and whether it is, by its own definition, what it was.
func (o *Office) Create(ctx context.Context, t *desk.Dossier, w Where, n int) (place string, same bool, err error) {
	last, err := LastAt(t, w.To)
	if err != nil {
		return "", false, err
	}
	if last == nil {
		return "", false, NothingDone(t)
	}
	if n == 0 {
		n = last.Run
	}
	r, err := run.ReadRun(t, n)
	if err != nil {
		return "", false, err
	}
	sql, err := run.Definition(t, r)
	if err != nil {
		return "", false, err
	}
	same, err = open.Create(ctx, o.FS, open.Place{Name: last.Target, Env: o.Env, Secret: o.Secret}, sql)
	return last.Target, same, err
}

// undo opens the state of what a dossier changed, under its lock.
func (o *Office) undo(ctx context.Context, t *desk.Dossier, w Where, with func(tgt target.Target, sheet string) error) error {
	lock, err := t.Lock()
	if err != nil {
		return err
	}
	defer lock.Unlock()
	if runs, err := run.Runs(t); err != nil || len(runs) == 0 {
		return errors.Join(err, NothingDone(t))
	}
	tgt, sheet, err := o.state(ctx, t, w)
	if err != nil {
		return err
	}
	err = with(tgt, sheet)
	if cerr := tgt.Close(); err == nil {
		err = cerr
	}
	return err
}
