package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/internal/desk"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

func newVerify(a *app) *cobra.Command {
	var expect []string
	var to string
	cmd := &cobra.Command{
		Use:   "verify NNNN [FILE]",
		Short: "Hold a fresh read or export against what was meant",
		Long: `Hold a fresh read of the target, or a fresh export, against what a dossier meant.

Every record that was to change is as meant, not done, done differently (the system
rounded, cut or trimmed what it was given), changed since by a later dossier, or
something else; and what moved besides is listed by field. After a hand-off the fresh
export also tells which records were done. The result is kept in verify.json.`,
		Example: `  paletwin verify 0001
  paletwin verify 0001 export-of-today.csv --with 'expect=status == "withdrawn": 17'`,
		Args: exactly(1, 2, "a dossier, and perhaps a fresh export"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.whole(args[0])
			if err != nil {
				return err
			}
			if t.Several() {
				return a.verifySets(cmd.Context(), t, args[1:], to, expect)
			}
			fresh := ""
			if len(args) == 2 {
				fresh = args[1]
			}
			return a.verify(cmd.Context(), t, fresh, to, expect)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "which `target` is proven, where runs went to several (default: the last run's)")
	cmd.Flags().StringArrayVar(&expect, "expect", nil, "a `count` that must add up: 'EXPRESSION: NUMBER'; repeatable")
	return cmd
}

func (a *app) verify(ctx context.Context, t *desk.Dossier, fresh, to string, expect []string) error {
	counts, err := expectations(expect)
	if err != nil {
		return err
	}
	r := &update.Verify{Dossier: t, Name: fresh, To: a.targetName(t, to), Expect: counts}
	if fresh != "" {
		s, err := a.source(fresh)
		if err != nil {
			return err
		}
		r.Fresh = &s
	}
	v, err := a.office().Verify(ctx, r)
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
	if v.NotTried > 0 {
		a.next("paletwin apply " + t.Meta.Number + "   (goes on with what was not attempted)")
	}
	if !v.Holds() {
		return exit(exitLook)
	}
	return nil
}

// expectations reads counts that must add up.
func expectations(said []string) ([]update.Expect, error) {
	var all []update.Expect
	for _, text := range said {
		at := strings.LastIndexByte(text, ':')
		n, err := strconv.Atoi(strings.TrimSpace(text[at+1:]))
		if at < 0 || err != nil || n < 0 {
			return nil, usage("--with expect takes an expression and a number, such as 'status == \"withdrawn\": 17', not %q", text)
		}
		all = append(all, update.Expect{Source: strings.TrimSpace(text[:at]), Count: n})
	}
	return all, nil
}

// verified prints a verification.
func (a *app) verified(t *desk.Dossier, v *run.Verification) {
	p := a.out
	meant := screen.Plural(v.AsMeant, "record") + " as meant"
	if v.Holds() {
		switch {
		case v.Touched:
			meant += "; no other record was looked at"
		case v.Later == 0:
			meant += ", and nothing else moved"
		}
		p.Line("  %s  %s", screen.Strong("verified"), meant)
	} else {
		p.Line("  %s  %s", screen.Level("warn"), meant)
	}
	for _, x := range []struct {
		n    int
		word string
	}{{v.NotDone, "not done"}, {v.NotTried, "not attempted"}, {v.Differently, "done differently"}, {v.Since, "changed since by a later dossier"}, {v.Other, "something else"}, {v.Besides, "moved besides"},
		{v.Later, "elsewhere, by later dossiers"}} {
		if x.n > 0 {
			p.Line("        %s %s", screen.Count(x.n), x.word)
		}
	}
	a.expected(v.Expected)
	a.madeOf(v.Made)
	a.besides(v)
	a.differences(v.Differences)
	a.sums(v.Totals, t.Set().Fields, "now")
}

// expected lists counts that must add up.
func (a *app) expected(all []run.Expected) {
	if len(all) == 0 {
		return
	}
	a.out.Line("")
	t := screen.Table{Indent: "  ", Right: []bool{false, true, true}, Heading: []string{"count of", "expected", "found", ""}}
	for _, e := range all {
		word := screen.Dim("as expected")
		if !e.Holds() {
			word = screen.Level("warn")
		}
		t.Row(screen.Cut(screen.Safe(e.Where), 60), screen.Count(e.Want), screen.Strong(screen.Count(e.Found)), word)
	}
	t.Print(a.out)
}

// madeOf lists what the system made of values, by field.
func (a *app) madeOf(all []run.Made) {
	if len(all) == 0 {
		return
	}
	a.out.Line("")
	t := screen.Table{Indent: "  ", Right: []bool{false, false, true}, Heading: []string{"field", "the system made of it", "records", "such as"}}
	for _, m := range all {
		t.Row(screen.Safe(m.Field), m.How, screen.Count(m.Count), screen.Pale(screen.Value(m.Expected, 24))+" → "+screen.Strong(screen.Value(m.Found, 24)))
	}
	t.Print(a.out)
}

// besides lists by field what moved that nobody meant, where that is much.
func (a *app) besides(v *run.Verification) {
	const few = 5
	if v.Besides <= few {
		return
	}
	a.out.Line("")
	t := screen.Table{Indent: "  ", Right: []bool{false, true}, Heading: []string{"moved besides", "records"}}
	for _, f := range v.Fields {
		name := screen.Safe(f.Field)
		if f.Field == "" {
			name = "records come or gone"
		}
		t.Row(name, screen.Count(f.Changes))
	}
	t.Print(a.out)
}

func (a *app) differences(all []run.Difference) {
	if len(all) == 0 {
		return
	}
	const most = 20
	a.out.Line("")
	t := screen.Table{Indent: "  ", Heading: []string{"", "record", "field", "expected", "found", ""}}
	for _, d := range all[:min(len(all), most)] {
		more := d.How
		if d.By != "" {
			more = "by " + d.By
		}
		t.Row(screen.Hue("delete", d.Kind), screen.Strong(screen.Value(d.Key, 24)), screen.Safe(d.Field), screen.Pale(screen.Value(d.Expected, 30)), screen.Strong(screen.Value(d.Found, 30)), screen.Dim(more))
	}
	t.Print(a.out)
	if len(all) > most {
		a.out.Line("  %s", screen.Dim(fmt.Sprintf("and %s more in verify.json", screen.Count(len(all)-most))))
	}
}
