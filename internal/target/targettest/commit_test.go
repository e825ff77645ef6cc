package targettest

import (
	"context"
	"encoding/json"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/run"
	"paletwin/internal/target"
)

// committer is a Mean whose batches are transactions.
type committer struct {
	*Mean
	void  bool        // what was promised first does not come about, and then there is nothing to do
	lost  bool        // the answer to the first commit is lost
	fate  target.Fate // what the ticket tells
	asked int
}

func (c *committer) Commit(ctx context.Context, steps []target.Step, promise func(json.RawMessage, []target.Result) error) ([]target.Result, error) {
	results := make([]target.Result, len(steps))
	if err := promise(json.RawMessage(`{"transaction":"1"}`), results); err != nil {
		return nil, err
	}
	if c.void {
		for i := range results {
			results[i] = target.Result{Fate: target.Moved, Reason: "a colleague was quicker"}
		}
		return results, nil
	}
	if c.lost {
		c.lost = false
		return nil, errors.New("the connection was lost")
	}
	return c.Write(ctx, steps)
}

func (c *committer) Fate(context.Context, json.RawMessage) (target.Fate, string, error) {
	c.asked++
	return c.fate, "nobody knows", nil
}

func (c *committer) Prepare(context.Context) error                    { return nil }
func (c *committer) Settled(context.Context, []json.RawMessage) error { return nil }

func newCommitter() *committer {
	m := NewMean([]string{"k"}, []string{"k", "v", "w"}, []string{"1", "a", "x"}, []string{"2", "b", "x"}, []string{"3", "c", "x"}, []string{"4", "d", "x"}, []string{"5", "e", "x"})
	m.BatchSize = 10
	return &committer{Mean: m}
}

// outcomesOf are those of the journal.
func outcomesOf(t *testing.T, u *Update) map[run.Outcome]int {
	r, err := run.ReadRun(u.Dossier, 1)
	require.NoError(t, err)
	n := map[run.Outcome]int{}
	for _, s := range r.Steps {
		n[s.Outcome]++
	}
	return n
}

// A promise of which nothing came is no outcome.
func TestAVoidPromiseIsNoOutcome(t *testing.T) {
	c := newCommitter()
	c.void = true
	u := NewUpdate(t, Register, edited)
	rep, err := u.Apply(c, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Conflict: 4}, rep.Steps)
	assert.Equal(t, map[run.Outcome]int{run.Conflict: 4}, outcomesOf(t, u))
	assert.Empty(t, run.Check(u.Dossier))
}

// After a lost answer the ticket is asked, and tells what was promised, or nothing,
// whatever stands there.
func TestATicketTellsAfterAnInterruption(t *testing.T) {
	for fate, want := range map[target.Fate]map[run.Outcome]int{
		target.Done:    {run.Done: 4},
		target.Refused: {run.Done: 4},
		target.Unknown: {run.Unknown: 4},
	} {
		c := newCommitter()
		c.lost, c.fate = true, fate
		u := NewUpdate(t, Register, edited)
		_, err := u.Apply(c, run.Options{})
		require.ErrorContains(t, err, "the connection was lost")
		rep, err := u.Apply(c, run.Options{})
		require.NoError(t, err)
		assert.True(t, rep.Resumed)
		assert.Equal(t, 1, c.asked)
		assert.Equal(t, want, outcomesOf(t, u), fate)
		wrote := 0
		for _, n := range c.Writes {
			wrote += n
		}
		assert.Equal(t, map[target.Fate]int{target.Done: 0, target.Refused: 4, target.Unknown: 0}[fate], wrote)
		assert.Empty(t, run.Check(u.Dossier))
	}
}
