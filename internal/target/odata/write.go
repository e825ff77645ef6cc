package odata

import (
	"context"
	"encoding/json"
	"errors"
	"strconv"
	"sync"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/target"
)

// This file carries steps out: in rounds, until of each it is known what became of it. What an answer means stands in fate.go.

// keeper keeps a ticket.
type keeper func(ticket json.RawMessage) error

// Write carries out steps of which nobody keeps what they are.
func (s *Set) Write(ctx context.Context, steps []target.Step) ([]target.Result, error) {
	results, err := s.Request(ctx, steps, func(json.RawMessage) error { return nil })
	if err == nil {
		return results, nil
	}
	for i := range results {
		if results[i].Fate != target.Waiting {
			return nil, err
		}
	}
	return nil, &target.Unwritten{Err: err}
}

// Request carries out a batch.
func (s *Set) Request(ctx context.Context, steps []target.Step, keep func(ticket json.RawMessage) error) ([]target.Result, error) {
	results := make([]target.Result, len(steps))
	units := unitsOf(steps, results)
	err := ctx.Err()
	if err == nil && len(units) > 0 {
		err = table.Guard(func() error { return s.carry(ctx, units, keep) }) // the spool is in use
	}
	s.leave(units, err)
	return results, err
}

// Again finds out what became of the steps of a batch that was interrupted.
func (s *Set) Again(ctx context.Context, steps []target.Step, tickets []json.RawMessage, keep func(ticket json.RawMessage) error) ([]target.Result, error) {
	results := make([]target.Result, len(steps))
	units := unitsOf(steps, results)
	sent := map[string]*slip{}
	var jobs []*job
	for _, raw := range tickets {
		var t ticket
		if err := json.Unmarshal(raw, &t); err != nil {
			return nil, err
		}
		for i := range t.Sent {
			sent[t.Sent[i].ID] = &t.Sent[i]
		}
		if t.Job != nil {
			jobs = append(jobs, t.Job)
		}
	}
	byID := map[string]*unit{}
	for _, u := range units {
		for _, it := range u.items {
			if sl := sent[it.step.ID.String()]; sl != nil {
				it.remember(sl)
				byID[sl.ID] = u
			}
		}
	}
	err := table.Guard(func() error {
		for _, j := range jobs {
			if err := s.hear(ctx, j, byID); err != nil {
				return err
			}
		}
		for _, u := range units {
			if it := u.items[0]; it.doubt && !u.done {
				if err := s.wasLost(u, cause{}); err != nil {
					return err
				}
			}
		}
		return s.carry(ctx, units, keep)
	})
	s.leave(units, err)
	return results, err
}

// Waited says how often, and how long in all, was waited since the service was busy.
func (s *Set) Waited() (times int, in time.Duration) {
	return int(s.c.waits.times.Load()), time.Duration(s.c.waits.in.Load())
}

// leave says of what has no result whether it was sent.
func (s *Set) leave(units []*unit, err error) {
	if err == nil {
		return
	}
	for _, u := range units {
		for _, it := range u.items {
			if it.done {
				continue
			}
			*it.res = target.Result{Fate: target.Waiting}
			if it.doubt || u.look == readBack {
				it.res.Fate = target.Asked
			}
		}
	}
}

// hear asks for the answer of a job that an earlier process left.
func (s *Set) hear(ctx context.Context, j *job, byID map[string]*unit) error {
	reqs := make([]request, len(j.Group))
	for i, g := range j.Group {
		reqs[i].group = g
	}
	r, err := s.c.await(ctx, j, nil)
	var e *Error
	if errors.As(err, &e) && e.Code == Lost {
		return nil
	}
	if err != nil {
		return err
	}
	x := &exchanged{answers: make([]*answer, len(reqs))}
	if len(reqs) == 1 && reqs[0].group == "" {
		x.answers[0] = r.answer()
	} else if err := s.c.batchAnswer(reqs, r, x); err != nil {
		return nil // it is sent again, with the same If-Match
	}
	for i := 0; i < len(reqs) && i < len(j.Of); {
		n := groupLen(reqs, i)
		if u := byID[j.Of[i]]; u != nil && len(u.items) == n && !u.done {
			if err := s.told(u, x.answers[i:i+n]); err != nil {
				return err
			}
		}
		i += n
	}
	return nil
}

