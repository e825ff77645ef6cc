package run

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
	"paletwin/internal/disk/faulty"
)

// valued is records by key: the values of v and w.
type valued map[string][2]string

func (r valued) csv() []byte {
	out := []byte("k,v,w\n")
	for _, k := range slices.Sorted(maps.Keys(r)) {
		out = csv.AppendCell(out, k, ',', false)
		for _, v := range r[k] {
			out = csv.AppendCell(append(out, ','), v, ',', false)
		}
		out = append(out, '\n')
	}
	return out
}

func readValued(t require.TestingT, data []byte) valued {
	m, err := csv.Open("r", data)
	require.NoError(t, err)
	all := valued{}
	require.NoError(t, csv.Each(ctx(), m, func(r *csv.Line) error {
		all[r.Text(0)] = [2]string{r.Text(1), r.Text(2)}
		return nil
	}))
	return all
}

// meant is what becomes of a record by several copies, by the rules alone: all agree, or it is as the
// one has it whose side is taken, or it stays.
func meant(was [2]string, there bool, copies []valued, key string, side int) (is [2]string, stays bool) {
	var have []int
	for i, c := range copies {
		if _, has := c[key]; has {
			have = append(have, i)
		}
	}
	chosen := slices.Contains(have, side)
	if !there {
		kinds := map[[2]string]bool{}
		for _, i := range have {
			kinds[copies[i][key]] = true
		}
		if len(kinds) == 1 {
			return copies[have[0]][key], true
		}
		return copies[side][key], chosen && len(kinds) > 0
	}
	is, changed := was, false
	for f := range was {
		values := map[string]bool{}
		for _, i := range have {
			if v := copies[i][key][f]; v != was[f] {
				values[v] = true
			}
		}
		changed = changed || len(values) > 0
		for v := range values {
			if len(values) == 1 {
				is[f] = v
			}
		}
		if len(values) > 1 && chosen && copies[side][key][f] != was[f] {
			is[f] = copies[side][key][f]
		}
	}
	switch {
	case len(have) == len(copies):
		return is, true
	case !changed:
		return was, false
	case !chosen:
		return was, false
	}
	return copies[side][key], true
}

// Whatever several copies have, once all that they agree about is approved and one copy's side of
// what they do not: the register is as the rules say, and the rollback gives the bytes of before.
func TestSeveralCopiesAreCarriedOut(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "paletwin-copies-")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		values := rapid.SampledFrom([]string{"x", "y", "", "a,b", "two\nlines", "0", "00"})
		was := valued{}
		for i := range rapid.IntRange(6, 14).Draw(rt, "records") {
			was[fmt.Sprintf("%03d", i)] = [2]string{values.Draw(rt, "v"), values.Draw(rt, "w")}
		}
		copies := make([]valued, rapid.IntRange(2, 3).Draw(rt, "copies"))
		for n := range copies {
			copies[n] = maps.Clone(was)
			for _, k := range slices.Sorted(maps.Keys(was)) {
				switch r := was[k]; rapid.IntRange(0, 8).Draw(rt, "edit") {
				case 0:
					delete(copies[n], k)
				case 1, 2:
					copies[n][k] = [2]string{values.Draw(rt, "v"), r[1]}
				case 3:
					copies[n][k] = [2]string{values.Draw(rt, "v"), values.Draw(rt, "w")}
				}
			}
			if rapid.Bool().Draw(rt, "adds") {
				copies[n]["new"] = [2]string{rapid.SampledFrom([]string{"x", "y"}).Draw(rt, "v"), "z"}
			}
		}
		b := newBench(rt, dir, faulty.NoSync{}, was.csv())
		c := b.comparison(desk.Source{Name: "s.csv", Stream: bytes.NewReader(was.csv())}, copies[0].csv())
		c.Edited.Name = "0.csv"
		for n, more := range copies[1:] {
			c.More = append(c.More, &desk.Source{Name: fmt.Sprint(n+1, ".csv"), Stream: bytes.NewReader(more.csv())})
		}
		d, _, err := b.desk.Compare(ctx(), c)
		require.NoError(rt, err)
		b.approve(d)
		side := rapid.IntRange(0, len(copies)-1).Draw(rt, "side")
		o := b.everything()
		if o.Filter.Findings = []string{changeset.CopiesDisagree.Name}; len(d.Meta.Edited) > 1 {
			o.Filter.Of = fmt.Sprint(side, ".csv")
			if !slices.Contains(d.Meta.Edited.Names(), o.Filter.Of) { // it is another one's bytes
				return
			}
		}
		_, err = d.Decide(o)
		require.NoError(rt, err)
		_, err = b.apply(d, Options{})
		require.NoError(rt, err)
		want := valued{}
		for _, k := range append(slices.Sorted(maps.Keys(was)), "new") {
			r, there := was[k]
			if is, stays := meant(r, there, copies, k, side); stays {
				want[k] = is
			}
		}
		require.Equal(rt, want, readValued(rt, []byte(b.bytes())))
		if d.Set().Changes.Changes() > 0 && b.bytes() != string(was.csv()) {
			_, err = b.apply(b.rollback(d), Options{})
			require.NoError(rt, err)
			require.Equal(rt, string(was.csv()), b.bytes())
		}
	})
}
