package run

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// Verification says whether what was meant to change did, and nothing else.
type Verification struct {
	AsMeant     int                    `json:"as_meant"` // steps whose values are all there
	NotDone     int                    `json:"not_done"` // steps whose record is as before
	Other       int                    `json:"other"`    // steps whose record is something else again
	Besides     int                    `json:"besides"`  // differences nobody meant: fields, records come or gone
	System      []changeset.FieldCount `json:"system"`   // what the target wrote itself, by field
	Differences []Difference           `json:"differences"`
	Totals      []compare.Total        `json:"totals"` // from the backup to now
	When        time.Time              `json:"when"`

	set    string   // the record set's name
	system []string // fields that the target writes itself
	layout *layout.Layout
}

// Holds reports whether everything is as meant.
func (v *Verification) Holds() bool { return v.NotDone+v.Other+v.Besides == 0 }

// Difference is one value that is not as meant.
type Difference struct {
	Kind     string `json:"kind"` // "not done", "other" or "besides"
	Key      string `json:"key"`
	Field    string `json:"field,omitempty"` // "" for a record come or gone
	Expected string `json:"expected"`
	Found    string `json:"found"`
}

// Words for a record in a Difference.
const (
	thereWord = "(the record)"
	goneWord  = "(no record)"
)

// Verify holds a fresh state against what a dossier's runs meant: what the
// last run read, with its steps done. The result is kept as verify.json.
func Verify(ctx context.Context, t *desk.Dossier, fresh *table.Image, now time.Time) (*Verification, error) {
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	if len(runs) == 0 {
		return nil, refuse(NothingDone, "dossier %s has not been carried out", t.Meta.Number)
	}
	last, err := ReadRun(t, runs[len(runs)-1])
	if err != nil {
		return nil, err
	}
	return verify(ctx, t, last, fresh, now)
}

// verify is Verify with the last run at hand.
func verify(ctx context.Context, t *desk.Dossier, last *Record, fresh *table.Image, now time.Time) (*Verification, error) {
	v := &Verification{Differences: []Difference{}, System: []changeset.FieldCount{}, When: now.UTC(), set: t.Set().Name, system: last.Head.System}
	var err error
	if v.layout, err = t.Layout(); err != nil {
		return nil, err
	}
	backup, err := OpenBackup(t, last)
	if err != nil {
		return nil, err
	}
	defer backup.Close()
	if err := v.compare(ctx, t, last, backup.Image, fresh); err != nil {
		return nil, err
	}
	_, err = disk.WriteFile(t.FS(), filepath.Join(last.Dir, verifyName), 0o600, func(w io.Writer) error {
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(v)
	})
	return v, err
}

// earlier looks up, in the fresh state, the steps that stand and were done by
// earlier runs on the target; the last run's are judged by the comparison.
func (v *Verification) earlier(t *desk.Dossier, last *Record, fresh *table.Image, done map[unit]standingUnit) error {
	seen := map[*Step]bool{}
	var all []*Step
	for _, d := range done {
		if !seen[d.step] && d.target == last.Head.Target && d.run != last.Head.Run {
			seen[d.step] = true
			all = append(all, d.step)
		}
	}
	if len(all) == 0 {
		return nil
	}
	sortSteps(all)
	found, err := csv.Lookup(fresh, t.Set().Key, keys(all))
	if err != nil {
		return err
	}
	for _, s := range all {
		now, there := found[s.Key]
		v.step(s, now, there, done)
	}
	return nil
}

// step judges one step by what is there now.
func (v *Verification) step(s *Step, now record.Record, there bool, done map[unit]standingUnit) {
	var bad []Difference
	get := now.Finder()
	before := true // all that is not as meant is as it was before
	miss := func(field string, expected, was, found string) {
		bad = append(bad, Difference{"other", s.Key.String(), field, expected, found})
		before = before && found == was
	}
	switch {
	case s.Act == changeset.Delete:
		if there {
			miss("", goneWord, thereWord, thereWord)
		}
	case !there:
		was := goneWord
		if s.Act == changeset.Amend {
			was = thereWord
		}
		miss("", thereWord, was, goneWord)
	case s.Act == changeset.Add:
		for _, f := range s.Record {
			if c, _ := get(f.Name); !v.layout.Equal(f.Name, c, f.Value) && !slices.Contains(v.system, f.Name) {
				miss(f.Name, f.Value.String(), goneWord, c.String())
			}
		}
	default:
		for _, f := range s.Fields {
			if _, stands := done[unit{s.ID, f.Field}]; !stands {
				continue
			}
			if c, _ := get(f.Field); !v.layout.Equal(f.Field, c, f.To) {
				miss(f.Field, f.To.String(), f.From.String(), c.String())
			}
		}
	}
	switch {
	case len(bad) == 0:
		v.AsMeant++
		return
	case before:
		v.NotDone++
		for i := range bad {
			bad[i].Kind = "not done"
		}
	default:
		v.Other++
	}
	v.Differences = append(v.Differences, bad...)
}

