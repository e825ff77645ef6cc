package run

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/target"
)

// This file is about targets whose batches are transactions. What becomes of a batch
// is journaled before it is committed, with the transaction's ticket; where the answer is
// lost, the ticket tells whether it was, and what was journaled is what became of it,
// whatever stands there by then.

// commit carries out a batch in a transaction.
func (j *Job) commit(ctx context.Context, c target.Committer, jr *journal, r *Record, part []*Step, sent []target.Step) error {
	var promise []*Step // the last one counts
	results, err := c.Commit(ctx, sent, func(ticket json.RawMessage, results []target.Result) error {
		will := make([]*Step, len(part))
		for i, s := range part {
			will[i] = s.copied()
			will[i].became(&results[i], j)
		}
		promise, r.tickets = will, append(r.tickets, ticket)
		return jr.append(promised(r.batch, will, ticket))
	})
	if err != nil {
		return err
	}
	target.Doubted(sent, results)
	has := func(f target.Fate) bool {
		return slices.ContainsFunc(results, func(r target.Result) bool { return r.Fate == f })
	}
	if !has(target.Done) || has(target.Unknown) { // what may have been promised is void
		for i, s := range part {
			s.became(&results[i], j)
		}
		return jr.append(outcomes(r.batch, part, nil))
	}
	for i, s := range part { // to the second in which it was promised
		*s = *promise[i]
	}
	return jr.append(committed(r.batch))
}

// became gives the step the outcome that the transaction had for it.
func (s *Step) became(r *target.Result, j *Job) {
	if !s.ends(r, j.Now()) {
		return
	}
	s.given(r.Key)
	s.stood(s.unlikeBefore(r.Before))
	if len(r.Along) > 0 || s.rare != nil {
		s.keep().Along = r.Along
	}
	if r.Reason != "" && s.wentBy() == "" {
		s.Reason = r.Reason
	}
	if len(r.Left) > 0 {
		s.keep().Left = append(s.keep().Left, r.Left...)
		s.leftOut()
	}
	if r.After != nil {
		s.noteRead(&target.State{Count: 1, Record: r.After})
	}
}

// unlikeBefore is what was there under the lock, in the fields in which it is not what
// the step says: another form of the same value.
func (s *Step) unlikeBefore(before record.Record) record.Record {
	var unlike record.Record
	get := before.Finder()
	note := func(field string, said record.Value) {
		if was, there := get(field); there && was != said {
			unlike.Set(field, was)
		}
	}
	for f := range s.Fields.All() {
		note(f.Field, f.From)
	}
	if s.Act == changeset.Delete {
		for f := range s.Record.All() {
			note(f.Name, f.Value)
		}
	}
	return unlike
}

// stood takes what was there under the lock for what the step found.
func (s *Step) stood(before record.Record) {
	if len(before) > 0 || s.rare != nil {
		s.keep().Before = before
	}
	if len(before) == 0 {
		return
	}
	get := before.Finder()
	edits := s.Fields.Edits()
	for i := range edits {
		if was, ok := get(edits[i].Field); ok {
			edits[i].From = was
		}
	}
	s.Fields = changeset.Pack(edits)
	if s.Act == changeset.Delete {
		r := s.Record.Record()
		for _, f := range before {
			r.Set(f.Name, f.Value)
		}
		s.Record = r.Pack()
	}
}

// askFate finds out what became of the last batch of a run that was interrupted: one
// that was committed has the outcomes that were journaled; of others it is known that
// nothing was written.
func (j *Job) askFate(ctx context.Context, r *Record) error {
	c, ok := j.Target.(target.Committer)
	if !ok || r.promise == nil {
		return nil
	}
	fate, why, err := c.Fate(ctx, r.promise.ticket)
	if err != nil {
		return err
	}
	byID := make(map[changeset.ID]*Step, len(r.Steps))
	for _, s := range r.Steps {
		byID[s.ID] = s
	}
	switch fate {
	case target.Done:
		line, err := committed(r.promise.batch)
		if err := r.append(j.Dossier, line, err); err != nil {
			return err
		}
		return r.take(&entry{committed: true}, byID)
	case target.Unknown:
		var lost []*Step
		var d stepReader
		_, err := d.steps(r.promise.promise, func(l *Step) error {
			s := byID[l.ID]
			if s == nil {
				return fmt.Errorf("the journal promises %s, of which the rollback file says nothing", l.ID)
			}
			if s.Outcome, s.Reason, s.When = l.Outcome, l.Reason, momentOf(j.Now()); l.Outcome == Done {
				s.Outcome, s.Reason = Unknown, "the run was interrupted while it was written, and whether it was cannot be told: "+why
			}
			lost = append(lost, s)
			return nil
		})
		if err != nil {
			return err
		}
		r.promise = nil
		line, err := outcomes(r.batch, lost, nil)
		return r.append(j.Dossier, line, err)
	}
	r.promise = nil
	return nil
}
