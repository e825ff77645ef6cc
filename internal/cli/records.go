package cli

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/words"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
)

// asked is what history is asked about records.
type asked struct {
	record, field, since, until, by string
}

func (q *asked) any() bool { return q.record+q.field+q.since+q.until+q.by != "" }

// question reads the flags.
func (q *asked) question() (*run.Question, error) {
	out := &run.Question{Field: q.field, By: q.by}
	var err error
	if out.Since, err = day("since", q.since); err != nil {
		return nil, err
	}
	if out.Until, err = day("until", q.until); err != nil {
		return nil, err
	}
	if q.until != "" {
		out.Until = out.Until.AddDate(0, 0, 1)
	}
	if q.record != "" {
		out.Record = func(set *desk.RecordSet) (record.Key, bool) {
			k, err := parseKey(q.record, set.Key)
			return k, err == nil
		}
	}
	return out, nil
}

// day reads a date of the place where the command is run.
func day(flag, said string) (time.Time, error) {
	if said == "" {
		return time.Time{}, nil
	}
	t, err := time.ParseInLocation(time.DateOnly, said, time.Local)
	if err != nil {
		return t, usage("--with %s takes a date such as 2026-03-01, not %q", flag, said)
	}
	return t, nil
}

// records says what happened to records.
func (a *app) records(args []string, q *asked) error {
	question, err := q.question()
	if err != nil {
		return err
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	events, damaged, err := run.History(d, *question)
	if err != nil {
		return err
	}
	if len(args) == 1 {
		t, err := a.dossier(args[0])
		if err != nil {
			return err
		}
		events = slices.DeleteFunc(events, func(e run.Event) bool { return e.Dossier.Meta.Number != t.Meta.Number })
	}
	slices.SortStableFunc(events, func(x, y run.Event) int { return x.When().Compare(y.When()) })
	if a.json {
		for i := range events {
			if err := a.printJSON(eventJSON(&events[i])); err != nil {
				return err
			}
		}
	} else {
		a.events(events, q)
	}
	for _, t := range damaged {
		a.hint("%s %s is damaged and was passed over: paletwin history --check", screen.Level("warn"), t.Rel(t.Dir))
	}
	return nil
}

func (a *app) events(all []run.Event, q *asked) {
	if len(all) == 0 {
		a.out.Line("no dossier on this desk is about that")
		return
	}
	t := screen.Table{Heading: []string{"when", "dossier", "record", "field", "from", "", "to", "became", "approved", "made from"}, Right: []bool{false, false, false, false, true}}
	const most = 200
	for _, e := range all[:min(len(all), most)] {
		m := e.Dossier.Meta
		from, arrow, to := "", "", ""
		if e.Act == changeset.Amend {
			from, arrow, to = screen.Pale(value(e.From, 24)), "→", screen.Strong(value(e.To, 24))
		}
		field := screen.Safe(e.Field)
		if e.Field == "" {
			field = screen.Act(e.Act.String())
		}
		t.Row(screen.Dim(e.When().Local().Format("2 Jan 2006 15:04")), screen.Strong(m.Number)+" "+screen.Cut(screen.Safe(m.Title), 26), screen.Value(e.Key.String(), 24),
			field, from, arrow, to, became(&e), approved(&e), screen.Cut(cmp.Or(screen.Safe(words.List(e.Of)), source(e.Dossier)), 26))
	}
	t.Print(a.out)
	if len(all) > most {
		a.out.Line("%s", screen.Dim(fmt.Sprintf("and %s more; --json lists them all", screen.Count(len(all)-most))))
	}
}

// source names what a change was made from: the copy, the list of deletes, or
// the dossier that it undoes.
func source(t *desk.Dossier) string {
	if name, ok := editedName(t).(string); ok && t.Meta.Undoes == nil {
		return screen.Safe(name)
	}
	return madeFrom(t)
}

// became says what became of a change.
func became(e *run.Event) string {
	if n := len(e.Deeds); n > 0 {
		d := e.Deeds[n-1]
		word := string(d.Outcome)
		if d.Outcome != run.Done && d.Outcome != run.Settled {
			word = screen.Hue("delete", word)
		}
		return fmt.Sprintf("%s, run %d", word, d.Run)
	}
	switch e.State.Decision {
	case changeset.Approve:
		return "not carried out"
	case changeset.Reject:
		return "rejected"
	case changeset.Hold:
		return "held"
	}
	return "open"
}

// approved names who decided.
func approved(e *run.Event) string {
	if e.State.Decision != changeset.Approve {
		return ""
	}
	return screen.Cut(screen.Safe(e.State.By), 20)
}

func eventJSON(e *run.Event) any {
	m := e.Dossier.Meta
	deeds := []map[string]any{}
	for _, d := range e.Deeds {
		deeds = append(deeds, map[string]any{"run": d.Run, "outcome": d.Outcome, "reason": d.Reason, "by": d.By, "when": d.When, "target": d.Target, "load": d.Load})
	}
	j := map[string]any{"dossier": m.Number, "title": m.Title, "record_set": e.Dossier.Set().Name, "key": keyJSON(e.Dossier.Set().Key, e.Key), "act": e.Act, "field": nil, "from": nil, "to": nil,
		"when": e.When(), "compared": map[string]any{"by": m.By, "when": m.When, "snapshot": m.Snapshot.Name, "edited": editedName(e.Dossier)},
		"decision": map[string]any{"decision": cmp.Or(string(e.State.Decision), "open"), "by": e.State.By, "when": orNull(e.State.When), "note": e.State.Note}, "runs": deeds}
	if len(e.Of) > 0 {
		j["of"] = e.Of
	}
	if e.Field != "" {
		j["field"], j["from"], j["to"] = e.Field, jsonValue(e.From), jsonValue(e.To)
	}
	return j
}

func orNull(t time.Time) any {
	if t.IsZero() {
		return nil
	}
	return t
}

func editedName(t *desk.Dossier) any {
	switch m := t.Meta; {
	case len(m.Edited) == 1:
		return m.Edited[0].Name
	case len(m.Edited) > 0:
		return m.Edited.Names()
	case m.DeleteList != nil:
		return m.DeleteList.Name
	}
	return nil
}

// jsonValue is a value as JSON has it: a text, or null.
func jsonValue(v record.Value) any {
	if v.IsNull() {
		return nil
	}
	return v.String()
}
