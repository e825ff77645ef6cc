package cli

import (
	"bufio"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/words"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	"paletwin/internal/target"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

type applyFlags struct {
	targetFlags
	yes       bool
	detach    bool
	stopAfter string
	run.Options
}

func (f *applyFlags) flags(cmd *cobra.Command) {
	fl := cmd.Flags()
	f.targetFlags.flags(fl)
	fl.BoolVar(&f.yes, "yes", false, "do not ask")
	fl.BoolVar(&f.LeaveOpen, "leave-open", false, "end with 0 although changes are left open or held")
	fl.IntVar(&f.First, "first", 0, "a trial: at most so many records")
	fl.BoolVar(&f.Rehearse, "rehearse", false, "read and check everything, and write nothing")
	fl.BoolVar(&f.PerField, "per-field", false, "write the fields of a record that are as the snapshot had them, though others are not")
	fl.BoolVar(&f.Overwrite, "overwrite-conflicts", false, "write over conflicts approved with the same flag, if the target is still as it was then")
	fl.BoolVar(&f.Cascade, "cascade", false, "of a database: delete records although others that refer to them go, or change, along with them")
	fl.BoolVar(&f.Anew, "delete-and-add", false, "of a service: change keys by deleting records and adding them; what refers to them, and what the service writes itself, is lost")
	fl.BoolVar(&f.withdraw, "withdraw", false, "of a service: where Ctrl-C ends the run, have it drop what it has begun and not answered")
	fl.BoolVar(&f.Touched, "touched", false, "of a database or service: read, back up and prove the records alone that are touched")
	fl.BoolVar(&f.Again, "again", false, "do again what earlier runs did")
	fl.IntVar(&f.Batch, "batch", 0, "at most so many records a batch")
	fl.DurationVar(&f.Pause, "pause", 0, "wait so long between batches: 2s, 1m")
	fl.StringVar(&f.stopAfter, "stop-after", "", "give up after so many refusals, `N` or N%")
	fl.StringSliceVar(&f.System, "system-fields", nil, "`fields` that the target writes itself")
	fl.BoolVar(&f.detach, "detach", false, "return at once with the run's number; needs --yes")
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
			t, err := a.whole(args[0])
			if err != nil {
				return err
			}
			if err := a.tuneTo(cmd, t, strings.Join(f.tos, "")); err != nil {
				return err
			}
			if err := f.check(); err != nil {
				return err
			}
			if t.Several() {
				return a.applySets(cmd.Context(), t, &f)
			}
			if f.detach {
				return a.detach(t, f.yes)
			}
			return a.apply(cmd.Context(), t, &f)
		},
	}
	f.flags(cmd)
	return cmd
}

// check completes the flags, or says what is wrong with them.
func (f *applyFlags) check() error {
	if f.First < 0 || f.Batch < 0 || f.Pause < 0 {
		return usage("--first, --with batch and --with pause take no negative number")
	}
	if f.stopAfter == "" {
		return nil
	}
	text, percent := strings.CutSuffix(f.stopAfter, "%")
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || n <= 0 || percent && n > 100 || !percent && n != math.Trunc(n) {
		return usage("--with stop-after takes a number of refusals or a share: 10 or 5%%, not %q", f.stopAfter)
	}
	if percent {
		f.StopAfter.Percent = n
	} else {
		f.StopAfter.Refusals = int(n)
	}
	return nil
}

func (a *app) apply(ctx context.Context, t *desk.Dossier, f *applyFlags) error {
	if !f.yes && !a.asks && !f.Rehearse {
		return usage("apply writes to the target and there is nobody to ask: say --yes")
	}
	where, err := a.where(t, f.targetFlags)
	if err != nil {
		return err
	}
	progress := screen.NewProgress(a.say, a.asks && !a.quiet && !a.json, a.now)
	defer progress.Done()
	r := &update.Apply{Dossier: t, Where: where, Options: f.Options, Progress: progress.Step, Opened: func(name string, t target.Traits) { a.warnOf(name, t, f.Touched) }, Resumed: func(rep *run.Report) {
		progress.Done()
		a.hint("run %d was interrupted; it is finished now, and goes on with the rest", rep.Run)
		a.applied(t, rep)
	}}
	if !f.yes && !f.Rehearse {
		r.Confirm = func(p *run.Plan, write int, name string) bool { return a.confirm(ctx, p, write, name) }
	}
	rep, err := a.office().Apply(ctx, r)
	progress.Done()
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
	return exit(applyCode(rep, f.LeaveOpen))
}

