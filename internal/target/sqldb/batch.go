package sqldb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/target"
)

// This file carries out a batch: how often it is tried, and what became of it where
// the answer was lost. What is done in the transaction stands in write.go.

// Patience is how long is waited for the answer to what is done in a transaction, and
// for the fate of one whose connection was lost.
var Patience = 30 * time.Second

// promise keeps what becomes of steps if a transaction is committed, and its ticket.
type promise func(ticket json.RawMessage, results []target.Result) error

// doubt is a commit whose answer was lost.
type doubt struct {
	ticket *ticket
	err    error
}

func (d *doubt) Error() string { return d.err.Error() }
func (d *doubt) Unwrap() error { return d.err }

// Write carries out steps of which nobody keeps what they are promised.
func (t *Table) Write(ctx context.Context, steps []target.Step) ([]target.Result, error) {
	return t.Commit(ctx, steps, func(json.RawMessage, []target.Result) error { return nil })
}

// manner is how the steps of a batch are carried out.
type manner uint8

const (
	// swift: what is added or deleted is written at once, and looked at in what the
	// database gives back. The others are read under their locks first.
	swift   manner = iota
	careful        // all are read under their locks first
	alone          // each step, or link, for itself
)

// errUnlike says that what came back of a batch that was carried out swiftly is not as the
// steps say: it is rolled back, and done with care.
var errUnlike error = &failure{kind: other, text: "a record is not as its step says"}

// Commit carries out a batch in one transaction. One of two that wait for each other is
// tried again; one with a record that the database refuses, or that somebody else keeps
// locked, is done record by record, so that the others are written.
func (t *Table) Commit(ctx context.Context, steps []target.Step, keep func(json.RawMessage, []target.Result) error) ([]target.Result, error) {
	if t.over != nil {
		return t.commitShard(ctx, steps, keep)
	}
	how := swift
	for try := 0; ; try++ {
		results, err := t.transaction(ctx, steps, how, keep)
		var d *doubt
		if errors.As(err, &d) {
			f, why, ferr := t.await(ctx, d)
			switch {
			case ferr != nil:
				return nil, t.said(ferr) // the next run asks
			case f == committed:
				err = nil
			case f == unknown:
				return t.doubtful(steps, results, why), t.forget()
			}
		}
		if err == nil {
			return results, t.forget()
		}
		if cerr := ctx.Err(); cerr != nil {
			return nil, &target.Unwritten{Err: cerr}
		}
		if errors.Is(err, errUnlike) {
			how, try = careful, -1
			continue
		}
		f := t.e.failure(err)
		if f == nil {
			return nil, &target.Unwritten{Err: err}
		}
		if (f.kind == refused || f.kind == locked) && how != alone {
			how, try = alone, -1
			continue
		}
		if f.kind != again && f.kind != lost || try >= len(waits) {
			return nil, &target.Unwritten{Err: t.said(err)}
		}
		if err := target.Sleep(ctx, waits[try]); err != nil {
			return nil, &target.Unwritten{Err: err}
		}
	}
}

// doubtful makes unknown what would have been done.
func (t *Table) doubtful(steps []target.Step, results []target.Result, why string) []target.Result {
	for i := range results {
		if results[i].Fate == target.Done {
			results[i] = target.Result{Fate: target.Unknown, Reason: "the connection was lost while it was written, and whether it was cannot be told: " + why}
		}
	}
	target.Doubted(steps, results)
	return results
}

// await finds out what became of a commit whose answer was lost, for as long as Patience.
func (t *Table) await(ctx context.Context, d *doubt) (fate, string, error) {
	if d.ticket == nil {
		return unknown, "the target's settings forbid the table by which that is told", nil
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), Patience)
	defer cancel()
	var err error
	for wait := 20 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		var f fate
		var why string
		if f, why, err = t.ask(ctx, d.ticket); err == nil && f != running {
			return f, why, nil
		}
		if target.Sleep(ctx, wait) != nil {
			if err == nil {
				err = errors.New("its transaction is still open at the server")
			}
			return unknown, "", err
		}
	}
}

