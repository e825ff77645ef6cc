package targettest

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/desk"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

// memory is a place whose target is a Mean one.
type memory struct{ *Mean }

func (m memory) Open(*testing.T) target.Target              { return m.Mean }
func (m memory) Set(_ *testing.T, key, field, value string) { m.Colleague(key, field, value) }

func mean() *Mean {
	var rows [][]string
	for line := range strings.SplitSeq(strings.TrimSpace(Register), "\n") {
		rows = append(rows, strings.Split(line, ","))
	}
	return NewMean([]string{"k"}, rows...)
}

func TestMeanKeepsTheRules(t *testing.T) {
	for name, size := range map[string]int{"step by step": 1, "in batches": 3} {
		t.Run(name, func(t *testing.T) {
			Run(t, func(t *testing.T) Place {
				m := mean()
				m.BatchSize = size
				return memory{m}
			})
		})
	}
}

// However far a run gets before its target dies or its answer is lost, apply
// again finishes it: nothing twice, nothing lost, and the rollback gives the
// start again.
func TestLostAnswersAndDeaths(t *testing.T) {
	for _, size := range []int{1, 2, 3, 100} {
		for at := 1; at <= 4; at++ {
			for _, die := range []bool{true, false} {
				m := mean()
				before := m.State()
				m.BatchSize = size
				if die {
					m.DieAt = at
				} else {
					m.LoseAt = at
				}
				u := NewUpdate(t, Register, edited)
				rep, err := u.Apply(m, run.Options{})
				if err != nil {
					require.ErrorIs(t, err, ErrLost)
					rep, err = u.Apply(m, run.Options{})
					require.NoError(t, err)
					assert.True(t, rep.Resumed)
					assert.Equal(t, 1, rep.Run, "under its own number")
				}
				assert.Equal(t, run.Steps{Done: 4}, rep.Steps)
				assert.True(t, rep.Verify.Holds())
				for key, n := range m.Writes {
					assert.Equal(t, 1, n, "record %s, batches of %d, at %d", key, size, at)
				}
				m.LoseAt, m.DieAt = 0, 0
				_, err = u.Rollback(m).Apply(m, run.Options{})
				require.NoError(t, err)
				assert.ElementsMatch(t, strings.Split(before, "\n"), strings.Split(m.State(), "\n"))
			}
		}
	}
}

func TestRefusals(t *testing.T) {
	m := mean()
	m.Refuse = func(s *target.Step) string {
		if s.Key.String() == "3" {
			return "no such depot"
		}
		return ""
	}
	u := NewUpdate(t, Register, edited)
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 3, Refused: 1}, rep.Steps)
	assert.Equal(t, "c", m.Value("3", "v"))
	m.Refuse = nil
	rep, err = u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 1}, rep.Steps, "what was refused is tried again, what is done is not")
}

func TestStopAfterRefusals(t *testing.T) {
	for name, stop := range map[string]run.Stop{"a number": {Refusals: 2}, "a share": {Percent: 50}} {
		t.Run(name, func(t *testing.T) {
			m := mean()
			m.Refuse = func(*target.Step) string { return "closed for maintenance" }
			u := NewUpdate(t, Register, edited)
			rep, err := u.Apply(m, run.Options{StopAfter: stop})
			require.NoError(t, err)
			assert.True(t, rep.Stopped)
			assert.Equal(t, run.Steps{Refused: 2, Skipped: 2}, rep.Steps)
			m.Refuse = nil
			rep, err = u.Apply(m, run.Options{})
			require.NoError(t, err)
			assert.Equal(t, run.Steps{Done: 4}, rep.Steps)
		})
	}
}

// What the target makes of a value is noted, proven to be something else, and
// still undone.
func TestAlteredValues(t *testing.T) {
	m := mean()
	before := m.State()
	m.Alter = func(field, value string) string { return strings.ToLower(value) + "." }
	u := NewUpdate(t, Register, "k,v,w\n1,A,x\n2,b,x\n3,c,x\n4,d,x\n5,e,x\n")
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 1}, rep.Steps)
	assert.Equal(t, 1, rep.Verify.Other)
	assert.Equal(t, []run.Difference{{Kind: "other", Key: "1", Field: "v", Expected: "A", Found: "a."}}, rep.Verify.Differences)
	m.Alter = nil
	rep, err = u.Rollback(m).Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 1}, rep.Steps)
	assert.Equal(t, before, m.State())
}

func TestAColleagueBetweenBatches(t *testing.T) {
	m := mean()
	m.Before = func(m *Mean, batch int) {
		if batch == 2 {
			m.Colleague("3", "v", "colleague")
		}
	}
	u := NewUpdate(t, Register, edited)
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 3, Conflict: 1}, rep.Steps)
	assert.Equal(t, "colleague", m.Value("3", "v"))
}

// Fields that the target writes itself take no part in conflicts, proof and
// rollback.
func TestSystemFields(t *testing.T) {
	m := NewMean([]string{"k"}, []string{"k", "v", "updated"}, []string{"1", "a", "monday"}, []string{"2", "b", "monday"}, []string{"3", "c", "monday"})
	m.System = "updated"
	m.Colleague("2", "updated", "tuesday")
	o := run.Options{System: []string{"updated"}}
	u := NewUpdate(t, "k,v,updated\n1,a,monday\n2,b,monday\n3,c,monday\n", "k,v,updated\n1,A,monday\n3,c,monday\n")
	rep, err := u.Apply(m, o)
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 2}, rep.Steps)
	assert.True(t, rep.Verify.Holds(), "%+v", rep.Verify.Differences)
	require.Len(t, rep.Verify.System, 1)
	assert.Equal(t, 1, rep.Verify.System[0].Changes, "counted once a field")
	m.Colleague("1", "updated", "wednesday")
	rep, err = u.Rollback(m).Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 2}, rep.Steps)
	assert.Equal(t, "a", m.Value("1", "v"))
	assert.Equal(t, "b", m.Value("2", "v"))
}