// compare compares the last run's backup with the fresh state: what differs
// is a step of that run, as meant or not, or moved besides.
func (v *Verification) compare(ctx context.Context, t *desk.Dossier, last *Record, backup, fresh *table.Image) error {
	done, err := standing(t)
	if err != nil {
		return err
	}
	ever, err := everDone(t)
	if err != nil {
		return err
	}
	sink := &differences{v: v, steps: map[changeset.ID]*Step{}, undone: map[unit]*Step{}, now: map[record.Key]*changeset.Change{}}
	for u, d := range ever {
		if _, stands := done[u]; !stands {
			sink.undone[u] = d.step
		}
	}
	for u, d := range done {
		if d.run == last.Head.Run {
			sink.steps[u.id] = d.step
		}
	}
	res, err := compare.Run(ctx, backup, fresh, compare.Options{RecordSet: t.Set().Name, Key: t.Set().Key, Layout: v.layout, SameOnly: true,
		Missing: compare.Asked, AllMissing: true, Blank: compare.Clear, OtherRegister: true}, sink)
	if err != nil {
		return err
	}
	v.Totals = res.Totals
	if err := v.earlier(t, last, fresh, done); err != nil {
		return err
	}
	steps := slices.Collect(maps.Values(sink.steps))
	sortSteps(steps)
	for _, s := range steps {
		now, there := sink.state(s)
		v.step(s, now, there, done)
	}
	v.Differences = append(v.Differences, sink.besides...)
	for _, f := range res.Findings {
		if f.Level == changeset.Stop {
			v.Besides++
			v.Differences = append(v.Differences, Difference{"besides", f.Key, "", "(one row)", fmt.Sprintf("(%s, %d rows)", f.Code, f.Count)})
		}
	}
	return nil
}

// differences is the sink of the comparison of backup and fresh state.
type differences struct {
	v       *Verification
	steps   map[changeset.ID]*Step // of the last run
	undone  map[unit]*Step         // what rollbacks took back since
	now     map[record.Key]*changeset.Change
	besides []Difference
}

func (d *differences) WriteEncoded(_ []byte, changes []*changeset.Change) error {
	for _, ch := range changes {
		d.take(ch)
	}
	return nil
}

// take sorts one change into what a step is about and what moved besides.
func (d *differences) take(ch *changeset.Change) {
	key := ch.Key.String()
	amend := d.steps[changeset.MakeID(d.v.set, ch.Key, changeset.Amend)]
	step := d.steps[ch.ID]
	if amend != nil || step != nil {
		d.now[ch.Key] = ch
	}
	if ch.Act != changeset.Amend {
		expected, found := goneWord, thereWord
		if ch.Act == changeset.Delete {
			expected, found = found, expected
		}
		back := unit{changeset.MakeID(d.v.set, ch.Key, ch.Act.Inverse()), ""}
		if step == nil && amend == nil && d.undone[back] == nil {
			d.beside(Difference{"besides", key, "", expected, found})
		}
		return
	}
	fields := map[string]bool{}
	if step != nil {
		for _, f := range step.Fields {
			fields[f.Field] = true
		}
	}
	for _, f := range ch.Fields {
		switch {
		case slices.Contains(d.v.system, f.Field):
			d.v.countSystem(f.Field)
		case d.takenBack(ch.ID, &f):
		case step == nil || !fields[f.Field]:
			d.beside(Difference{"besides", key, f.Field, f.From.String(), f.To.String()})
		}
	}
}

// takenBack reports whether a field is as it was before a step that a
// rollback undid.
func (d *differences) takenBack(id changeset.ID, f *changeset.FieldChange) bool {
	s := d.undone[unit{id, f.Field}]
	if s == nil {
		return false
	}
	for i := range s.Fields {
		if s.Fields[i].Field == f.Field {
			return d.v.layout.Equal(f.Field, f.To, s.Fields[i].From)
		}
	}
	return false
}

func (d *differences) beside(x Difference) {
	d.v.Besides++
	d.besides = append(d.besides, x)
}

// state returns a step's record as far as the comparison saw it: what did not
// change since the backup is as the step found it.
func (d *differences) state(s *Step) (now record.Record, there bool) {
	ch := d.now[s.Key]
	switch s.Act {
	case changeset.Add:
		if ch == nil || ch.Act != changeset.Add {
			return nil, false
		}
		return ch.Record, true
	case changeset.Delete:
		return s.Record, ch == nil || ch.Act != changeset.Delete
	}
	if ch != nil && ch.Act == changeset.Delete {
		return nil, false
	}
	to := map[string]record.Value{}
	if ch != nil {
		for _, f := range ch.Fields {
			to[f.Field] = f.To
		}
	}
	for _, f := range s.Fields {
		v, moved := to[f.Field]
		if !moved {
			v = f.From
		}
		now = append(now, record.Field{Name: f.Field, Value: v})
	}
	return now, true
}

func (v *Verification) countSystem(field string) {
	for i := range v.System {
		if v.System[i].Field == field {
			v.System[i].Changes++
			return
		}
	}
	v.System = append(v.System, changeset.FieldCount{Field: field, Changes: 1})
}