// carry carries units out.
func (s *Set) carry(ctx context.Context, units []*unit, keep keeper) error {
	first := true
	if len(units) > 1 || units[0].linked() {
		if err := s.c.prove(ctx, s.probe()); err != nil {
			return err
		}
	}
	for {
		var open []*unit
		for _, u := range units {
			if !u.done {
				open = append(open, u)
			}
		}
		if len(open) == 0 {
			return nil
		}
		if err := s.look(ctx, open, first); err != nil {
			return err
		}
		first = false
		var ready []*unit
		for _, u := range open {
			if !u.done && u.look == no && s.ready(u) {
				ready = append(ready, u)
			}
		}
		if len(ready) == 0 {
			continue
		}
		if err := s.pause(ctx); err != nil {
			return err
		}
		if err := s.sendAll(ctx, ready, keep); err != nil {
			return err
		}
	}
}

// pause waits where the service asked for it.
func (s *Set) pause(ctx context.Context) error {
	d, asked := s.held, s.busy
	s.held, s.busy = 0, false
	switch {
	case d > maxWait:
		return &Error{Name: s.Name(), Code: Busy, Text: "the service is busy and asks to come back in " + d.String()}
	case d > 0:
		if asked {
			s.c.waits.note(d)
		}
		return s.c.sleep(ctx, d)
	}
	return nil
}

// look reads the records that have to be looked at, and takes in what they are.
func (s *Set) look(ctx context.Context, units []*unit, first bool) error {
	var keys []record.Key
	var about []*unit
	for _, u := range units {
		wants := u.look != no
		for _, it := range u.items {
			if first && !it.doubt && it.now == nil && it.step.Act != changeset.Add {
				if it.now = s.seen[s.o.Of.Key(it.step.Key)]; it.now == nil && s.tagged {
					wants = true
				}
			}
		}
		if !wants {
			continue
		}
		about = append(about, u)
		for _, it := range u.items {
			keys = append(keys, it.at)
		}
	}
	if len(about) == 0 {
		return nil
	}
	now, err := s.readKeys(ctx, keys)
	if err != nil {
		return err
	}
	for _, u := range about {
		n := len(u.items)
		if u.look == no { // never read until now
			for i, it := range u.items {
				it.now = now[i]
			}
		} else if err := s.looked(u, now[:n]); err != nil {
			return err
		}
		now = now[n:]
	}
	return nil
}

// ready makes a unit's requests, unless a record is no longer as its step says.
func (s *Set) ready(u *unit) bool {
	for _, it := range u.items {
		if it.doubt { // it is sent as it was
			if it.body == nil {
				if err := s.prepared(it); err != nil {
					u.is(it, target.Refused, "%s", err)
					return false
				}
			}
			continue
		}
		if it.now != nil {
			if why := it.step.Unlike(s.state(it.now), s.o.Of); why != "" && it.step.Act != changeset.Add {
				u.is(it, target.Moved, "%s", why)
				return false
			}
		}
		if err := s.prepared(it); err != nil {
			u.is(it, target.Refused, "%s", err)
			return false
		}
	}
	if u.linked() && s.c.batches.form == alone {
		u.is(u.items[0], target.Refused, "it is linked with others, and the service takes no batches in which they are written together or not at all")
		return false
	}
	return true
}

// chunk is units whose requests go together.
type chunk struct {
	units []*unit
	n     int // requests
	swift bool
	x     *exchanged
	err   error
}

// chunks parts units into what is sent together. What could not be told apart afterwards is sent alone.
func (s *Set) chunks(units []*unit) (all []*chunk) {
	most := s.most()
	var open *chunk
	for _, u := range units {
		swift, solo := true, u.solo
		for _, it := range u.items {
			swift = swift && it.step.Act == changeset.Amend
			solo = solo || !s.tellable(it)
		}
		if open == nil || solo || open.swift != swift || open.n+len(u.items) > most {
			open = &chunk{swift: swift}
			all = append(all, open)
		}
		open.units, open.n = append(open.units, u), open.n+len(u.items)
		if solo {
			open = nil
		}
	}
	return all
}

// most is how many requests go together.
func (s *Set) most() int {
	if s.c.batches.form == alone {
		return 1
	}
	most := s.size()
	if known := int(s.c.batches.most.Load()); known > 0 {
		most = min(most, known)
	}
	return most
}

