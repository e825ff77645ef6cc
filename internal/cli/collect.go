package cli

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/handoff"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
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
a status, or a message that is empty where all went well. With --refused it lists the
refused records alone, and the rest are done. Where the system only said a number,
say --done N: if it is all of them or none, the outcomes are known.

What is refused is written to refused.xlsx, with from, to and the reason: correct it
there, and it comes back as an edited copy of the dossier's snapshot.`,
		Example: `  paletwin handoff collect 0001 import-result.csv
  paletwin handoff collect 0001 log.csv --status "Import state" --ok written
  paletwin handoff collect 0001 rejected.csv --refused
  paletwin handoff collect 0001 --done 17`,
		Args: exactly(1, 2, "a dossier and a result file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.dossier(args[0])
			if err != nil {
				return err
			}
			counted := cmd.Flags().Changed("done")
			if counted == (len(args) == 2) {
				return usage("handoff collect needs a result file, or --done N where the system only said a number")
			}
			if counted {
				return a.collectCount(t, &f)
			}
			if n := len(t.Set().Key); len(f.key) > 0 && len(f.key) != n {
				return usage("--key names a column for each field of the key: %s", strings.Join(t.Set().Key, ", "))
			}
			return a.collectResult(t, args[1], &f)
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.status, "status", "", "the `column` that says what became of a record (default: found by its heading)")
	fl.StringArrayVar(&f.key, "key", nil, "the `column` with the key, where that cannot be told; for each of its fields")
	fl.StringVar(&f.message, "message", "", "the `column` with the reason of a refusal (default: found by its heading; none, where there is none)")
	fl.StringArrayVar(&f.ok, "ok", nil, "a `word` of the status that means done; repeatable, all others then mean refused")
	fl.BoolVar(&f.refused, "refused", false, "the file lists the refused records alone; the rest are done")
	fl.IntVar(&f.done, "done", 0, "the system said only that so many records were done")
	fl.StringVar(&f.of, "of", "", "the load `file` that was answered, where it is one of several")
	fl.IntVar(&f.run, "run", 0, "the hand-off's run (default: the last)")
	fl.StringVar(&f.sheet, "sheet", "", "the `sheet` of a workbook (default: the first that is not hidden)")
	return cmd
}

// handedRun opens a hand-off under the dossier's lock, and what of it is
// answered: the load file that was named, or nil for all.
func (a *app) handedRun(t *desk.Dossier, f *collectFlags) (r *run.Record, load *loadFile, unlock func(), err error) {
	lock, err := t.Lock()
	if err != nil {
		return nil, nil, nil, err
	}
	unlock = func() { _ = lock.Unlock() } // only a lock
	if r, err = run.LastHandoff(t, f.run); err == nil && f.of != "" {
		load, err = a.namedLoad(t, r, f.of)
	}
	if err != nil {
		unlock()
		return nil, nil, nil, err
	}
	return r, load, unlock, nil
}

// loadFile is a load file of a hand-off that was named, with its records.
type loadFile struct {
	name   string
	fields []string // of amends sent field by field: those the file sends
	keys   []record.Key
}

// namedLoad finds a load file by its name, or the end of it.
func (a *app) namedLoad(t *desk.Dossier, r *run.Record, name string) (*loadFile, error) {
	var names []string
	for _, l := range r.Loads {
		if !l.Forward() {
			continue
		}
		base := path.Base(l.Name)
		names = append(names, base)
		if base != filepath.Base(name) && !strings.HasPrefix(base, name+"-") {
			continue
		}
		file := t.Path("load", strconv.Itoa(r.Head.Run), filepath.FromSlash(l.Name))
		if strings.HasSuffix(base, ".sql") || l.Acts != "amend" && l.Acts != "add" && l.Acts != "delete" {
			return nil, usage("%s is carried out as a whole: leave --of out", base)
		}
		img, err := t.OpenTable(file, base, table.Options{})
		if err != nil {
			return nil, err
		}
		defer img.Close()
		keys, err := a.result(t, &collectFlags{refused: true}).Read(img.Image)
		if err != nil {
			return nil, err
		}
		found := &loadFile{name: l.Name}
		if l.Acts == "amend" {
			found.fields = l.Fields
		}
		for _, row := range keys.All {
			found.keys = append(found.keys, row.Key)
		}
		return found, nil
	}
	return nil, usage("--of names no load file of run %d; they are %s", r.Head.Run, strings.Join(names, ", "))
}

func (a *app) result(t *desk.Dossier, f *collectFlags) *handoff.Result {
	l, _ := t.Layout() // it was read before
	var fields []string
	if c, err := t.Changes(); err == nil {
		fields = c.Header.Fields
		_ = c.Close() // only read
	}
	return &handoff.Result{Key: t.Set().Key, Fields: fields, Columns: f.key, Layout: l, Status: f.status, Message: f.message, OK: f.ok, Refused: f.refused}
}

