package run

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
)

// Units kept by their steps are the units that a list of them would have, whatever is taken in, set, dropped and chosen.
func TestUnitsAreThoseOfAList(t *testing.T) {
	names := []string{"a", "b", "c", "d"}
	rapid.Check(t, func(t *rapid.T) {
		step := func(run int) *Step {
			s := &Step{run: int32(run), ID: changeset.ID{byte(rapid.IntRange(0, 2).Draw(t, "record"))}, Act: changeset.Amend}
			if s.ID[0] == 0 {
				s.Act = changeset.Delete
				return s
			}
			var edits []changeset.Edit
			for _, f := range names {
				if rapid.Bool().Draw(t, f) {
					edits = append(edits, changeset.Edit{Field: f})
				}
			}
			s.Fields = changeset.Pack(edits)
			return s
		}
		u, list := makeUnits(0), map[unit]*Step{}
		any := func() unit {
			x := unit{id: changeset.ID{byte(rapid.IntRange(0, 2).Draw(t, "record"))}}
			if x.id[0] > 0 {
				x.field = rapid.SampledFrom(names).Draw(t, "field")
			}
			return x
		}
		var steps []*Step
		for run := range rapid.IntRange(1, 12).Draw(t, "deeds") {
			switch rapid.IntRange(0, 5).Draw(t, "deed") {
			case 0, 1, 2:
				s := step(run)
				steps = append(steps, s)
				u.take(s)
				for _, x := range s.units() {
					list[x] = s
				}
			case 3:
				x := any()
				u.drop(x)
				delete(list, x)
			case 4:
				for _, s := range steps {
					for _, x := range s.units() {
						if rapid.Bool().Draw(t, "set") {
							u.set(x, s)
							list[x] = s
						}
					}
				}
			case 5:
				keep := map[unit]bool{any(): true, any(): true, any(): true, any(): true}
				is := func(x unit, _ *Step) bool { return keep[x] }
				before := maps.Collect(u.all())
				some := u.where(is)
				require.Equal(t, before, maps.Collect(u.all()), "what is chosen from stays")
				back := maps.Collect(takenBack(u, some).all())
				for x := range list {
					_, taken := back[x]
					require.Equal(t, !keep[x], taken)
				}
				u = some
				maps.DeleteFunc(list, func(x unit, d *Step) bool { return !is(x, d) })
			}
			require.Equal(t, list, maps.Collect(u.all()))
			n := 0
			for range u.all() {
				n++
			}
			require.Len(t, list, n, "each unit once")
			x := any()
			d, there := u.get(x)
			want, is := list[x]
			require.Equal(t, is, there)
			require.Equal(t, want, d)
			require.Equal(t, len(list) == 0, u.none())
			for _, s := range steps {
				left := map[string]bool{}
				for f := range u.standing(s.ID, s.Fields).All() {
					left[f.Field] = true
				}
				for f := range s.Fields.All() {
					_, stands := list[unit{s.ID, f.Field}]
					require.Equal(t, stands, left[f.Field])
				}
			}
		}
	})
}
