package update

import (
	"context"
	"errors"
	"io/fs"

	"paletwin/internal/desk"
	"paletwin/internal/handoff"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

// Apply asks to carry a dossier out at a target.
type Apply struct {
	Dossier *desk.Dossier
	Where   Where
	Options run.Options
	// Opened, if not nil, is told of the target before anything is read of it.
	Opened func(name string, t target.Traits)
	// Confirm, if not nil, is asked before anything is written.
	Confirm func(p *run.Plan, write int, name string) bool
	// Progress, if not nil, is told what is being done.
	Progress func(what string, done, all int)
	// Resumed, if not nil, is told of an interrupted run that was finished first.
	Resumed func(*run.Report)
}

// Apply carries a dossier out, under its lock. A run that was interrupted is
// finished first. Errors are those of run.Apply and of the target's kind.
func (o *Office) Apply(ctx context.Context, r *Apply) (*run.Report, error) {
	lock, err := r.Dossier.Lock()
	if err != nil {
		return nil, err
	}
	defer lock.Unlock()
	tgt, read, err := o.Target(ctx, r.Dossier, r.Where)
	if err != nil {
		return nil, err
	}
	defer tgt.Close()
	if err := tgt.Writable(ctx); err != nil {
		return nil, err
	}
	if r.Opened != nil {
		r.Opened(tgt.Name(), tgt.Traits())
	}
	job := &run.Job{Dossier: r.Dossier, Target: tgt, By: o.By, Now: o.Now, Options: r.Options, Progress: r.Progress}
	job.Options.Read = read
	if r.Confirm != nil {
		job.Confirm = func(p *run.Plan, write int) bool { return r.Confirm(p, write, tgt.Name()) }
	}
	rep, err := run.Apply(ctx, job)
	if err == nil && rep.Resumed {
		if r.Resumed != nil {
			r.Resumed(rep)
		}
		rep, err = run.Apply(ctx, job)
	}
	return rep, err
}

// HandOff asks for load files of a dossier's approved changes.
type HandOff struct {
	Dossier  *desk.Dossier
	Files    handoff.Options
	Current  string // a fresh export, by its absolute path; "" is the snapshot
	Options  run.Options
	Out      string // a new folder for the files, too, by its absolute path; "" is none
	Progress func(what string, done, all int)
}

// HandedOff is what a hand-off made.
type HandedOff struct {
	*run.Report
	Dir       string // of the files; "" if none were made
	ByHand    int    // values that no file can put back
	RunScript string // how a script is run; "" of other forms
}

// CopyError says that files were made, in Dir, and could not be copied.
type CopyError struct {
	Dir string
	Err error
}

func (e *CopyError) Error() string { return e.Err.Error() }
func (e *CopyError) Unwrap() error { return e.Err }

// HandOff makes load files, under the dossier's lock.
func (o *Office) HandOff(ctx context.Context, r *HandOff) (*HandedOff, error) {
	if r.Out != "" {
		if _, err := o.FS.Lstat(r.Out); !errors.Is(err, fs.ErrNotExist) {
			return nil, &Misuse{OutThere, []any{r.Out}}
		}
	}
	lock, err := r.Dossier.Lock()
	if err != nil {
		return nil, err
	}
	defer lock.Unlock()
	sys, err := o.system(r.Dossier, r.Files, r.Current)
	if err != nil {
		return nil, err
	}
	defer sys.Close()
	job := &run.Job{Dossier: r.Dossier, Target: sys, By: o.By, Now: o.Now, Options: r.Options, Progress: r.Progress}
	job.Options.Read, job.Options.RetryUnknown = sys.read, r.Current != ""
	rep, err := run.Apply(ctx, job)
	if err != nil {
		return nil, err
	}
	made := &HandedOff{Report: rep, ByHand: sys.ByHand, RunScript: sys.RunScript()}
	if len(rep.Loads) == 0 {
		return made, nil
	}
	made.Dir = sys.Dir(rep.Run)
	if r.Out == "" {
		return made, nil
	}
	if err := copyFolder(o.FS, made.Dir, r.Out); err != nil {
		return nil, &CopyError{made.Dir, err}
	}
	made.Dir = r.Out
	return made, nil
}