// ask asks for the fate of a transaction over a new connection.
func (t *Table) ask(ctx context.Context, k *ticket) (fate, string, error) {
	if err := t.connect(ctx); err != nil {
		return unknown, "", err
	}
	f, why, err := t.e.fate(ctx, t.s, t.def, k)
	if t.before == k.Token {
		t.before = "" // its row tells whoever asks again
	}
	return f, why, err
}

// Fate finds out what became of the transaction of a run that was interrupted.
func (t *Table) Fate(ctx context.Context, raw json.RawMessage) (target.Fate, string, error) {
	if t.over != nil {
		return t.fateOfShard(ctx, raw)
	}
	if err := t.elsewhere(raw); err != nil {
		return target.Unknown, "", err
	}
	var k ticket
	if err := json.Unmarshal(raw, &k); err != nil {
		return target.Unknown, "", fmt.Errorf("a ticket cannot be read: %w", err)
	}
	if k == (ticket{}) {
		return target.Unknown, "the target's settings forbid the table by which that is told", nil
	}
	f, why, err := t.await(ctx, &doubt{&k, nil})
	if err != nil {
		return target.Unknown, "", t.said(err)
	}
	switch f {
	case committed:
		return target.Done, "", nil
	case rolledBack:
		return target.Refused, "", nil
	}
	return target.Unknown, why, nil
}

// Settled removes the rows of tickets.
func (t *Table) Settled(ctx context.Context, tickets []json.RawMessage) error {
	if t.over != nil {
		return t.settledShards(ctx, tickets)
	}
	var tokens []string
	for _, raw := range tickets {
		var k ticket
		if json.Unmarshal(raw, &k) == nil && k.Token != "" {
			tokens = append(tokens, k.Token)
		}
	}
	t.before = ""
	if len(tokens) == 0 || !t.tickets {
		return nil
	}
	if t.s == nil {
		if err := t.connect(ctx); err != nil {
			return t.said(err)
		}
	}
	for part := range slices.Chunk(tokens, batchSize) {
		if err := t.e.settle(ctx, t.s, t.def, part); err != nil {
			return t.said(err)
		}
	}
	return nil
}

// transaction does the steps in a transaction.
func (t *Table) transaction(ctx context.Context, steps []target.Step, how manner, keep promise) (results []target.Result, err error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if err := t.begin(ctx); err != nil {
		return nil, err
	}
	results = make([]target.Result, len(steps))
	defer func() { t.after(ctx, err) }()
	items := make([]*item, len(steps))
	for i := range steps {
		items[i] = &item{step: &steps[i], res: &results[i]}
	}
	if how == alone {
		err = t.eachAlone(ctx, items)
	} else {
		err = t.timely(ctx, func(ctx context.Context) error { return t.unit(ctx, items, how) })
	}
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(results, func(r target.Result) bool { return r.Fate == target.Done }) {
		return results, t.rollBack(ctx)
	}
	return results, t.commit(ctx, results, keep)
}

// begin begins a transaction that writes, over a connection that is made where there is none.
func (t *Table) begin(ctx context.Context) error {
	if t.s == nil {
		if err := t.connect(ctx); err != nil {
			return err
		}
	}
	err := t.timely(ctx, func(ctx context.Context) error { return run(ctx, t.s, t.e.begin()...) })
	if err != nil {
		t.lose() // it may be in the middle of another one
	}
	return err
}

// after takes back a transaction that ended with an error.
func (t *Table) after(ctx context.Context, err error) {
	if err == nil || t.s == nil { // of a commit that is in doubt the connection was given up
		return
	}
	if f := t.e.failure(err); f != nil && f.kind == lost || ctx.Err() != nil {
		t.lose()
		return
	}
	if t.rollBack(ctx) != nil {
		t.lose()
	}
}

// timely does something that a database answers to in time, or not at all.
func (t *Table) timely(ctx context.Context, do func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	return do(ctx)
}

