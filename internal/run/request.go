package run

import (
	"context"
	"encoding/json"
	"slices"

	"paletwin/core/changeset"
	"paletwin/internal/target"
)

// This file is about targets whose steps are requests. What tells later what became of a request is journaled before it is sent; the
// target finds it out, in this process or in the one that finishes the run, and never by what merely stands there by then.

// request carries out a batch of requests.
func (j *Job) request(ctx context.Context, q target.Requester, jr *journal, r *Record, part []*Step, sent []target.Step) error {
	begun := false
	results, err := q.Request(ctx, sent, func(ticket json.RawMessage) error {
		if begun {
			return jr.append(ticketed(r.batch, ticket))
		}
		begun = true
		return jr.append(batch(r.batch, "intend", part, (*Step).intent, map[string]any{"ticket": ticket}))
	})
	return j.told(jr, r, part, results, err)
}

// told journals what became of requests, and of which nothing was sent. Where the target had to end, the run is broken.
func (j *Job) told(jr *journal, r *Record, part []*Step, results []target.Result, err error) error {
	var known, asked []*Step
	unsent := []string{}
	for i, s := range part {
		switch results[i].Fate {
		case target.Waiting:
			unsent = append(unsent, s.ID.String())
		case target.Asked:
			asked = append(asked, s)
		default:
			s.became(&results[i], j)
			known = append(known, s)
		}
	}
	if len(known) > 0 || len(unsent) > 0 {
		if jerr := jr.append(batch(r.batch, "outcomes", known, (*Step).outcome, map[string]any{"unsent": unsent})); jerr != nil {
			return jerr
		}
	}
	if err != nil {
		return r.broken(err, asked)
	}
	return nil
}

// ticketed is the line that keeps one more ticket of a batch.
func ticketed(n int, ticket json.RawMessage) ([]byte, error) {
	return batch(n, "intend", nil, (*Step).intent, map[string]any{"ticket": ticket})
}

// askAgain has the target find out what became of the requests of a run that was interrupted.
func (j *Job) askAgain(ctx context.Context, r *Record) error {
	q, ok := j.Target.(target.Requester)
	if !ok {
		return nil
	}
	var open []*Step
	for _, s := range r.Steps {
		if s.Outcome == "" && r.open[s.ID] {
			open = append(open, s)
		}
	}
	if len(open) == 0 {
		return nil
	}
	jr := r.journal(j.Dossier)
	results, err := q.Again(ctx, target.All(j.forTarget(open, nil)), r.tickets, func(ticket json.RawMessage) error { return jr.append(ticketed(r.batch, ticket)) })
	err = j.told(jr, r, open, results, err)
	r.size, r.last = jr.size, jr.last
	return err
}

// leftOut takes fields out of a done amend that the target left as they were.
func (s *Step) leftOut() {
	if s.Outcome != Done || !s.Partly() || s.Act != changeset.Amend {
		return
	}
	s.Fields = s.without(s.Fields)
}

// without are fields without those that were left.
func (s *Step) without(fields changeset.Packed) changeset.Packed {
	return fields.Where(func(f changeset.Edit) bool { return !slices.Contains(s.Rare().Left, f.Field) })
}