func TestPerField(t *testing.T) {
	m := mean()
	m.Colleague("1", "v", "colleague")
	u := NewUpdate(t, Register, "k,v,w\n1,A,X\n2,b,x\n3,c,x\n4,d,x\n5,e,x\n")
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Conflict: 1}, rep.Steps, "the record is left whole")
	assert.Equal(t, "x", m.Value("1", "w"))
	rep, err = u.Apply(m, run.Options{PerField: true})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 1}, rep.Steps)
	assert.Equal(t, 1, rep.Partly)
	assert.Equal(t, []string{"colleague", "X"}, []string{m.Value("1", "v"), m.Value("1", "w")})
	_, err = u.Rollback(m).Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"colleague", "x"}, []string{m.Value("1", "v"), m.Value("1", "w")})
}

func TestOverwritingNeedsWhatWasSeen(t *testing.T) {
	m := mean()
	m.Colleague("1", "v", "colleague")
	m.Colleague("5", "v", "colleague")
	u := NewUpdate(t, Register, "k,v,w\n1,A,x\n2,b,x\n3,c,x\n4,d,x\n")
	rep, err := u.Apply(m, run.Options{Overwrite: true})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Conflict: 2}, rep.Steps, "nobody decided on what is there now")
	seen, err := run.Conflicts(u.Dossier)
	require.NoError(t, err)
	require.Len(t, seen, 2)
	var names []string
	for id := range seen {
		names = append(names, id.String())
	}
	_, err = u.Dossier.Decide(&desk.Order{Decision: "approve", Names: names, Seen: seen, By: "lina", When: clock()})
	require.NoError(t, err)
	rep, err = u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Conflict: 2}, rep.Steps, "it was not asked for")
	m.Colleague("1", "v", "moved again")
	rep, err = u.Apply(m, run.Options{Overwrite: true})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 1, Conflict: 1}, rep.Steps)
	assert.Equal(t, []string{"moved again", "(gone)"}, []string{m.Value("1", "v"), m.Value("5", "v")})
	_, err = u.Rollback(m).Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, "colleague", m.Value("5", "v"), "the rollback gives back what was overwritten")
}

func TestAgain(t *testing.T) {
	m := mean()
	u := NewUpdate(t, Register, edited)
	_, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	_, err = u.Rollback(m).Apply(m, run.Options{})
	require.NoError(t, err)
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Zero(t, rep.Run, "an undone dossier is not done again by itself")
	rep, err = u.Apply(m, run.Options{Again: true})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 4}, rep.Steps)
	_, err = u.Rollback(m).Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, "a", m.Value("1", "v"))
}

// Returning to the backup takes everything back; what others changed since is
// held.
func TestRestore(t *testing.T) {
	m := mean()
	u := NewUpdate(t, Register, edited)
	_, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	m.Colleague("2", "v", "colleague")
	m.Colleague("3", "w", "colleague")
	made, res, err := run.Restore(context.Background(), u.Dossier, m, run.Restoration{By: "lina", Now: clock})
	require.NoError(t, err)
	assert.Equal(t, 3, res.Changes.Amend)
	assert.Equal(t, 2, res.Changes.HeldFields, "2/v and 3/w")
	r := &Update{t, u.Desk, made}
	_, err = made.Decide(&desk.Order{Decision: "approve", By: "lina", When: clock()})
	require.NoError(t, err)
	_, err = r.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, "k,v,w\n1,a,x\n2,colleague,x\n3,c,colleague\n4,d,x\n5,e,x\n", strings.Join(sorted(m.State()), "\n")+"\n")
	r.Approve()
	_, err = r.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, Register, strings.Join(sorted(m.State()), "\n")+"\n")
}

func sorted(state string) []string {
	lines := strings.Split(strings.TrimSpace(state), "\n")
	for i := 1; i < len(lines); i++ {
		for j := i; j > 1 && lines[j] < lines[j-1]; j-- {
			lines[j], lines[j-1] = lines[j-1], lines[j]
		}
	}
	return lines
}

// An add whose answer was lost, and which the target completed itself, is done.
func TestALostAddThatTheTargetCompletes(t *testing.T) {
	for at := 1; at <= 3; at++ {
		m := NewMean([]string{"k"}, []string{"k", "v", "updated"}, []string{"1", "a", "monday"}, []string{"2", "b", "monday"})
		m.System, m.LoseAt = "updated", at
		u := NewUpdate(t, "k,v,updated\n1,a,monday\n2,b,monday\n", "k,v,updated\n1,A,monday\n2,b,monday\n3,c,today\n4,d,\n")
		o := run.Options{System: []string{"updated"}}
		_, err := u.Apply(m, o)
		require.ErrorIs(t, err, ErrLost)
		m.LoseAt = 0
		rep, err := u.Apply(m, o)
		require.NoError(t, err)
		assert.Equal(t, run.Steps{Done: 3}, rep.Steps, "lost at %d", at)
		assert.True(t, rep.Verify.Holds())
		for key, n := range m.Writes {
			assert.Equal(t, 1, n, key)
		}
		back, err := u.Rollback(m).Apply(m, run.Options{})
		require.NoError(t, err)
		assert.Equal(t, run.Steps{Done: 3}, back.Steps)
		assert.Equal(t, "(gone)", m.Value("3", "v"))
	}
}
