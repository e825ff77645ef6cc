package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/internal/desk"
	"paletwin/internal/run"
)

func newRestore(a *app) *cobra.Command {
	var n int
	var to targetFlags
	var other, create bool
	cmd := &cobra.Command{
		Use:   "restore NNNN",
		Short: "Make a dossier that takes the target back to a backup",
		Long: `Make a dossier that takes the target back to a backup.

Unlike rollback it compares everything: the target as it is now with the backup.
What no run of the dossier wrote was changed by others since, and is held.`,
		Example: `  paletwin restore 0001
  paletwin restore 0001 --run 2`,
		Args: exactly(1, 1, "a dossier: its number, its slug, or - for your newest"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.dossier(args[0])
			if err != nil {
				return err
			}
			if err := a.tuneTo(cmd, t, strings.Join(to.tos, "")); err != nil {
				return err
			}
			if create {
				if err := a.create(cmd.Context(), t, to, n); err != nil {
					return err
				}
			}
			return a.restore(cmd.Context(), t, to, run.Restoration{Run: n, OtherTarget: other, Whole: create})
		},
	}
	cmd.Flags().IntVar(&n, "run", 0, "the run whose backup it is (default: the first, the state before the dossier)")
	cmd.Flags().BoolVar(&create, "create", false, "make the table of a database anew first, which is not there any more; its records come back with apply")
	cmd.Flags().BoolVar(&other, "other-target", false, "the target is the last run's, under another name")
	to.flags(cmd.Flags())
	to.currentFlag(cmd.Flags())
	return cmd
}

// create makes a table anew.
func (a *app) create(ctx context.Context, t *desk.Dossier, to targetFlags, n int) error {
	where, err := a.where(t, to)
	if err != nil {
		return err
	}
	place, same, err := a.office().Create(ctx, t, where, n)
	if err != nil {
		return err
	}
	if same {
		a.hint("%s is made anew, as it was; its records come back with apply", a.shown(place))
	} else {
		a.hint("%s is made anew, and not in all as it was: compare it with definition.sql beside the backup", a.shown(place))
	}
	return nil
}

func (a *app) restore(ctx context.Context, t *desk.Dossier, to targetFlags, back run.Restoration) error {
	where, err := a.where(t, to)
	if err != nil {
		return err
	}
	made, res, err := a.office().Restore(ctx, t, where, back)
	a.made = err == nil
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(compareJSON(made, res, nil))
	}
	a.summary(summaryOf(made), res.Findings)
	m := made.Meta.Number
	if res.Changes.Changes() == 0 {
		a.hint("the target is as the backup has it")
		return nil
	}
	a.next("paletwin show "+m, "paletwin approve "+m+" --all && paletwin "+to.carries()+" "+m)
	return nil
}
