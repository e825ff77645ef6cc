package targettest

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/compare"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

// A target that cannot say what became of steps: they are called unknown and
// never guessed. Apply again finds out, and does none twice; a rollback undoes
// those that were done, whether or not anybody asked before.
func TestUnknownAnswers(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		m := mean()
		before := m.State()
		m.BatchSize = rapid.IntRange(1, 5).Draw(rt, "batch")
		doubtful, did := 0, map[string]bool{}
		m.Doubt = func(s *target.Step) (bool, bool) {
			doubt, done := rapid.Bool().Draw(rt, "doubt"), rapid.Bool().Draw(rt, "done")
			if doubt {
				doubtful++
				did[s.Key.String()] = done
				return true, done
			}
			return false, true
		}
		u := NewUpdate(t, Register, edited)
		rep, err := u.Apply(m, run.Options{})
		require.NoError(rt, err)
		require.Equal(rt, run.Steps{Done: 4 - doubtful, Unknown: doubtful}, rep.Steps)
		m.Doubt = nil
		if rapid.Bool().Draw(rt, "apply again") {
			settled := 0
			for _, done := range did {
				if done {
					settled++
				}
			}
			rep, err = u.Apply(m, run.Options{})
			require.NoError(rt, err)
			require.Equal(rt, run.Steps{Done: doubtful - settled, Settled: settled}, rep.Steps)
			rep, err = u.Apply(m, run.Options{})
			require.NoError(rt, err)
			require.Zero(rt, rep.Run, "nothing is left to do")
		}
		for key, n := range m.Writes {
			require.Equal(rt, 1, n, "record %s", key)
		}
		if m.State() == before {
			return
		}
		_, err = u.Rollback(m).Apply(m, run.Options{})
		require.NoError(rt, err)
		require.Equal(rt, sorted(before), sorted(m.State()))
		if back, err := run.Rollback(t.Context(), u.Dossier, m, run.Undo{By: "lina", Now: clock}); err == nil {
			rt.Fatalf("undone, there is something to undo: %v", back.Set().Changes)
		}
	})
}

// What is linked has one fate: where it cannot be told of one record whether it was
// written, it is unknown of all, and all are found out and undone together.
func TestALinkHasOneFate(t *testing.T) {
	steps := []target.Step{{Linked: "a"}, {}, {Linked: "a"}, {Linked: "b"}, {Linked: "b"}}
	results := []target.Result{{}, {}, {Fate: target.Unknown, Reason: "lost"}, {}, {Fate: target.Refused}}
	target.Doubted(steps, results)
	var fates []target.Fate
	for _, r := range results {
		fates = append(fates, r.Fate)
	}
	require.Equal(t, []target.Fate{target.Unknown, target.Done, target.Unknown, target.Done, target.Refused}, fates)

	rows := [][]string{{"k", "a", "b", "c", "e", "f"}}
	snapshot := "k,a,b,c,e,f\n"
	for i := range 30 {
		row := []string{fmt.Sprint(100 + i), fmt.Sprint("lantern ", i*7), fmt.Sprint("rock ", i*11), fmt.Sprint("spit ", i*13), fmt.Sprint("bank ", i*17), fmt.Sprint("pier ", i*19)}
		rows = append(rows, row)
		snapshot += strings.Join(row, ",") + "\n"
	}
	m := NewMean([]string{"k"}, rows...)
	before := m.State()
	m.BatchSize = 10
	u := newUpdate(t, snapshot, strings.Replace(snapshot, "\n107,", "\n907,", 1), compare.SlipsHold)
	m.Doubt = func(s *target.Step) (bool, bool) { return s.Key.String() == "907", true }
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	require.Equal(t, run.Steps{Unknown: 2}, rep.Steps, "the delete was done, and the add may have been")
	m.Doubt = nil
	_, err = u.Rollback(m).Apply(m, run.Options{})
	require.NoError(t, err)
	require.Equal(t, sorted(before), sorted(m.State()))
}
