package cli

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
)

func newVerify(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "verify NNNN [FILE]",
		Short: "Hold a fresh read or export against what was meant",
		Example: `  paletwin verify 0001
  paletwin verify 0001 export-of-today.csv`,
		Args: exactly(1, 2, "a dossier, and perhaps a fresh export"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.dossier(args[0])
			if err != nil {
				return err
			}
			fresh := ""
			if len(args) == 2 {
				fresh = args[1]
			}
			return a.verify(cmd.Context(), t, fresh)
		},
	}
}

func (a *app) verify(ctx context.Context, t *desk.Dossier, fresh string) error {
	img, release, err := a.fresh(ctx, t, fresh)
	if err != nil {
		return err
	}
	defer release()
	v, err := run.Verify(ctx, t, img, a.now())
	if err != nil {
		return err
	}
	if a.json {
		if err := a.printJSON(v); err != nil {
			return err
		}
	} else {
		a.out.Line("%s  %s", screen.Strong(t.Meta.Number), screen.Strong(screen.Safe(t.Meta.Title)))
		a.out.Line("")
		a.verified(t, v)
	}
	if !v.Holds() {
		return exit(exitLook)
	}
	return nil
}

// fresh reads the file that was named, or the last run's target.
func (a *app) fresh(ctx context.Context, t *desk.Dossier, name string) (*table.Image, func(), error) {
	if name != "" {
		s := a.source(name)
		s.Options.Password = a.password()
		f, err := a.open(&s)
		if err != nil {
			return nil, nil, err
		}
		return f.Image, func() { _ = f.Close() }, nil
	}
	last, err := run.LastTarget(t)
	if err != nil {
		return nil, nil, err
	}
	if last == nil {
		return nil, nil, nothingDone(t)
	}
	f, err := t.OpenTable(last.Target, filepath.Base(last.Target), last.Read)
	if err != nil {
		return nil, nil, err
	}
	return f.Image, func() { _ = f.Close() }, nil
}

func nothingDone(t *desk.Dossier) error {
	return &run.Refusal{Code: run.NothingDone, Text: fmt.Sprintf("dossier %s has not been carried out", t.Meta.Number)}
}

// verified prints a verification.
func (a *app) verified(t *desk.Dossier, v *run.Verification) {
	p := a.out
	if v.Holds() {
		p.Line("  %s  %s as meant, and nothing else moved", screen.Strong("verified"), screen.Plural(v.AsMeant, "record"))
	} else {
		p.Line("  %s  %s as meant", screen.Level("warn"), screen.Plural(v.AsMeant, "record"))
		for _, x := range []struct {
			n    int
			word string
		}{{v.NotDone, "not done"}, {v.Other, "something else"}, {v.Besides, "moved besides"}} {
			if x.n > 0 {
				p.Line("        %s %s", screen.Count(x.n), x.word)
			}
		}
		a.differences(v.Differences)
	}
	a.sums(v.Totals, t.Set().Fields, "now")
}

func (a *app) differences(all []run.Difference) {
	const most = 20
	t := screen.Table{Indent: "  ", Heading: []string{"", "record", "field", "expected", "found"}}
	for _, d := range all[:min(len(all), most)] {
		t.Row(screen.Hue("delete", d.Kind), screen.Strong(screen.Value(d.Key, 24)), screen.Safe(d.Field), screen.Pale(screen.Value(d.Expected, 30)), screen.Strong(screen.Value(d.Found, 30)))
	}
	t.Print(a.out)
	if len(all) > most {
		a.out.Line("  %s", screen.Dim(fmt.Sprintf("and %s more in verify.json", screen.Count(len(all)-most))))
	}
}
