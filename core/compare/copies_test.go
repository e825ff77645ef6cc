package compare

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/table"
)

// grid is records by key, in the order in which they were added.
type grid struct {
	fields []string
	keys   []string
	cells  map[string]map[string]string
}

func (g *grid) clone() *grid {
	c := &grid{fields: g.fields, keys: slices.Clone(g.keys), cells: map[string]map[string]string{}}
	for k, r := range g.cells {
		c.cells[k] = map[string]string{}
		for f, v := range r {
			c.cells[k][f] = v
		}
	}
	return c
}

func (g *grid) rows() [][]string {
	rows := [][]string{append([]string{"k"}, g.fields...)}
	for _, k := range g.keys {
		if r, there := g.cells[k]; there {
			row := []string{k}
			for _, f := range g.fields {
				row = append(row, r[f])
			}
			rows = append(rows, row)
		}
	}
	return rows
}

// edit makes random edits: values, records that go, records that come, another order.
func (g *grid) edit(t *rapid.T, who string) *grid {
	c := g.clone()
	for range rapid.IntRange(0, 6).Draw(t, who+" edits") {
		k := rapid.SampledFrom(g.keys).Draw(t, "key")
		switch rapid.IntRange(0, 5).Draw(t, "what") {
		case 0:
			delete(c.cells, k)
		case 1:
			k = rapid.SampledFrom([]string{"n1", "n2", "n3"}).Draw(t, "new")
			if c.cells[k] == nil {
				c.keys, c.cells[k] = append(c.keys, k), map[string]string{}
			}
			fallthrough
		default:
			if r := c.cells[k]; r != nil {
				r[rapid.SampledFrom(g.fields).Draw(t, "field")] = rapid.SampledFrom([]string{"", "x", "y", "0"}).Draw(t, "value")
			}
		}
	}
	if rapid.IntRange(0, 3).Draw(t, "order") == 0 {
		slices.Reverse(c.keys)
	}
	return c
}

func (c *grid) change(k, f, was string) (v string, changed bool) {
	r, there := c.cells[k]
	return r[f], there && r[f] != was
}

