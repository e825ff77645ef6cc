package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	"paletwin/internal/target/file"
	screen "paletwin/internal/term"
)

type applyFlags struct {
	to        string
	yes       bool
	leaveOpen bool
	run.Options
}

func (f *applyFlags) flags(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.StringVar(&f.to, "to", "", "the `target`: a CSV file (default: where the last run went)")
	fl.BoolVar(&f.yes, "yes", false, "do not ask")
	fl.BoolVar(&f.leaveOpen, "leave-open", false, "end with 0 although changes are left open or held")
	fl.IntVar(&f.First, "first", 0, "a trial: at most so many records")
	fl.BoolVar(&f.OtherTarget, "other-target", false, "go on although the target is not the one expected")
}

func newApply(a *app) *cobra.Command {
	var f applyFlags
	cmd := &cobra.Command{
		Use:   "apply NNNN --to TARGET",
		Short: "Carry the approved changes out: backup, rollback file, writing, proof",
		Example: `  paletwin apply 0001 --to register.csv --first 5
  paletwin apply 0001 --yes`,
		Args: exactly(1, 1, "a dossier: its number, its slug, or - for your newest"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if f.First < 0 {
				return usage("--first takes a number of records, not %d", f.First)
			}
			t, err := a.dossier(args[0])
			if err != nil {
				return err
			}
			return a.apply(cmd.Context(), t, &f)
		},
	}
	f.flags(cmd)
	return cmd
}

func (a *app) apply(ctx context.Context, t *desk.Dossier, f *applyFlags) error {
	if !f.yes && !a.asks {
		return usage("apply writes to the target and there is nobody to ask: say --yes")
	}
	lock, err := t.Lock()
	if err != nil {
		return err
	}
	defer lock.Unlock()
	tgt, err := a.target(t, f.to)
	if err != nil {
		return err
	}
	defer tgt.Close()
	if err := tgt.CanWrite(); err != nil {
		return err
	}
	if n := tgt.Links(); n > 1 {
		a.hint("%s has %d names (hard links); the others keep the old content", a.shown(tgt.Name()), n)
	}
	job := &run.Job{Dossier: t, Target: tgt, By: a.user, Now: a.now, Options: f.Options, Progress: a.progress}
	if !f.yes {
		job.Confirm = func(p *run.Plan, write int) bool { return a.confirm(t, p, write, tgt.Name()) }
	}
	rep, err := run.Apply(ctx, job)
	if err == nil && rep.Resumed {
		a.hint("run %d was interrupted; it is finished now, and goes on with the rest", rep.Run)
		a.applied(t, rep)
		rep, err = run.Apply(ctx, job)
	}
	if err != nil {
		return err
	}
	if rep.Declined {
		a.hint("nothing was written")
		return exit(exitLook)
	}
	if a.json {
		if err := a.printJSON(applyJSON(t, rep)); err != nil {
			return err
		}
	} else {
		a.applied(t, rep)
	}
	return exit(applyCode(rep, f.leaveOpen))
}

// applyCode is apply's exit code.
func applyCode(rep *run.Report, leaveOpen bool) int {
	switch {
	case rep.Steps.Refused > 0:
		return exitRefused
	case rep.Steps.Conflict > 0, rep.Left.Open+rep.Left.Held > 0 && !leaveOpen:
		return exitLook
	case rep.Verify != nil && !rep.Verify.Holds():
		return exitLook
	}
	return 0
}

// target opens the target that was named, or the last run's.
func (a *app) target(t *desk.Dossier, to string) (*file.File, error) {
	if to == "" {
		last, err := run.LastTarget(t)
		if err != nil {
			return nil, err
		}
		if last == "" {
			return nil, &run.Refusal{Code: run.NoTarget, Text: fmt.Sprintf("dossier %s has no target yet", t.Meta.Number)}
		}
		to = last
	}
	f, err := file.Open(a.fs, a.path(to), t.Set().Key)
	if errors.Is(err, fs.ErrPermission) {
		return nil, &fs.PathError{Op: "lock", Path: filepath.Dir(a.path(to)), Err: fs.ErrPermission}
	}
	return f, err
}

// progress says on the error output what is being done.
func (a *app) progress(what string, done, all int) {
	if a.asks && all > 0 {
		a.hint("%s", screen.Dim(fmt.Sprintf("%s: %s", what, screen.Plural(all, "record"))))
	}
}

