package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/internal/desk"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

type collectFlags struct {
	status, message, sheet, of string
	ok, key                    []string
	refused                    bool
	done                       int
	run                        int
}

func newHandoffCollect(a *app) *cobra.Command {
	var f collectFlags
	cmd := &cobra.Command{
		Use:   "collect NNNN [RESULT]",
		Short: "Read what the system answered to the load files",
		Long: `Read what the system answered to the load files of a hand-off.

RESULT is a file with the records' key and a column that says what became of each:
a status, or a message that is empty where all went well. With --with refused it lists the
refused records alone, and the rest are done. Where the system only said a number,
say --with done=N: if it is all of them or none, the outcomes are known.

What is refused is written to refused.xlsx, with from, to and the reason: correct it
there, and it comes back as an edited copy of the dossier's snapshot.`,
		Example: `  paletwin handoff collect 0001 import-result.csv
  paletwin handoff collect 0001 log.csv --with "status=Import state" --with ok=written
  paletwin handoff collect 0001 rejected.csv --with refused
  paletwin handoff collect 0001 --with done=17`,
		Args: exactly(1, 2, "a dossier and a result file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.dossier(args[0])
			if err != nil {
				return err
			}
			if err := a.asDeskSays(cmd, t.Desk().Settings.Handoff, "handoff"); err != nil {
				return err
			}
			counted := f.done >= 0
			if counted == (len(args) == 2) {
				return usage("handoff collect needs a result file, or --with done=N where the system only said a number")
			}
			if n := len(t.Set().Key); len(f.key) > 0 && len(f.key) != n {
				return usage("--key names a column for each field of the key: %s", strings.Join(t.Set().Key, ", "))
			}
			name := ""
			if !counted {
				name = args[1]
			}
			return a.answer(t, name, &f)
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.status, "status", "", "the `column` that says what became of a record (default: found by its heading)")
	fl.StringArrayVar(&f.key, "key", nil, "the `column` with the key, where that cannot be told; for each of its fields")
	fl.StringVar(&f.message, "message", "", "the `column` with the reason of a refusal (default: found by its heading; none, where there is none)")
	fl.StringArrayVar(&f.ok, "ok", nil, "a `word` of the status that means done; repeatable, all others then mean refused")
	fl.BoolVar(&f.refused, "refused", false, "the file lists the refused records alone; the rest are done")
	fl.IntVar(&f.done, "done", -1, "the system said only that so many records were done")
	fl.StringVar(&f.of, "of", "", "the load `file` that was answered, where it is one of several")
	fl.IntVar(&f.run, "run", 0, "the hand-off's run (default: the last)")
	fl.StringVar(&f.sheet, "sheet", "", "the `sheet` of a workbook (default: the first that is not hidden)")
	return cmd
}

// answer takes an answer in, and says what it came to.
func (a *app) answer(t *desk.Dossier, name string, f *collectFlags) error {
	c := &update.Collect{Dossier: t, Run: f.run, Of: f.of, Done: f.done,
		Answers: update.Answers{Key: f.key, Status: f.status, Message: f.message, OK: f.ok, Refused: f.refused}}
	switch {
	case name != "":
		s, err := a.source(name)
		if err != nil {
			return err
		}
		s.Options.Password, s.Options.Sheet = a.password(), f.sheet
		c.Result = &s
	case len(f.ok) > 0 || f.status+f.message != "" || f.refused:
		return usage("--with done stands for a result file: leave its columns out")
	}
	got, err := a.office().Collect(c)
	if err != nil {
		return err
	}
	if a.json {
		err = a.printJSON(answeredJSON(t, got.Run, got.Collected, got.File))
	} else {
		a.sayAnswered(t, got.Run, got.Collected, got.File)
	}
	if err != nil {
		return err
	}
	switch {
	case got.Steps.Refused > 0, got.Run.Partly() > 0:
		return exit(exitRefused)
	case got.Steps.Unknown > 0, len(got.Other)+len(got.Twice) > 0:
		err = exit(exitLook)
	}
	if got.Vague {
		a.hint("which of them were done is not known: paletwin verify %s EXPORT.csv, with a fresh export, shows it", t.Meta.Number)
	}
	return err
}

// reasons counts refusals by their reasons, the commonest first.
func reasons(r *run.Record) []reason {
	at := map[string]int{}
	var all []reason
	for _, s := range r.Steps {
		if s.Outcome != run.Refused && !s.Partly() {
			continue
		}
		i, there := at[s.Reason]
		if !there {
			i = len(all)
			at[s.Reason] = i
			all = append(all, reason{Reason: s.Reason})
		}
		all[i].Count++
		all[i].Records = append(all[i].Records, s.Key.String())
	}
	slices.SortStableFunc(all, func(a, b reason) int { return b.Count - a.Count })
	return all
}

type reason struct {
	Reason  string   `json:"reason"`
	Count   int      `json:"count"`
	Records []string `json:"records"`
}

func answeredJSON(t *desk.Dossier, r *run.Record, c *run.Collected, file string) any {
	j := map[string]any{"dossier": t.Meta.Number, "run": r.Head.Run, "steps": c.Steps, "learnt": c.Learnt, "in_part": r.Partly(), "not_named": c.Missing,
		"refusals": orNone(reasons(r)), "other_rows": orNone(c.Other), "contradicted_rows": orNone(c.Twice), "refused_file": nil}
	if file != "" {
		j["refused_file"] = file
	}
	return j
}

// orNone writes a list that may be empty as one.
func orNone[T any](all []T) []T {
	if all == nil {
		return []T{}
	}
	return all
}

func (a *app) sayAnswered(t *desk.Dossier, r *run.Record, c *run.Collected, file string) {
	p, n := a.out, t.Meta.Number
	p.Line("%s run %d, answered", screen.Strong(n), r.Head.Run)
	p.Line("")
	a.outcomes(outcome{string(run.Done), c.Steps.Done, "", true}, outcome{string(run.Refused), c.Steps.Refused, "", true},
		outcome{string(run.Unknown), c.Steps.Unknown, "not answered", true})
	if k := r.Partly(); k > 0 {
		p.Line("  %s done in part: some of their fields were refused", screen.Plural(k, "record"))
	}
	a.sayReasons(reasons(r))
	for _, x := range []struct {
		rows []int
		text string
	}{{c.Other, "of the answer: no record of this hand-off has that key"}, {c.Twice, "of the answer: a row before says otherwise, and the record is left as it was"}} {
		if len(x.rows) > 0 {
			p.Line("  %s  %s %s", screen.Level("warn"), rowList(x.rows), x.text)
		}
	}
	if file != "" {
		p.Line("")
		p.Line("  %s  %s", screen.Dim("to correct"), a.shown(file))
		a.next("paletwin handoff "+n+" --retry   (as they were)", "paletwin compare "+a.shown(t.Path(t.Meta.Snapshot.File))+" "+a.shown(file)+" --record-set "+t.Set().Name)
		return
	}
	a.next("with a fresh export: paletwin verify " + n + " EXPORT.csv")
}

func (a *app) sayReasons(all []reason) {
	if len(all) == 0 {
		return
	}
	a.out.Line("")
	tab := screen.Table{Indent: "  ", Right: []bool{true}, Heading: []string{"refused", "reason", "records"}}
	const most = 12
	for _, r := range all[:min(len(all), most)] {
		records := strings.Join(r.Records[:min(len(r.Records), 3)], ", ")
		if len(r.Records) > 3 {
			records += " …"
		}
		tab.Row(screen.Strong(screen.Count(r.Count)), screen.Cut(screen.Safe(r.Reason), 70), screen.Safe(records))
	}
	tab.Print(a.out)
	if len(all) > most {
		a.out.Line("  %s", screen.Dim(fmt.Sprintf("and %s more reasons in outcome.csv", screen.Count(len(all)-most))))
	}
}
