package run

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
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

	system []string // fields that the target writes itself
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
	v := &Verification{Differences: []Difference{}, System: []changeset.FieldCount{}, When: now.UTC(), system: last.Head.System}
	if err := v.steps(t, last.Head.Target, fresh); err != nil {
		return nil, err
	}
	backup, err := OpenBackup(t, last)
	if err != nil {
		return nil, err
	}
	defer backup.Close()
	if err := v.besides(ctx, t, last, backup.Image, fresh); err != nil {
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

// steps looks each standing step that went to the target up in the fresh
// state.
func (v *Verification) steps(t *desk.Dossier, target string, fresh *table.Image) error {
	done, err := standing(t)
	if err != nil {
		return err
	}
	byRun := map[*Step]bool{}
	var all []*Step
	for _, d := range done {
		if !byRun[d.step] && d.target == target {
			byRun[d.step] = true
			all = append(all, d.step)
		}
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
			if c, _ := now.Get(f.Name); !layout.Equal(f.Name, c, f.Value) && !slices.Contains(v.system, f.Name) {
				miss(f.Name, f.Value.String(), goneWord, c.String())
			}
		}
	default:
		for _, f := range s.Fields {
			if _, stands := done[unit{s.ID, f.Field}]; !stands {
				continue
			}
			if c, _ := now.Get(f.Field); !layout.Equal(f.Field, c, f.To) {
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

// besides compares the last run's backup with the fresh state and keeps what
// no step of that run is about.
func (v *Verification) besides(ctx context.Context, t *desk.Dossier, last *Record, backup, fresh *table.Image) error {
	sink := &besides{v: v, meant: map[unit]bool{}}
	for _, s := range last.Steps {
		if s.Outcome == Done {
			for _, u := range s.units() {
				sink.meant[u] = true
			}
		}
	}
	res, err := compare.Run(ctx, backup, fresh, compare.Options{RecordSet: t.Set().Name, Key: t.Set().Key,
		Missing: compare.Asked, Blank: compare.Clear, OtherRegister: true}, sink)
	if err != nil {
		return err
	}
	v.Totals = res.Totals
	for _, f := range res.Findings {
		if f.Level == changeset.Stop {
			v.Besides++
			v.Differences = append(v.Differences, Difference{"besides", f.Key, "", "(one row)", fmt.Sprintf("(%s, %d rows)", f.Code, f.Count)})
		}
	}
	return nil
}

// besides is the sink of the comparison that looks for what nobody meant.
type besides struct {
	v     *Verification
	meant map[unit]bool
}

func (b *besides) WriteEncoded(_ []byte, changes []*changeset.Change) error {
	for _, ch := range changes {
		key := ch.Key.String()
		if ch.Act != changeset.Amend {
			expected, found := goneWord, thereWord
			if ch.Act == changeset.Delete {
				expected, found = found, expected
			}
			if !b.meant[unit{ch.ID, ""}] {
				b.add(Difference{"besides", key, "", expected, found})
			}
			continue
		}
		for _, f := range ch.Fields {
			if slices.Contains(b.v.system, f.Field) {
				b.v.countSystem(f.Field)
			} else if !b.meant[unit{ch.ID, f.Field}] {
				b.add(Difference{"besides", key, f.Field, f.From.String(), f.To.String()})
			}
		}
	}
	return nil
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

func (b *besides) add(d Difference) {
	b.v.Besides++
	b.v.Differences = append(b.v.Differences, d)
}
