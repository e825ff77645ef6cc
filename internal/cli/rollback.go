package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
)

type rollbackFlags struct {
	run     int
	records []string
	list    string // a file with keys
	fields  []string
	apply   bool
	other   bool
	targetFlags
	yes bool
}

func newRollback(a *app) *cobra.Command {
	var f rollbackFlags
	cmd := &cobra.Command{
		Use:   "rollback NNNN",
		Short: "Make a dossier that undoes what a dossier's runs really did",
		Example: `  paletwin rollback 0001
  paletwin rollback 0001 --record 00417 --record 00502 --apply --yes`,
		Args: exactly(1, 1, "a dossier: its number, its slug, or - for your newest"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.whole(args[0])
			if err != nil {
				return err
			}
			if err := a.tuneTo(cmd, t, strings.Join(f.tos, "")); err != nil {
				return err
			}
			if t.Several() {
				return a.rollbackSets(cmd.Context(), t, &f)
			}
			return a.rollback(cmd.Context(), t, &f)
		},
	}
	fl := cmd.Flags()
	fl.IntVar(&f.run, "run", 0, "only this run (default: all that are not undone yet)")
	fl.StringArrayVar(&f.records, "record", nil, "only this `key`; repeatable")
	fl.StringVar(&f.list, "records", "", "only records that this `file` lists: keys, or a table with the key's columns; - is standard input")
	fl.StringSliceVar(&f.fields, "field", nil, "only this `field`")
	fl.BoolVar(&f.apply, "apply", false, "approve all but conflicts and carry it out at once")
	f.targetFlags.flags(fl)
	f.currentFlag(fl)
	fl.BoolVar(&f.other, "other-target", false, "the target is the last run's, under another name")
	fl.BoolVar(&f.yes, "yes", false, "do not ask")
	return cmd
}

// check says what is wrong with the flags.
func (f *rollbackFlags) check(a *app) error {
	if f.apply && f.current != "" {
		return usage("what was handed off is undone by load files: leave --apply out, look at the dossier, and hand it off")
	}
	if f.apply && !f.yes && !a.asks {
		return usage("rollback --apply writes to the target and there is nobody to ask: say --yes")
	}
	return nil
}

// listedKeys are the keys that a file lists, none where it has no name.
func (a *app) listedKeys(t *desk.Dossier, file string) ([]record.Key, error) {
	if file == "" {
		return nil, nil
	}
	b, name, err := a.readAll(file)
	if err != nil {
		return nil, err
	}
	l, err := t.Layout()
	if err != nil {
		return nil, err
	}
	list, err := compare.ReadKeyList(name, b, t.Set().Key, l)
	if err != nil {
		return nil, err
	}
	if list.Len() == 0 {
		return nil, usage("%s lists no record", name)
	}
	return list.Keys(), nil
}

func (a *app) rollback(ctx context.Context, t *desk.Dossier, f *rollbackFlags) error {
	if err := f.check(a); err != nil {
		return err
	}
	back := run.Undo{Run: f.run, OtherTarget: f.other, Fields: f.fields}
	var err error
	if back.Records, err = a.listedKeys(t, f.list); err != nil {
		return err
	}
	for _, text := range f.records {
		k, err := parseKey(text, t.Set().Key)
		if err != nil {
			return err
		}
		back.Records = append(back.Records, k)
	}
	where, err := a.where(t, f.targetFlags)
	if err != nil {
		return err
	}
	made, err := a.office().Rollback(ctx, t, where, back)
	a.made = err == nil
	if err != nil {
		return err
	}
	findings, err := made.Findings()
	if err != nil {
		return err
	}
	n := made.Meta.Number
	others, err := otherTargets(t, made)
	if err != nil {
		return err
	}
	if !a.json {
		a.summary(summaryOf(made), findings)
		if len(back.Records) > 0 {
			a.missed(made, back.Records)
		}
		for _, at := range others {
			a.hint("%s stays changed: paletwin rollback %s --to %s", a.shown(at.Target), t.Meta.Number, a.shown(at.Target))
		}
	}
	if !f.apply {
		if a.json {
			return a.printJSON(map[string]any{"dossier": n, "path": made.Rel(made.Dir), "undoes": made.Meta.Undoes, "changes": made.Set().Changes, "stay_changed": targetNames(others)})
		}
		a.next("paletwin show "+n, "paletwin approve "+n+" --all && paletwin "+f.carries()+" "+n)
		return nil
	}
	if _, err := made.Decide(&desk.Order{Decision: changeset.Approve, By: a.user, When: a.now(), Note: "rollback --apply", How: "rollback --apply"}); err != nil {
		return err
	}
	if !a.json {
		a.out.Line("")
	}
	undone, err := run.LastTarget(made)
	if err != nil {
		return err
	}
	return a.apply(ctx, made, &applyFlags{targetFlags: f.targetFlags, yes: f.yes, Options: run.Options{OtherTarget: f.other, Touched: undone.Touched}})
}

// otherTargets lists where the dossier's changes stand besides the target at
// which one that was made undoes them.
func otherTargets(t, made *desk.Dossier) ([]run.At, error) {
	here, err := run.LastTarget(made)
	if err != nil || here == nil {
		return nil, err
	}
	elsewhere := func(all []run.At) []run.At {
		return slices.DeleteFunc(all, func(at run.At) bool { return at == here.At() })
	}
	if all, err := run.Targets(t); err != nil || len(elsewhere(all)) == 0 {
		return nil, err
	}
	all, _, err := run.Changed(t)
	return elsewhere(all), err
}

func targetNames(all []run.At) []string {
	names := []string{}
	for _, at := range all {
		names = append(names, at.Target)
	}
	return names
}

// missed says which of the named records had nothing to undo.
func (a *app) missed(made *desk.Dossier, named []record.Key) {
	c, err := made.Changes()
	if err != nil {
		return
	}
	defer c.Close()
	l, err := made.Layout()
	if err != nil {
		return
	}
	there := map[record.Key]bool{}
	for ch, err := range c.Changes() {
		if err != nil {
			return
		}
		there[l.Schema().Key(ch.Key)] = true
	}
	var none []string
	for _, k := range named {
		if !there[l.Schema().Key(k)] {
			none = append(none, k.String())
		}
	}
	if len(none) > 0 {
		a.hint("nothing to undo for %s", screen.Safe(strings.Join(none, ", ")))
	}
}
