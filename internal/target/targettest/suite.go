// Package targettest proves that a target keeps the rules that a run relies
// on: reading, three-state results, refusals, resuming, rollback, and changes
// made by others at the same time. Every kind of target calls Run from its
// test; Mean is a target that misbehaves, against which runs are proven.
package targettest

import (
	"context"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/core/table/csv"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

// Place is somewhere a target can be opened, again and again.
type Place interface {
	// Open opens the target, as a process would.
	Open(t *testing.T) target.Target
	// Set changes a field of a record behind the target's back, as a
	// colleague would.
	Set(t *testing.T, key, field, value string)
}

// Password is that of places which have one.
const Password = "Lantern-7"

// Register is the content that the suite's places start with: CSV with the
// key k.
const Register = "k,v,w\n1,a,x\n2,b,x\n3,c,x\n4,d,x\n5,e,x\n"

// edited is what the suite makes of it: two amends, a delete, an add.
const edited = "k,v,w\n1,A,x\n2,b,x\n3,C,x\n4,d,x\n6,f,y\n"

// clock is the suite's time.
func clock() time.Time { return time.Date(2026, 10, 6, 9, 0, 0, 0, time.UTC) }

// Update is a dossier on a desk of its own, all approved.
type Update struct {
	T       *testing.T
	Desk    *desk.Desk
	Dossier *desk.Dossier
}

// NewUpdate compares two CSV texts with the key k and approves everything.
func NewUpdate(t *testing.T, snapshot, edited string) *Update {
	return newUpdate(t, snapshot, edited, compare.SlipsOff)
}

func newUpdate(t *testing.T, snapshot, edited, slips string) *Update {
	d, err := desk.Find(disk.OS{}, account.Account{}, t.TempDir(), "")
	require.NoError(t, err)
	d.Password = Password
	x, _, err := d.Compare(context.Background(), &desk.Comparison{Title: "suite", By: "lina", Now: clock(),
		Snapshot: desk.Source{Name: "s.csv", Stream: strings.NewReader(snapshot)},
		Edited:   &desk.Source{Name: "e.csv", Stream: strings.NewReader(edited)},
		Options:  compare.Options{RecordSet: "aids", Key: []string{"k"}, OtherRegister: true, SlipSearch: compare.SlipSearch{Slips: slips}}})
	require.NoError(t, err)
	u := &Update{t, d, x}
	u.Approve()
	return u
}

// Approve approves everything.
func (u *Update) Approve() {
	_, err := u.Dossier.Decide(&desk.Order{Decision: changeset.Approve, Held: true, By: "lina", When: clock()})
	require.NoError(u.T, err)
}

// Apply carries the dossier out.
func (u *Update) Apply(tgt target.Target, o run.Options) (*run.Report, error) {
	rep, err := run.Apply(context.Background(), &run.Job{Dossier: u.Dossier, Target: tgt, By: "lina", Now: clock, Options: o})
	if err == nil {
		isRead(u.T, u.Dossier, rep)
	}
	return rep, err
}

// isRead holds the steps that a run has at its end against those that are read of it.
func isRead(t require.TestingT, d *desk.Dossier, rep *run.Report) {
	if rep.Run == 0 {
		return
	}
	r, err := run.ReadRun(d, rep.Run)
	require.NoError(t, err)
	read := map[changeset.ID]*run.Step{}
	for _, s := range r.Steps {
		read[s.ID] = s
	}
	require.Len(t, read, len(rep.Attempted))
	for _, s := range rep.Attempted {
		x := read[s.ID]
		require.NotNil(t, x, s.Key)
		require.Equal(t, s.Key, x.Key)
		require.Equal(t, s.Outcome, x.Outcome, s.Key)
		require.Equal(t, s.Reason, x.Reason, s.Key)
		require.ElementsMatch(t, s.Fields.Edits(), x.Fields.Edits(), s.Key)
		require.ElementsMatch(t, s.Record.Record(), x.Record.Record(), s.Key)
		require.ElementsMatch(t, s.Rare().Read, x.Rare().Read, s.Key)
		require.ElementsMatch(t, s.Rare().Left, x.Rare().Left, s.Key)
		require.Len(t, x.Rare().Along, len(s.Rare().Along), s.Key)
	}
}

// Rollback makes the dossier that undoes this one, all but conflicts approved.
func (u *Update) Rollback(tgt target.Target) *Update {
	back, err := run.Rollback(context.Background(), u.Dossier, tgt, run.Undo{By: "lina", Now: clock})
	require.NoError(u.T, err)
	b := &Update{u.T, u.Desk, back}
	_, err = back.Decide(&desk.Order{Decision: changeset.Approve, By: "lina", When: clock()})
	require.NoError(u.T, err)
	return b
}

// Content reads a target's records, sorted, fields in their order, as CSV.
func Content(t *testing.T, tgt target.Target) string {
	require.NoError(t, tgt.Refresh(context.Background()))
	img, release, err := tgt.Table(context.Background())
	require.NoError(t, err)
	defer func() { require.NoError(t, release()) }()
	var lines []string
	require.NoError(t, csv.Each(t.Context(), img, func(r *csv.Line) error {
		var cells []string
		for _, f := range r.Record() {
			cells = append(cells, f.Value.String())
		}
		lines = append(lines, strings.Join(cells, ","))
		return nil
	}))
	sort.Strings(lines)
	return strings.Join(append([]string{strings.Join(img.Heading, ",")}, lines...), "\n")
}

// Run proves a kind of target. place makes a new one with Register in it.
func Run(t *testing.T, place func(t *testing.T) Place) {
	open := func(t *testing.T) (Place, target.Target) {
		p := place(t)
		tgt := p.Open(t)
		t.Cleanup(func() { assert.NoError(t, tgt.Close()) })
		return p, tgt
	}
	t.Run("reads records by key, in the order asked", func(t *testing.T) {
		_, tgt := open(t)
		s, err := tgt.Current(context.Background(), []record.Key{record.NewKey("5"), record.NewKey("9"), record.NewKey("1")})
		require.NoError(t, err)
		assert.Equal(t, []int{1, 0, 1}, []int{s[0].Count, s[1].Count, s[2].Count})
		v, _ := s[0].Record.Get("v")
		assert.Equal(t, "e", v.String())
	})
	t.Run("carries out and takes back", func(t *testing.T) {
		_, tgt := open(t)
		before := Content(t, tgt)
		u := NewUpdate(t, Register, edited)
		rep, err := u.Apply(tgt, run.Options{})
		require.NoError(t, err)
		assert.Equal(t, run.Steps{Done: 4}, rep.Steps)
		assert.True(t, rep.Verify.Holds(), "%+v", rep.Verify.Differences)
		assert.Equal(t, strings.TrimSpace(edited), Content(t, tgt))
		rep, err = u.Rollback(tgt).Apply(tgt, run.Options{})
		require.NoError(t, err)
		assert.Equal(t, run.Steps{Done: 4}, rep.Steps)
		assert.Equal(t, before, Content(t, tgt))
	})
	t.Run("leaves alone what others changed since", func(t *testing.T) {
		p := place(t)
		p.Set(t, "1", "v", "colleague") // an amend
		p.Set(t, "5", "w", "colleague") // a delete
		tgt := p.Open(t)
		defer tgt.Close()
		u := NewUpdate(t, Register, edited)
		rep, err := u.Apply(tgt, run.Options{})
		require.NoError(t, err)
		assert.Equal(t, run.Steps{Done: 2, Conflict: 2}, rep.Steps)
		assert.Equal(t, "k,v,w\n1,colleague,x\n2,b,x\n3,C,x\n4,d,x\n5,e,colleague\n6,f,y", Content(t, tgt))
		rep, err = u.Apply(tgt, run.Options{})
		require.NoError(t, err)
		assert.Equal(t, run.Steps{Conflict: 2}, rep.Steps, "what is done is not done again")
	})
	t.Run("never overwrites what changes between reading and writing", func(t *testing.T) {
		p := place(t)
		tgt := p.Open(t)
		defer tgt.Close()
		u := NewUpdate(t, Register, edited)
		rep, err := run.Apply(context.Background(), &run.Job{Dossier: u.Dossier, Target: tgt, By: "lina", Now: clock,
			Confirm: func(*run.Plan, int) bool { p.Set(t, "1", "v", "colleague"); return true }})
		if err == nil {
			assert.Equal(t, 1, rep.Steps.Conflict)
		} else {
			assert.ErrorIs(t, err, target.ErrMoved)
		}
		assert.Contains(t, Content(t, tgt), "\n1,colleague,x")
		_, err = u.Apply(tgt, run.Options{})
		require.NoError(t, err)
		assert.Equal(t, "k,v,w\n1,colleague,x\n2,b,x\n3,C,x\n4,d,x\n6,f,y", Content(t, tgt), "the rest is done by the next apply")
	})
	t.Run("a rollback leaves alone what others changed since", func(t *testing.T) {
		p := place(t)
		tgt := p.Open(t)
		u := NewUpdate(t, Register, edited)
		_, err := u.Apply(tgt, run.Options{})
		require.NoError(t, err)
		require.NoError(t, tgt.Close())
		p.Set(t, "1", "v", "colleague")
		p.Set(t, "3", "w", "colleague")
		tgt = p.Open(t)
		defer tgt.Close()
		_, err = u.Rollback(tgt).Apply(tgt, run.Options{})
		require.NoError(t, err)
		assert.Equal(t, "k,v,w\n1,colleague,x\n2,b,x\n3,c,colleague\n4,d,x\n5,e,x", Content(t, tgt))
	})
	t.Run("does the first, then the rest", func(t *testing.T) {
		_, tgt := open(t)
		u := NewUpdate(t, Register, edited)
		rep, err := u.Apply(tgt, run.Options{First: 1})
		require.NoError(t, err)
		assert.Equal(t, 1, rep.Steps.Done)
		assert.Equal(t, 3, rep.Left.Approved)
		rep, err = u.Apply(tgt, run.Options{})
		require.NoError(t, err)
		assert.Equal(t, 3, rep.Steps.Done)
		assert.Equal(t, strings.TrimSpace(edited), Content(t, tgt))
	})
	t.Run("rehearses without a trace", func(t *testing.T) {
		_, tgt := open(t)
		before := Content(t, tgt)
		u := NewUpdate(t, Register, edited)
		rep, err := u.Apply(tgt, run.Options{Rehearse: true})
		require.NoError(t, err)
		assert.Equal(t, run.Steps{Done: 4}, rep.Steps)
		assert.Equal(t, before, Content(t, tgt))
		runs, err := run.Runs(u.Dossier)
		require.NoError(t, err)
		assert.Empty(t, runs)
	})
}
