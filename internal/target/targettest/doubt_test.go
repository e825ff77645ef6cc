package targettest

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

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