// confirm asks once, with the true numbers.
func (a *app) confirm(t *desk.Dossier, p *run.Plan, write int, name string) bool {
	var n changeset.Counts
	for _, s := range p.Steps {
		n.Count(&changeset.Change{Act: s.Act, Fields: s.Fields})
	}
	var parts []string
	for _, x := range []struct {
		act string
		n   int
	}{{"amend", n.Amend}, {"add", n.Add}, {"delete", n.Delete}} {
		if x.n > 0 {
			parts = append(parts, screen.Act(x.act)+" "+screen.Strong(screen.Count(x.n)))
		}
	}
	a.say.Line("%s approved: %s", screen.Plural(len(p.Steps), "record"), strings.Join(parts, ", "))
	a.say.Line("%s will be written to %s, after a backup", screen.Strong(screen.Plural(write, "record")), a.shown(name))
	a.say.Print("go on? [y/N] ")
	line, err := bufio.NewReader(a.stdin).ReadString('\n')
	if err != nil {
		a.say.Line("")
		return false
	}
	answer := strings.ToLower(strings.TrimSpace(line))
	return answer == "y" || answer == "yes"
}

func applyJSON(t *desk.Dossier, rep *run.Report) any {
	j := map[string]any{"dossier": t.Meta.Number, "run": rep.Run, "target": rep.Target, "steps": rep.Steps, "left": rep.Left, "backup": nil, "verify": nil}
	if rep.Run > 0 {
		j["backup"] = t.Rel(rep.Backup)
	}
	if v := rep.Verify; v != nil {
		j["verify"] = map[string]int{"as_meant": v.AsMeant, "not_done": v.NotDone, "other": v.Other, "besides": v.Besides}
	}
	return j
}

// applied says what a run did.
func (a *app) applied(t *desk.Dossier, rep *run.Report) {
	if a.json {
		return
	}
	p := a.out
	if rep.Run == 0 {
		p.Line("nothing to carry out%s", leftWords(rep.Left))
		a.afterApply(t, rep)
		return
	}
	p.Line("%s run %d  %s %s", screen.Strong(t.Meta.Number), rep.Run, screen.Dim("to"), a.shown(rep.Target))
	p.Line("")
	tab := screen.Table{Indent: "  ", Right: []bool{false, true}}
	for _, x := range []struct {
		word string
		n    int
		more string
	}{
		{string(run.Done), rep.Steps.Done, ""},
		{string(run.Settled), rep.Steps.Settled, "the target had it already"},
		{string(run.Conflict), rep.Steps.Conflict, "changed there since the snapshot; left alone"},
		{string(run.Refused), rep.Steps.Refused, "the target would not take it"},
		{string(run.Skipped), rep.Steps.Skipped, "not attempted"},
	} {
		if x.n > 0 || x.word == string(run.Done) {
			tab.Row(x.word, screen.Strong(screen.Count(x.n)), screen.Dim(x.more))
		}
	}
	tab.Print(p)
	a.troubles(rep.Attempted)
	if s := leftWords(rep.Left); s != "" {
		p.Line("  %s", screen.Dim("left"+s))
	}
	p.Line("")
	p.Line("  %s  %s", screen.Dim("backup "), a.shown(rep.Backup))
	p.Line("  %s  %s", screen.Dim("outcome"), a.shown(rep.Outcome))
	if rep.Verify != nil {
		p.Line("")
		a.verified(t, rep.Verify)
	}
	a.afterApply(t, rep)
}

func leftWords(l run.Left) string {
	var parts []string
	for _, x := range []struct {
		n    int
		word string
	}{{l.Approved, "approved"}, {l.Open, "open"}, {l.Held, "held"}} {
		if x.n > 0 {
			parts = append(parts, screen.Count(x.n)+" "+x.word)
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return ": " + strings.Join(parts, ", ")
}

// troubles lists the steps that were not carried out, with their reasons.
func (a *app) troubles(steps []*run.Step) {
	tab := screen.Table{Indent: "    "}
	const most = 10
	left := 0
	for _, s := range steps {
		if s.Outcome != run.Conflict && s.Outcome != run.Refused {
			continue
		}
		if tab.Len() == most {
			left++
			continue
		}
		tab.Row(screen.Hue("delete", string(s.Outcome)), screen.Strong(screen.Value(s.Key.String(), 24)), screen.Safe(s.Reason))
	}
	if tab.Len() > 0 {
		tab.Print(a.out)
	}
	if left > 0 {
		a.out.Line("    %s", screen.Dim(fmt.Sprintf("and %s more in outcome.csv", screen.Count(left))))
	}
}

func (a *app) afterApply(t *desk.Dossier, rep *run.Report) {
	n := t.Meta.Number
	switch {
	case rep.Left.Approved > 0:
		a.next("paletwin apply "+n, "paletwin rollback "+n)
	case rep.Left.Open > 0:
		a.next("paletwin show "+n+" --decision open", "paletwin rollback "+n)
	case rep.Left.Held > 0:
		a.next("paletwin show "+n+" --decision hold", "paletwin rollback "+n)
	case rep.Run > 0:
		a.next("paletwin rollback " + n + "   (to undo it)")
	}
}