func (t *Table) rollBack(ctx context.Context) error {
	return t.timely(context.WithoutCancel(ctx), func(ctx context.Context) error { return run(ctx, t.s, "ROLLBACK") })
}

// commit draws a ticket, has it kept, and commits.
func (t *Table) commit(ctx context.Context, results []target.Result, keep promise) error {
	var k *ticket
	err := t.timely(ctx, func(ctx context.Context) (err error) {
		if now := t.e.immediate(); now != "" {
			err = run(ctx, t.s, now)
		}
		if err == nil && t.tickets {
			k, err = t.e.draw(ctx, t.s, t.def, t.mark, t.before)
		}
		return err
	})
	if err != nil {
		return err
	}
	raw := json.RawMessage("{}")
	if k != nil {
		raw = k.json()
	}
	if err := keep(raw, results); err != nil {
		return err
	}
	if k != nil {
		if err := t.e.firm(ctx, t.s); err != nil {
			return err
		}
	}
	// From here on whoever ends us does not end the transaction: it is waited for.
	cctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), Patience)
	defer cancel()
	if _, err := t.s.exec(cctx, "COMMIT"); err != nil {
		if f := t.e.failure(err); cctx.Err() != nil || f == nil || f.kind == lost || f.kind == other {
			t.lose()
			return &doubt{k, err}
		}
		return err
	}
	if k != nil && k.Token != "" {
		t.before = k.Token
	}
	return nil
}

// eachAlone does each step, or those that are linked, under a savepoint.
func (t *Table) eachAlone(ctx context.Context, items []*item) error {
	for _, group := range groups(items) {
		if _, err := t.s.exec(ctx, "SAVEPOINT paletwin"); err != nil {
			return err
		}
		err := t.timely(ctx, func(ctx context.Context) error { return t.unit(ctx, group, alone) })
		if now := t.e.immediate(); err == nil && now != "" {
			_, err = t.s.exec(ctx, now)
		}
		f := t.e.failure(err)
		if err != nil && (f == nil || f.kind != refused && f.kind != locked) {
			return err
		}
		end := "RELEASE SAVEPOINT paletwin"
		if err != nil {
			for _, it := range group {
				*it.res = target.Result{Fate: target.Refused, Reason: t.refusal(f)}
			}
			end = "ROLLBACK TO SAVEPOINT paletwin"
		}
		if _, err := t.s.exec(ctx, end); err != nil {
			return err
		}
	}
	return nil
}

// refusal says in words why the database would not take a record.
func (t *Table) refusal(f *failure) string {
	if f.kind == locked {
		return "somebody else is working on it (" + f.text + "); apply again when they are done"
	}
	if f.err == nil {
		return f.text
	}
	return t.e.name() + " says: " + f.text
}

// groups parts items into those that are linked and those that are alone, in order.
func groups(items []*item) [][]*item {
	var all [][]*item
	at := map[string]int{}
	for _, it := range items {
		link := it.step.Linked
		if i, ok := at[link]; ok && link != "" {
			all[i] = append(all[i], it)
			continue
		}
		at[link] = len(all)
		all = append(all, []*item{it})
	}
	return all
}

// item is a step that is being carried out.
type item struct {
	step *target.Step
	res  *target.Result
	row  []record.Value // the record under the step's key, as it was read under its lock; nil is none
	was  []record.Value // of a key change: the record that gets the key
	cols []int          // those that are read of it
	// at is what the key columns have now, of a record that is there.
	at []record.Value
	// blind says that the record is not read before it is written.
	blind bool
}

// done reports whether nothing speaks against an item.
func (it *item) done() bool { return it.res.Fate == target.Done }

// moved leaves a record alone.
func (it *item) moved(format string, a ...any) {
	*it.res = target.Result{Fate: target.Moved, Reason: fmt.Sprintf(format, a...)}
}

// is reports whether the step does an act, and changes no key.
func (it *item) is(act changeset.Act) bool { return it.step.Act == act && it.step.Was.IsZero() }
