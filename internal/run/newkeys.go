package run

import (
	"context"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
)

// This file is about new records that were handed over without a key, which the system gives them: whose
// key that is tell their other values, where these are one record's alone.

// keyless lists the steps that add a record which has no key yet.
func keyless(steps []*Step) (all []*Step) {
	for _, s := range steps {
		if s.answerable() && s.Act == changeset.Add && schema.IsNew(s.Key) && s.Outcome != Refused {
			all = append(all, s)
		}
	}
	return all
}

// Keyless reports whether the step adds a record to which the target gives its key, and of which it is not known whether it has it.
func (s *Step) Keyless() bool {
	return !s.handed && s.Outcome == Unknown && s.Act == changeset.Add && schema.IsNew(s.Key)
}

// like reports whether a row may be the record that a step adds: it has what the step gives, in all fields that
// both have, and in one at least that is filled.
func (s *Step) like(of *schema.Schema, key string, row record.Record) bool {
	alike := false
	get := row.Finder()
	for f := range s.Record.All() {
		v, there := get(f.Name)
		switch {
		case f.Name == key || !there:
		case !of.Equal(f.Name, f.Value, v):
			return false
		default:
			alike = alike || !v.Blank()
		}
	}
	return alike
}

// candidate is a row that may be a new record.
type candidate struct {
	key  record.Key
	row  record.Record
	take func(s *Step) // what follows where it is a step's
}

// match gives steps the rows that are theirs: where one row alone can be a step's, and that step alone the row's.
func match(of *schema.Schema, key string, steps []*Step, rows []candidate) {
	theirs := make([][]int, len(steps))
	claims := make([]int, len(rows))
	for i, s := range steps {
		for k := range rows {
			if s.like(of, key, rows[k].row) {
				theirs[i] = append(theirs[i], k)
				claims[k]++
			}
		}
	}
	for i, s := range steps {
		if len(theirs[i]) == 1 && claims[theirs[i][0]] == 1 {
			rows[theirs[i][0]].take(s)
		}
	}
}

// recognise finds, among the rows of an answer that name no record of the run, those of new records, and gives these
// the keys that stand there.
func (r *Record) recognise(t *desk.Dossier, learnt []Learnt) error {
	steps := keyless(r.Steps)
	if len(steps) == 0 {
		return nil
	}
	of, err := t.Schema()
	if err != nil {
		return err
	}
	known := r.Handed()
	var rows []candidate
	for i := range learnt {
		l := &learnt[i]
		if known[l.Key] != nil || len(l.Values) == 0 {
			continue
		}
		rows = append(rows, candidate{l.Key, l.Values, func(s *Step) {
			if l.Outcome == Done && !l.Key.Blank() {
				s.given(l.Key)
				if !s.handed { // nothing is read back: this is what it has
					s.keep().Read.Set(t.Set().Key[0], record.Text(l.Key.Parts()[0]))
				}
			}
			l.Key = s.Key
		}})
	}
	match(of, t.Set().Key[0], steps, rows)
	return nil
}

// giveKeys finds the new records in a fresh export, and gives them the keys that they have there.
func (v *Verification) giveKeys(t *desk.Dossier, handed []*judged, fresh *table.Image) error {
	var all []*Step
	for _, j := range handed {
		all = append(all, j.Step)
	}
	steps := keyless(all)
	if len(steps) == 0 || fresh == nil {
		return nil
	}
	was, err := t.OpenInput(t.Meta.Snapshot)
	if err != nil {
		return err
	}
	defer was.Close()
	old := map[record.Key]bool{}
	err = eachKey(was.Image, t.Set().Key, func(k record.Key, _ *csv.Line) { old[v.schema.Key(k)] = true })
	if err != nil {
		return err
	}
	var rows []candidate
	err = eachKey(fresh, t.Set().Key, func(k record.Key, r *csv.Line) {
		if !old[v.schema.Key(k)] {
			rows = append(rows, candidate{k, r.Record().Clone(), func(s *Step) { s.given(k) }})
		}
	})
	if err != nil {
		return err
	}
	match(v.schema, t.Set().Key[0], steps, rows)
	return nil
}

func eachKey(m *table.Image, key []string, yield func(record.Key, *csv.Line)) error {
	cols, err := csv.KeyColumns(m, key)
	if err != nil {
		return err
	}
	return csv.Each(context.Background(), m, func(r *csv.Line) error {
		yield(r.Key(cols), r)
		return nil
	})
}