func (a *app) collectResult(t *desk.Dossier, name string, f *collectFlags) error {
	l, err := t.Layout()
	if err != nil {
		return err
	}
	r, load, unlock, err := a.handedRun(t, f)
	if err != nil {
		return err
	}
	defer unlock()
	if load == nil && r.FieldByField() {
		return usage("run %d sent one file a field: say which was answered, with --of FILE", r.Head.Run)
	}
	s := a.source(name)
	s.Options.Password, s.Options.Sheet = a.password(), f.sheet
	file, err := a.open(&s)
	if err != nil {
		return err
	}
	defer file.Close()
	rows, err := a.result(t, f).Read(file.Image)
	if err != nil {
		return err
	}
	handoff.Recognise(rows.All, l.Schema(), slices.Collect(maps.Keys(r.Handed())))
	learnt := make([]run.Learnt, len(rows.All))
	for i, x := range rows.All {
		learnt[i] = run.Learnt{Key: x.Key, Outcome: run.Refused, Reason: cmp.Or(x.Message, "the system refused it"), Row: x.Row}
		if x.Done {
			learnt[i].Outcome, learnt[i].Reason = run.Done, ""
		}
	}
	answer := run.Answer{Kind: "result", Name: file.Name, Rows: len(rows.All)}
	if answer.File, answer.SHA256, err = a.keepResult(t, r, file); err != nil {
		return err
	}
	reply := run.Reply{Learnt: learnt, Answer: answer}
	if f.refused {
		reply.Rest = run.Done
	}
	return a.collected(t, r, reply, load)
}

// keepResult keeps a result as it came in the run's folder.
func (a *app) keepResult(t *desk.Dossier, r *run.Record, file *desk.Table) (name, sum string, err error) {
	ext := filepath.Ext(file.Name)
	name = fmt.Sprintf("result-%d%s", len(r.Heard)+1, cmp.Or(ext, ".csv"))
	w, err := disk.WriteFile(a.fs, filepath.Join(r.Dir, name), 0o600, func(w io.Writer) error {
		return table.Guard(func() error { _, err := w.Write(file.Bytes()); return err })
	})
	return name, w.SHA256, err
}

// collectCount takes in a mere number: it says something of the records only
// if it is all of them, or none.
func (a *app) collectCount(t *desk.Dossier, f *collectFlags) error {
	if f.done < 0 {
		return usage("--done takes no negative number")
	}
	if len(f.ok) > 0 || f.status+f.message != "" || f.refused {
		return usage("--done stands for a result file: leave its columns out")
	}
	r, load, unlock, err := a.handedRun(t, f)
	if err != nil {
		return err
	}
	defer unlock()
	var all []run.Learnt
	for k := range r.Handed() {
		if load == nil || slices.Contains(load.keys, k) {
			all = append(all, run.Learnt{Key: k})
		}
	}
	outcome, reason := run.Outcome(""), ""
	switch {
	case f.done > len(all):
		return usage("%d records were handed over, and %d cannot have been done", len(all), f.done)
	case f.done == len(all):
		outcome = run.Done
	case f.done == 0:
		outcome, reason = run.Refused, "the system did none"
	}
	if outcome == "" {
		all = nil
	}
	for i := range all {
		all[i].Outcome, all[i].Reason = outcome, reason
	}
	reply := run.Reply{Learnt: all, Answer: run.Answer{Kind: "count", Rows: f.done}}
	if err := a.collected(t, r, reply, load); err != nil || outcome != "" {
		return err
	}
	a.hint("which of them were done is not known: paletwin verify %s FRESH-EXPORT shows it", t.Meta.Number)
	return nil
}

// collected takes an answer in, writes what was refused for correction, and
// says what it came to.
func (a *app) collected(t *desk.Dossier, r *run.Record, reply run.Reply, load *loadFile) error {
	reply.Answer.By = a.user
	if load != nil {
		reply.Scope, reply.Answer.Load = load.scope(), load.name
		if r.FieldByField() {
			reply.Fields = load.fields
		}
	}
	c, err := run.Collect(t, r, reply, a.now)
	if err != nil {
		return err
	}
	file := ""
	if c.Steps.Refused > 0 || r.Partly() > 0 {
		if file, err = a.writeRefused(t, r); err != nil {
			return err
		}
	}
	if a.json {
		err = a.printJSON(answeredJSON(t, r, c, file))
	} else {
		a.sayAnswered(t, r, c, file)
	}
	if err != nil {
		return err
	}
	switch {
	case c.Steps.Refused > 0, r.Partly() > 0:
		return exit(exitRefused)
	case c.Steps.Unknown > 0, len(c.Other)+len(c.Twice) > 0:
		return exit(exitLook)
	}
	return nil
}

// scope is the keys of the records that a load file has.
func (l *loadFile) scope() map[record.Key]bool {
	m := make(map[record.Key]bool, len(l.keys))
	for _, k := range l.keys {
		m[k] = true
	}
	return m
}

// reasons counts refusals by their reasons, the commonest first.
func reasons(r *run.Record) []reason {
	at := map[string]int{}
	var all []reason
	for _, s := range r.Steps {
		if s.Outcome != run.Refused && len(s.Left) == 0 {
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
	a.next("paletwin verify " + n + " FRESH-EXPORT")
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