// sendAll sends requests, some at once: amends. What is added or deleted may need what stands before it, and goes in order.
func (s *Set) sendAll(ctx context.Context, units []*unit, keep keeper) error {
	t, err := slips(units)
	if err == nil {
		err = keep(t)
	}
	if err != nil {
		return err
	}
	var mu sync.Mutex
	s.keep = func(t json.RawMessage) error {
		mu.Lock()
		defer mu.Unlock()
		return keep(t)
	}
	chunks := s.chunks(units)
	for len(chunks) > 0 {
		n := 1
		for n < s.flights() && n < len(chunks) && chunks[n].swift && chunks[n-1].swift {
			n++
		}
		var wg sync.WaitGroup
		for _, c := range chunks[:n] {
			wg.Go(func() { s.send(ctx, c) })
		}
		wg.Wait()
		var ends error
		for _, c := range chunks[:n] {
			if err := s.took(c); ends == nil {
				ends = err
			}
		}
		if ends != nil {
			return ends
		}
		chunks = chunks[n:]
		if s.held > 0 {
			return nil // the rest goes after it
		}
	}
	return nil
}

// send sends a chunk. Where records have no ETags, they are read once more just before.
func (s *Set) send(ctx context.Context, c *chunk) {
	c.x = &exchanged{}
	if !s.tagged {
		if c.err = s.fresh(ctx, c); c.err != nil {
			return
		}
	}
	var reqs []request
	var ids []string
	for i, u := range c.units {
		group := ""
		if u.linked() {
			group = "g" + strconv.Itoa(i)
		}
		for _, it := range u.items {
			reqs, ids = append(reqs, s.request(it, group)), append(ids, it.step.ID.String())
		}
	}
	if len(reqs) == 0 {
		c.x = &exchanged{}
		return
	}
	c.x, c.err = s.c.exchange(ctx, reqs, sending{job: func(j *job) error {
		j.Of = ids
		raw, err := json.Marshal(ticket{Job: j})
		if err == nil {
			err = s.keep(raw)
		}
		return err
	}})
}

// fresh reads the records of a chunk, and leaves those out that are not as their steps say.
func (s *Set) fresh(ctx context.Context, c *chunk) error {
	var keys []record.Key
	for _, u := range c.units {
		for _, it := range u.items {
			keys = append(keys, it.at)
		}
	}
	now, err := s.readKeys(ctx, keys)
	if err != nil {
		return &target.Unwritten{Err: err}
	}
	var good []*unit
	for _, u := range c.units {
		fine := true
		for i, it := range u.items {
			if it.step.Act == changeset.Add || it.doubt {
				continue
			}
			if it.now = now[i]; it.step.Unlike(s.state(it.now), s.o.Of) != "" {
				fine = false
			}
		}
		now = now[len(u.items):]
		if fine {
			good = append(good, u)
		} // else the next round says so
	}
	c.units = good
	return nil
}

// took takes in what a chunk was answered.
func (s *Set) took(c *chunk) error {
	if c.x.again {
		for _, u := range c.units {
			for _, it := range u.items {
				it.doubt = true
			}
		}
	}
	var e *Error
	switch {
	case errors.As(c.err, new(*target.Unwritten)):
		return c.err
	case c.err == nil:
		answers := c.x.answers
		var ends error
		for _, u := range c.units {
			n := len(u.items)
			if err := s.told(u, answers[:n]); ends == nil {
				ends = err
			}
			answers = answers[n:]
		}
		return ends
	case !errors.As(c.err, &e): // nobody waits any more: what was sent was
		for _, u := range c.units {
			for _, it := range u.items {
				it.doubt = true
			}
		}
		return c.err
	case e.Code == Lost, e.Code == Failed:
		why := cause{}
		if e.Code == Failed && len(c.units) == 1 {
			why = e.cause
		}
		var ends error
		for _, u := range c.units {
			u.solo = u.solo || e.Code == Failed // one of them may be why
			if err := s.wasLost(u, why); ends == nil {
				ends = err
			}
		}
		if tries := c.units[0].items[0].tries; c.n > 1 && tries > 1 {
			s.c.batches.most.Store(int32(c.n / 2))
		}
		s.held = max(s.held, 50*time.Millisecond<<min(c.units[0].items[0].tries, 6))
		return ends
	case e.Code == TooLarge:
		if len(c.units) == 1 {
			u := c.units[0]
			u.is(u.items[0], target.Refused, "%s", e.Text)
			return nil
		}
		s.c.batches.most.Store(int32(max(1, c.n/2)))
		return nil
	}
	return c.err
}