// warnOf says what writing a target does besides.
func (a *app) warnOf(name string, t target.Traits, touched bool) {
	const large = 100 << 20 // bytes that are worth a word before they are read, and kept
	switch {
	case touched && t.Narrow:
		a.hint("%s: the backup and the proof are of the records alone that are touched", a.shown(name))
	case t.Narrow && t.Size >= large:
		a.hint("%s: the backup is of all records, up to %s of them, and the proof reads these again; --with touched has both be of the records alone that are touched", a.shown(name), words.Size(t.Size))
	}
	if t.Links > 1 {
		a.hint("%s has %d names (hard links); the others keep the old content", a.shown(name), t.Links)
	}
	if t.Owner != "" {
		a.hint("%s belongs to %s; written anew it belongs to you", a.shown(name), screen.Safe(t.Owner))
	}
	for _, n := range t.Notes {
		a.hint("%s: %s", a.shown(name), screen.Safe(n))
	}
}

// applyCode is apply's exit code.
func applyCode(rep *run.Report, leaveOpen bool) int {
	switch {
	case rep.Steps.Refused > 0:
		return exitRefused
	case !rep.Handed && rep.Steps.Unknown > 0, rep.Stopped, rep.Steps.Conflict+rep.Partly > 0, rep.Left.Open+rep.Left.Held > 0 && !leaveOpen, rep.Left.Unknown > 0:
		return exitLook
	case rep.Steps.Undone+len(rep.Waiting) > 0:
		return exitLook
	case rep.Verify != nil && !rep.Verify.Holds():
		return exitLook
	}
	return 0
}