// What several copies say together is, of each field of each record, what they say one by one:
// one value where all that change it change it so, and else a disagreement that names each value
// and each copy. A record that one lacks is a delete, held where another has it, and stopped where
// another changes it. The counts add up, of all and of each copy.
func TestCopies(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		snapshot := &grid{fields: []string{"a", "b", "c"}, cells: map[string]map[string]string{}}
		for i := range rapid.IntRange(12, 40).Draw(t, "records") {
			k := fmt.Sprintf("%03d", i)
			snapshot.keys = append(snapshot.keys, k)
			snapshot.cells[k] = map[string]string{"a": rapid.SampledFrom([]string{"", "x", "y"}).Draw(t, "a"), "b": "1", "c": k}
		}
		n := rapid.IntRange(2, 4).Draw(t, "copies")
		copies, images, names := make([]*grid, n), make([]*table.Image, n), make([]string, n)
		for i := range n {
			copies[i], names[i] = snapshot.edit(t, fmt.Sprint("copy ", i)), fmt.Sprintf("%c.csv", 'p'+i)
			images[i] = image(t, names[i], copies[i].rows())
		}
		missing := rapid.SampledFrom([]string{Held, Asked, Ignore}).Draw(t, "missing")
		o := Options{RecordSet: "t", Key: []string{"k"}, Proposals: Proposals{Blank: Clear, Missing: missing, AllMissing: true}}
		if rapid.Bool().Draw(t, "little memory") {
			o.Memory, o.Spill = 1, func(n int64) ([]byte, error) { return make([]byte, n), nil }
		}
		if rapid.Bool().Draw(t, "slips") {
			o.Slips = SlipsWarn
		}
		k := new(kept)
		res, err := RunCopies(context.Background(), image(t, "s.csv", snapshot.rows()), images, o, k)
		require.NoError(t, err)
		got := map[string]*changeset.Change{}
		for _, ch := range k.changes {
			got[ch.Act.String()+ch.Key.String()] = ch
		}
		want, against, left := 0, 0, 0
		for _, key := range snapshot.keys {
			was := snapshot.cells[key]
			var lack, have []string
			amended := false
			for i, c := range copies {
				if _, there := c.cells[key]; !there {
					lack = append(lack, names[i])
				} else {
					have = append(have, names[i])
				}
			}
			amend := got["amend"+key]
			for _, f := range snapshot.fields {
				values := map[string][]string{}
				for i, c := range copies {
					if v, changed := c.change(key, f, was[f]); changed {
						values[v] = append(values[v], names[i])
					}
				}
				if len(values) == 0 {
					require.True(t, amend == nil || amend.Field(f) == nil, "%s %s is changed by nobody", key, f)
					continue
				}
				amended = true
				require.NotNil(t, amend, key)
				x := amend.Field(f)
				require.NotNil(t, x, "%s %s", key, f)
				require.Equal(t, len(values) > 1, x.Disputed(), "%s %s: %v", key, f, values)
				require.Equal(t, len(values) > 1, slices.Contains(x.Stop, changeset.CopiesDisagree.Name))
				require.Equal(t, was[f], x.From.String())
				require.Equal(t, values[x.To.String()], x.Copies.Of)
				for _, s := range x.Copies.Sides {
					require.Equal(t, values[s.To.String()], s.Of)
				}
				require.Equal(t, len(values), 1+len(x.Copies.Sides))
			}
			deleted := len(lack) > 0 && missing != Ignore
			del := got["delete"+key]
			require.Equal(t, deleted, del != nil, key)
			if deleted {
				require.Equal(t, lack, del.Copies.Of)
				require.Equal(t, have, del.Copies.There)
				require.Equal(t, amended, slices.Contains(del.Stop, changeset.CopiesDisagree.Name))
				require.Equal(t, amended, slices.Contains(amend0(amend).Stop, changeset.CopiesDisagree.Name))
				require.Equal(t, len(have) > 0 || missing == Held, slices.Contains(del.Held, changeset.Missing.Name))
			}
			switch {
			case amended && deleted:
				want, against = want+2, against+1
			case amended || deleted:
				want++
			case len(lack) > 0:
				left++
			}
		}
		for _, key := range []string{"n1", "n2", "n3"} {
			values := map[string][]string{}
			for i, c := range copies {
				if r, there := c.cells[key]; there {
					all := fmt.Sprintf("%q %q %q", r["a"], r["b"], r["c"])
					values[all] = append(values[all], names[i])
				}
			}
			add := got["add"+key]
			require.Equal(t, len(values) > 0, add != nil)
			if add == nil {
				continue
			}
			want++
			require.Equal(t, len(values) > 1, slices.Contains(add.Stop, changeset.CopiesDisagree.Name))
			for all, of := range values {
				for _, name := range of {
					r, stop, ok := add.OfCopy(name)
					require.True(t, ok && len(stop) == 0)
					text := func(f string) string { v, _ := r.Get(f); return v.String() }
					require.Equal(t, all, fmt.Sprintf("%q %q %q", text("a"), text("b"), text("c")))
				}
			}
		}
		require.Len(t, k.changes, want)
		r := res.Records
		require.Equal(t, against, r.Against)
		require.Equal(t, left, r.Kept)
		require.Equal(t, r.Snapshot, res.Changes.Amend+res.Changes.Delete-r.Against+r.Unchanged+r.Kept+r.StoppedRecords)
		for i, c := range res.Copies {
			require.Equal(t, names[i], c.Name)
			require.Equal(t, c.Records.Edited, c.Changes.Amend+c.Changes.Add+c.Records.Unchanged+c.Records.Skipped+c.Records.Stopped)
		}
	})
}

func amend0(c *changeset.Change) *changeset.Change {
	if c == nil {
		return new(changeset.Change)
	}
	return c
}
