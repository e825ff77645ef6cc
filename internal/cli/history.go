package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"paletwin/core/words"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

func newHistory(a *app) *cobra.Command {
	var check, follow bool
	var n int
	var q asked
	var list listed
	cmd := &cobra.Command{
		Use:   "history [NNNN]",
		Short: "List what was done: dossiers, the runs of one, or what happened to a record",
		Long: `List what was done.

Without more, the dossiers of the desk; with a dossier, its decisions and runs. With
--record, --field, --with since, --with until or --by, what happened to records over all
dossiers: from what to what, when, on whose approval, in which run, from which file.`,
		Example: `  paletwin history
  paletwin history 0001
  paletwin history --record 00417
  paletwin history --field service_fee --with since=2026-03-01 --with until=2026-03-31
  paletwin history --check`,
		Args: exactly(0, 1, "at most a dossier"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if check {
				return a.checkHistory(args)
			}
			if q.any() {
				return a.records(args, &q)
			}
			if n > 0 || follow {
				return a.oneRun(cmd.Context(), args, n, follow)
			}
			if len(args) == 1 {
				return a.runHistory(args[0])
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			return a.history(d, &list)
		},
	}
	cmd.Flags().IntVar(&n, "run", 0, "one run of the dossier")
	cmd.Flags().BoolVar(&follow, "follow", false, "stay until the run has ended")
	cmd.Flags().BoolVar(&check, "check", false, "read everything again and compare it with its digests and seals")
	cmd.Flags().IntVar(&list.limit, "limit", 0, "of the list of dossiers: the newest N; 0 lists all")
	cmd.Flags().BoolVar(&list.open, "open", false, "of the list of dossiers: those of which something still waits")
	cmd.Flags().StringVar(&q.record, "record", "", "what happened to this record: its `key`")
	cmd.Flags().StringVar(&q.field, "field", "", "what happened to this `field`")
	cmd.Flags().StringVar(&q.since, "since", "", "from this `day` on: 2026-03-01")
	cmd.Flags().StringVar(&q.until, "until", "", "up to and with this `day`")
	cmd.Flags().StringVar(&q.by, "by", "", "what `who` compared, decided or carried out")
	return cmd
}

// oneRun shows one run of a dossier, the last if none is named.
func (a *app) oneRun(ctx context.Context, args []string, n int, follow bool) error {
	if len(args) == 0 {
		return usage("which dossier? history NNNN --run N")
	}
	t, err := a.dossier(args[0])
	if err != nil {
		return err
	}
	if n == 0 {
		runs, err := run.Runs(t)
		if err != nil {
			return err
		}
		if len(runs) == 0 {
			return update.NothingDone(t)
		}
		n = runs[len(runs)-1]
	}
	if follow {
		return a.follow(ctx, t, n)
	}
	r, err := run.ReadRun(t, n)
	if err != nil {
		return err
	}
	return a.showRun(t, r)
}

// listed says which dossiers are listed.
type listed struct {
	limit int  // the newest so many; 0 is all
	open  bool // those of which something still waits for somebody
}

func (a *app) history(d *desk.Desk, l *listed) error {
	if l.limit < 0 {
		return usage("--limit takes no negative number")
	}
	all, err := run.ListOf(d)
	if err != nil {
		return err
	}
	if all.Empty() && !a.json {
		a.out.Line("no dossier yet on the desk %s", a.shown(d.Dir))
		a.next("paletwin demo", "paletwin help compare")
		return nil
	}
	if d.Settings.Name != "" && !a.json {
		a.out.Line("%s", screen.Strong(screen.Safe(d.Settings.Name)))
		a.out.Line("")
	}
	t := screen.Table{Right: []bool{false, false, false, false, true, true, true}, Heading: []string{"", "title", "by", "when", "amend", "add", "delete", "status"}}
	rows := l.rows(all)
	all.Keep()
	if len(rows) == 0 && !a.json {
		a.out.Line("nothing waits for anybody: every dossier was carried out, rejected or undone")
		return nil
	}
	for _, x := range rows {
		if x.Damage != nil {
			if a.json {
				if err := a.printJSON(map[string]any{"path": x.Path, "damage": x.Damage.Error()}); err != nil {
					return err
				}
				continue
			}
			t.Row(screen.Level("stop"), screen.Safe(x.Path), "", "", "", "", "", screen.Safe(x.Damage.Error()))
			continue
		}
		if err := a.historyRow(&t, x); err != nil {
			return err
		}
	}
	t.Print(a.out)
	a.copies(d)
	return nil
}

// copies names the folders that are copies of dossiers, and are left out.
func (a *app) copies(d *desk.Desk) {
	for _, c := range d.Copies {
		a.hint("%s %s; it is left out", screen.Level("warn"), screen.Safe(c.Error()))
	}
}

// rows are the dossiers that are listed, the oldest first; the record sets of one count as one.
func (l *listed) rows(all *run.List) (rows []*run.Row) {
	counted := 0
	for sets := range all.Backward() {
		if l.limit > 0 && counted == l.limit {
			break
		}
		count := 0
		for _, r := range slices.Backward(sets) {
			if !l.open || r.Damage != nil || r.Err != nil || r.Open {
				rows = append(rows, r)
				count = 1
			}
		}
		counted += count
	}
	slices.Reverse(rows)
	return rows
}

func (a *app) historyRow(t *screen.Table, m *run.Row) error {
	n, status := m.Changes, m.Status
	if m.Err != nil {
		status = screen.Level("stop") + " " + screen.Safe(m.Err.Error())
	}
	if a.json {
		j := map[string]any{"dossier": m.Number, "title": m.Title, "by": m.By, "when": m.When, "record_set": m.RecordSet, "changes": n, "status": status, "undoes": m.Undoes}
		if m.Err == nil {
			j["steps"] = m.Steps
		}
		return a.printJSON(j)
	}
	t.Row(screen.Strong(m.Number), screen.Cut(screen.Safe(m.Title), 44), screen.Cut(screen.Safe(m.By), 14), screen.Dim(m.When.Local().Format("2 Jan 2006 15:04")),
		number(n.Amend), number(n.Add), number(n.Delete), status)
	return nil
}

// number writes a count, nothing for none.
func number(n int) string {
	if n == 0 {
		return screen.Dim("·")
	}
	return screen.Count(n)
}

func (a *app) runHistory(name string) error { return a.eachSet(name, a.runHistoryOf) }

func (a *app) runHistoryOf(t *desk.Dossier) error {
	s, err := run.ReadStatus(t)
	if err != nil {
		return err
	}
	c, err := t.Changes()
	if err != nil {
		return err
	}
	defer c.Close()
	if a.json {
		return a.printJSON(dossierJSON(t, c, s))
	}
	m := t.Meta
	a.out.Line("%s  %s", screen.Strong(m.Number), screen.Strong(screen.Safe(m.Title)))
	a.out.Line("%s", screen.Dim(fmt.Sprintf("%s: %s", t.Set().Name, s)))
	a.out.Line("")
	tab := screen.Table{Indent: "  "}
	tab.Row(screen.Dim(m.When.Local().Format("2 Jan 2006 15:04")), screen.Safe(m.By), "compared", madeFrom(t))
	for _, act := range c.Ledger.Acts() {
		if len(act.On) > 0 {
			tab.Row(screen.Dim(act.When.Local().Format("2 Jan 2006 15:04")), screen.Safe(act.By), participle[act.Decision], screen.Plural(len(act.On), "change")+claimedBy(act.Via)+quoted(act.Note))
		}
	}
	for _, r := range s.Runs {
		words := fmt.Sprintf("to %s: %s", a.shown(r.Head.Target), r.Counts())
		if r.Ended == "" {
			words += "; interrupted"
		}
		tab.Row(screen.Dim(r.Head.When.Local().Format("2 Jan 2006 15:04")), screen.Safe(r.Head.By), fmt.Sprintf("run %d", r.Head.Run), screen.Safe(words))
		for _, h := range r.Heard {
			tab.Row(screen.Dim(moment(h.When)), screen.Safe(h.By), "learnt", screen.Safe(h.String()))
		}
	}
	tab.Print(a.out)
	return nil
}

// moment writes a time, nothing for none.
func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2 Jan 2006 15:04")
}

