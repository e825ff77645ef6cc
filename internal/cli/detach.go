package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"paletwin/internal/desk"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
)

// logName is the file in a dossier that a detached run's output goes to.
const logName = "detached.log"

// newLog makes the log of a dossier's apply that goes on by itself, in the place of an earlier one.
func newLog(t *desk.Dossier) (*os.File, error) {
	name := t.Path(logName)
	if err := t.FS().Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	made, err := t.FS().Create(name, 0o600)
	if err != nil {
		return nil, err
	}
	if err := made.Close(); err != nil {
		return nil, err
	}
	return os.OpenFile(name, os.O_RDWR, 0)
}

// detach starts the same apply in a process of its own, which goes on when
// this one and its terminal are gone, and waits only until the run has its
// number or has failed.
func (a *app) detach(t *desk.Dossier, yes bool) error {
	if !yes {
		return usage("apply --detach runs without you: say --yes")
	}
	before, err := run.Runs(t)
	if err != nil {
		return err
	}
	log, err := newLog(t)
	if err != nil {
		return err
	}
	defer log.Close()
	program, err := os.Executable()
	if err != nil {
		return err
	}
	args := slices.DeleteFunc(slices.Clone(os.Args[1:]), func(s string) bool { return strings.HasPrefix(s, "--detach") })
	cmd := exec.Command(program, args...)
	cmd.Stdout, cmd.Stderr, cmd.Dir = log, log, a.wd
	setApart(cmd)
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	n, err := a.awaitRun(t, len(before), ended)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"dossier": t.Meta.Number, "run": n, "log": t.Rel(t.Path(logName))})
	}
	a.out.Line("run %d of %s goes on by itself", n, t.Meta.Number)
	a.next(fmt.Sprintf("paletwin history %s --run %d --follow", t.Meta.Number, n))
	return nil
}

// awaitRun waits until the started process has begun or finished a run, and
// returns its number. If it ends without one, what it said is passed on.
func (a *app) awaitRun(t *desk.Dossier, before int, ended <-chan error) (int, error) {
	for done := false; ; {
		runs, err := run.Runs(t)
		if err != nil {
			return 0, err
		}
		if len(runs) > before {
			return runs[len(runs)-1], nil
		}
		if done {
			log, err := os.ReadFile(t.Path(logName))
			if err != nil {
				return 0, err
			}
			a.say.Print("%s", string(log))
			return 0, exit(exitFailed)
		}
		select {
		case err := <-ended:
			var code *exec.ExitError
			if err != nil && !errors.As(err, &code) {
				return 0, err
			}
			done = true
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// follow shows a run's progress until nobody works on it. It ends as the apply
// did; a run that was killed has failed.
func (a *app) follow(ctx context.Context, t *desk.Dossier, n int) error {
	p := screen.NewProgress(a.say, a.asks && !a.quiet && !a.json, a.now)
	for {
		working := run.Working(t)
		r, err := run.ReadRun(t, n)
		if err != nil {
			return err
		}
		c := r.Counts()
		p.Step("writing", len(r.Steps)-c.Skipped, r.Head.Steps)
		if !working {
			p.Done()
			if err := a.showRun(t, r); err != nil {
				return err
			}
			if r.Ended == "" {
				return exit(exitFailed)
			}
			rep, err := run.ReportOf(t, r)
			if err != nil {
				return err
			}
			return exit(applyCode(rep, r.Head.LeaveOpen))
		}
		select {
		case <-ctx.Done():
			p.Done()
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// showRun prints what became of one run.
func (a *app) showRun(t *desk.Dossier, r *run.Record) error {
	running := r.Ended == "" && run.Working(t)
	if a.json {
		state := r.Ended
		if state == "" {
			state = "interrupted"
			if running {
				state = "running"
			}
		}
		return a.printJSON(map[string]any{"dossier": t.Meta.Number, "run": r.Head.Run, "target": r.Head.Target, "by": r.Head.By, "when": r.Head.When,
			"state": state, "steps": r.Counts(), "backup": t.Rel(filepath.Join(r.Dir, r.Head.Backup))})
	}
	a.out.Line("%s run %d  %s %s", screen.Strong(t.Meta.Number), r.Head.Run, screen.Dim("to"), a.shown(r.Head.Target))
	a.out.Line("  %s", r.Counts())
	a.troubles(r.Steps)
	for _, h := range r.Heard {
		a.out.Line("  %s", screen.Dim("learnt from "+screen.Safe(h.String())))
	}
	goOn := "paletwin apply " + t.Meta.Number
	if r.Head.Handoff {
		goOn = "paletwin handoff " + t.Meta.Number
	}
	switch {
	case running:
		a.out.Line("  %s", screen.Strong("running"))
	case r.Ended == "":
		a.out.Line("  %s", screen.Level("warn")+"  interrupted: no process is working on it")
		a.next(goOn + "   (finishes it first)")
	case r.Ended == "stopped":
		a.out.Line("  %s", screen.Level("warn")+"  ended early")
		a.next(goOn)
	}
	return nil
}