// confirm asks once, with the true numbers.
func (a *app) confirm(ctx context.Context, p *run.Plan, write int, name string) bool {
	var n changeset.Counts
	for _, s := range p.Steps {
		n.Count(&changeset.Change{Act: s.Act})
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
	return a.goOn(ctx)
}

// goOn asks whether to go on. An interrupt is a no.
func (a *app) goOn(ctx context.Context) bool {
	a.say.Print("go on? [y/N] ")
	said := make(chan string, 1)
	go func() { // it ends with the process where nothing is said
		line, err := bufio.NewReader(a.stdin).ReadString('\n')
		if err != nil {
			line = ""
		}
		said <- line
	}()
	select {
	case line := <-said:
		answer := strings.ToLower(strings.TrimSpace(line))
		return answer == "y" || answer == "yes"
	case <-ctx.Done():
		a.say.Line("")
		return false
	}
}

func applyJSON(t *desk.Dossier, rep *run.Report) any {
	j := map[string]any{"dossier": t.Meta.Number, "run": nil, "target": rep.Target, "steps": rep.Steps, "left": rep.Left, "backup": nil, "verify": nil}
	if rep.Rehearsed {
		j["rehearsed"] = true
	}
	if len(rep.Waiting) > 0 {
		var waits []any
		for _, s := range rep.Waiting {
			waits = append(waits, map[string]any{"key": keyJSON(t.Set().Key, s.Key), "reason": s.Reason})
		}
		j["waiting"] = waits
	}
	if rep.Waits > 0 {
		j["waited"] = map[string]any{"times": rep.Waits, "seconds": rep.WaitedIn.Seconds()}
	}
	if len(rep.Claimed) > 0 {
		var claimed []map[string]string
		for _, c := range rep.Claimed {
			claimed = append(claimed, map[string]string{"by": c.Name, "via": c.Via})
		}
		j["claimed"] = claimed
	}
	if rep.Run > 0 {
		j["run"], j["backup"] = rep.Run, t.Rel(rep.Backup)
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
	for _, c := range rep.Claimed {
		a.hint("the second look is %s's, as %s says: desk.yaml lets names be claimed", screen.Safe(c.Name), screen.Safe(c.Via))
	}
	if len(rep.Attempted) == 0 && rep.Run == 0 {
		p.Line("nothing to carry out%s", leftWords(rep.Left))
		a.waiting(rep.Waiting)
		a.afterApply(t, rep)
		return
	}
	if rep.Run == 0 && !rep.Rehearsed {
		p.Line("%s nothing was written  %s %s", screen.Strong(t.Meta.Number), screen.Dim("to"), a.shown(rep.Target))
		p.Line("")
		a.outcomes(left(rep.Steps, "the target had it already", "changed there since the snapshot; left alone", "the target would not take it")...)
		a.troubles(rep.Attempted)
		p.Line("  %s  --with stop-after: so many would be refused that the run does not begin", screen.Level("warn"))
		a.next("paletwin apply "+t.Meta.Number+"   (without --with stop-after: all but these)", "paletwin show "+t.Meta.Number)
		return
	}
	what, done := fmt.Sprintf("run %d", rep.Run), string(run.Done)
	if rep.Rehearsed {
		what, done = "rehearsed: nothing was written", "would be done"
	}
	p.Line("%s %s  %s %s", screen.Strong(t.Meta.Number), what, screen.Dim("to"), a.shown(rep.Target))
	p.Line("")
	all := append([]outcome{{done, rep.Steps.Done, "", true}},
		left(rep.Steps, "the target had it already", "changed there since the snapshot; left alone", "the target would not take it")...)
	a.outcomes(append(all, outcome{string(run.Unknown), rep.Steps.Unknown, "the target's answer was lost; apply again looks what it has", false})...)
	a.troubles(rep.Attempted)
	a.waiting(rep.Waiting)
	if rep.Partly > 0 {
		p.Line("  %s", screen.Plural(rep.Partly, "record")+" done in part: the fields that moved, or that the target did not take, are as they were")
	}
	if rep.Waits > 0 {
		p.Line("  %s", screen.Dim(fmt.Sprintf("waited %s, %s in all: the target was busy", screen.Plural(rep.Waits, "time"), rep.WaitedIn.Round(100*time.Millisecond))))
	}
	if rep.Stopped {
		p.Line("  %s", screen.Level("warn")+"  the run ended early, after too many refusals; apply goes on with the rest")
	}
	if s := leftWords(rep.Left); s != "" {
		p.Line("  %s", screen.Dim("left"+s))
	}
	if rep.Rehearsed {
		a.next("paletwin apply " + t.Meta.Number + " --to " + a.shown(rep.Target))
		return
	}
	if n := along(rep.Attempted); n > 0 {
		p.Line("  %s", screen.Plural(n, "record")+" of other tables went or changed along; they are kept, and rollback brings them back")
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

// along counts the records that went along with those that were deleted.
func along(steps []*run.Step) (n int) {
	for _, s := range steps {
		for _, d := range s.Rare().Along {
			n += len(d.Rows)
		}
	}
	return n
}

func leftWords(l run.Left) string {
	var parts []string
	for _, x := range []struct {
		n    int
		word string
	}{{l.Approved, "approved"}, {l.Open, "open"}, {l.Held, "held"}, {l.Unknown, "unknown, since its answer was lost"}} {
		switch {
		case x.n > 0 && len(parts) == 0:
			parts = append(parts, screen.Plural(x.n, "record")+" "+x.word)
		case x.n > 0:
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
		if s.Outcome != run.Conflict && s.Outcome != run.Refused && s.Outcome != run.Undone && (s.Outcome != run.Unknown || s.Reason == "") && !s.Partly() {
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

// waiting lists what was left since it needs what another record set leaves.
func (a *app) waiting(steps []*run.Step) {
	const most = 5
	for i, s := range steps {
		if i == most {
			a.out.Line("  %s", screen.Dim("and "+screen.Count(len(steps)-most)+" more"))
			return
		}
		a.out.Line("  %s  %s %s", screen.Level("warn"), screen.Strong(screen.Value(s.Key.String(), 24)), screen.Safe("waits: "+s.Reason))
	}
}

// conflictHints are what can be done about records that others changed: look, keep theirs, write over them.
func conflictHints(t *desk.Dossier, rep *run.Report) []string {
	const most = 3
	n := t.Meta.Number
	hints := []string{fmt.Sprintf("paletwin history %s --run %d   (to look)", n, rep.Run)}
	theirs := "paletwin reject " + n + " --decided"
	count := 0
	for _, s := range rep.Attempted {
		if s.Outcome == run.Conflict {
			theirs += " --record " + shellWord(recordWord(t.Set().Key, s.Key))
			count++
		}
	}
	if count > 0 && count <= most {
		hints = append(hints, theirs+"   (theirs stays)")
	}
	return append(hints, "paletwin approve "+n+" --overwrite-conflicts && paletwin apply "+n+" --overwrite-conflicts   (what was meant goes over it)", "paletwin rollback "+n)
}

// recordWord is a record as --record takes it.
func recordWord(fields []string, k record.Key) string {
	parts := k.Parts()
	if len(parts) == 1 {
		return parts[0]
	}
	words := make([]string, len(parts))
	for i, p := range parts {
		words[i] = fields[i] + "=" + p
	}
	return strings.Join(words, ",")
}

func (a *app) afterApply(t *desk.Dossier, rep *run.Report) {
	n := t.Meta.Number
	switch {
	case rep.Left.Unknown > 0, slices.ContainsFunc(rep.Attempted, func(s *run.Step) bool { return s.Keyless() }):
		a.next("look what is there, note it in a table with a status, then: paletwin handoff collect "+n+" LOOKED.csv --with ok=there", "if none is there: paletwin handoff collect "+n+" --with done=0")
	case rep.Stopped:
		a.next("paletwin apply " + n + "   (goes on with what was not attempted)")
	case rep.Steps.Conflict > 0 && rep.Left.Approved > 0:
		a.next(append([]string{"paletwin apply " + n + "   (goes on with the rest)"}, conflictHints(t, rep)...)...)
	case rep.Steps.Conflict > 0:
		a.next(conflictHints(t, rep)...)
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