// claimedBy says who recorded a decision for the one whose name it has.
func claimedBy(via string) string {
	if via == "" {
		return ""
	}
	return ", as " + screen.Safe(via) + " says"
}

func quoted(note string) string {
	if note == "" {
		return ""
	}
	return screen.Dim(" “" + screen.Safe(note) + "”")
}

// madeFrom says what a dossier was made from.
func madeFrom(t *desk.Dossier) string {
	m := t.Meta
	switch {
	case m.Undoes != nil:
		return "to undo " + m.Undoes.Dossier
	case len(m.Edited) > 0:
		return screen.Safe(m.Snapshot.Name + " with " + words.List(m.Edited.Names()))
	case m.DeleteList != nil:
		return screen.Safe(m.Snapshot.Name + " with " + m.DeleteList.Name)
	}
	return screen.Safe(m.Snapshot.Name)
}

func dossierJSON(t *desk.Dossier, c *desk.Changes, s *run.Status) any {
	acts := []map[string]any{}
	for _, a := range c.Ledger.Acts() {
		if len(a.On) > 0 {
			act := map[string]any{"decision": a.Decision, "by": a.By, "when": a.When, "note": a.Note, "how": a.How, "touched": len(a.On)}
			if a.Via != "" {
				act["via"] = a.Via
			}
			if a.Account != "" {
				act["account"] = a.Account
			}
			acts = append(acts, act)
		}
	}
	runs := []map[string]any{}
	for _, r := range s.Runs {
		runs = append(runs, map[string]any{"run": r.Head.Run, "target": r.Head.Target, "by": r.Head.By, "when": r.Head.When, "ended": r.Ended, "steps": r.Counts()})
	}
	return map[string]any{"dossier": t.Meta.Number, "title": t.Meta.Title, "by": t.Meta.By, "when": t.Meta.When, "changes": t.Set().Changes,
		"decisions": acts, "runs": runs, "status": s.String(), "undone_by": orEmpty(s.Undone)}
}

// beyondWords says that a chain has a line that its head does not know.
func beyondWords(name string) string {
	return screen.Safe(name) + ": a command was killed just after it had written the last line; that line counts"
}

// checkHistory reads one dossier, or all, again.
func (a *app) checkHistory(args []string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	all, err := d.Dossiers()
	if err != nil {
		return err
	}
	if len(args) == 1 {
		t, err := a.whole(args[0])
		if err != nil {
			return err
		}
		if all, err = t.Parts(); err != nil {
			return err
		}
	}
	damaged := 0
	for _, t := range all {
		bad := run.Check(t)
		if len(bad) > 0 {
			damaged++
		}
		uncovered := run.Uncovered(t)
		var beyond []string
		if t.Damage == nil {
			beyond, _ = t.Beyond() // what is wrong with the heads is damage, and said
		}
		if a.json {
			texts := []string{}
			for _, err := range bad {
				texts = append(texts, err.Error())
			}
			if err := a.printJSON(map[string]any{"path": t.Rel(t.Dir), "whole": len(bad) == 0, "damage": texts, "not_covered": uncovered, "beyond_head": orNone(beyond)}); err != nil {
				return err
			}
			continue
		}
		if len(bad) == 0 {
			a.out.Line("%s  whole", t.Rel(t.Dir))
		}
		if uncovered != "" {
			a.out.Line("  %s", screen.Dim(uncovered))
		}
		for _, name := range beyond {
			a.out.Line("  %s  %s", screen.Level("note"), beyondWords(name))
		}
		for _, err := range bad {
			a.out.Line("%s  %s %s", t.Rel(t.Dir), screen.Level("stop"), screen.Safe(err.Error()))
		}
	}
	a.copies(d)
	bad := 0
	if len(args) == 0 {
		if bad, err = a.checkBook(d); err != nil {
			return err
		}
	}
	if damaged > 0 {
		a.hint("%s damaged: restore the files named above from your own backup", screen.Plural(damaged, "dossier"))
	}
	if damaged+bad > 0 {
		return exit(exitFailed)
	}
	return nil
}

// checkBook says what is damaged in the desk's book: so many lines.
func (a *app) checkBook(d *desk.Desk) (bad int, err error) {
	bad, err = d.CheckBook()
	if err != nil || bad == 0 {
		return 0, err
	}
	text := screen.Plural(bad, "line") + " altered; which dossiers were made here is told by the others alone"
	if a.json {
		return bad, a.printJSON(map[string]any{"path": desk.BookName, "whole": false, "damage": []string{text}})
	}
	a.out.Line("%s  %s %s", desk.BookName, screen.Level("stop"), text)
	return bad, nil
}
