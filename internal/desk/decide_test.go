package desk

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
)

// standing is what stands decided about every unit, with who approved it.
func standing(t require.TestingT, x *Dossier) (ids []changeset.ID, states []changeset.State, approvers [][]changeset.Person) {
	c, err := x.Changes()
	require.NoError(t, err)
	defer c.Close()
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		require.NoError(t, err)
		for _, s := range c.Ledger.States(line, ch) {
			ids, states = append(ids, ch.ID), append(states, s)
			approvers = append(approvers, c.Ledger.Approvers(line, ch, s.Field, true))
		}
	}
	return ids, states, approvers
}

// TestDecisionsOfTwo lets two people decide at random, by groups, ids and
// fields, with and without a second look. A group never undoes what another
// person said unless it was told to; every unit that was meant is counted once;
// what is said to be touched is so, and nothing else is.
func TestDecisionsOfTwo(t *testing.T) {
	decisions := []changeset.Decision{changeset.Approve, changeset.Hold, changeset.Reject, changeset.Open}
	rapid.Check(t, func(rt *rapid.T) {
		d := newDesk(t)
		if rapid.Bool().Draw(rt, "second look") {
			d.Settings.Review.Second = "all"
		}
		c := comparison("two", "k,v,w\n1,A,B\n2,,y\n3,c,Z\n5,e,e\n")
		c.Snapshot.Stream = strings.NewReader("k,v,w\n1,a,b\n2,b,x\n3,c,z\n4,d,q\n")
		c.Options.Missing = rapid.SampledFrom([]string{compare.Held, compare.Asked}).Draw(rt, "missing")
		x, _, err := d.Compare(context.Background(), c)
		require.NoError(rt, err)
		for act := range rapid.IntRange(1, 12).Draw(rt, "acts") {
			ids, before, looked := standing(rt, x)
			o := &Order{Decision: rapid.SampledFrom(decisions).Draw(rt, "decision"), By: rapid.SampledFrom([]string{"lina", "petr"}).Draw(rt, "by"),
				Held: rapid.Bool().Draw(rt, "held"), Decided: rapid.Bool().Draw(rt, "decided")}
			o.When = time.Unix(2e9+int64(act), 0)
			at := rapid.IntRange(0, len(ids)-1).Draw(rt, "unit")
			meant := func(i int) bool { return true }
			how := rapid.SampledFrom([]string{"all", "field", "id", "unit"}).Draw(rt, "how")
			switch how {
			case "field":
				f := rapid.SampledFrom([]string{"v", "w"}).Draw(rt, "field")
				o.Filter.Fields = []string{f}
				meant = func(i int) bool { return before[i].Field == f }
			case "id":
				o.Names = []string{ids[at].String()}
				meant = func(i int) bool { return ids[i] == ids[at] }
			case "unit":
				if before[at].Field == "" {
					continue
				}
				o.Names = []string{ids[at].String() + "/" + before[at].Field}
				meant = func(i int) bool { return i == at }
			}
			n, err := x.Decide(o)
			require.NoError(rt, err)
			_, after, looks := standing(rt, x)
			wanted, touched := 0, 0
			for i := range before {
				was, is := &before[i], &after[i]
				same := was.Decision == is.Decision && was.By == is.By
				if !meant(i) {
					require.True(rt, same, "what was not meant stays")
					continue
				}
				wanted++
				others := was.By != o.By && was.By != changeset.Tool && was.Decision != changeset.Open
				seconds := d.Settings.Review.Second != "" && o.Decision == changeset.Approve && was.Decision == changeset.Approve
				if others && was.Decision != o.Decision && !o.Decided && (how == "all" || how == "field") {
					require.True(rt, same, "another's %s is not undone by a group", was.Decision)
				}
				if was.ToolHeld() && o.Decision != changeset.Open && !o.Held && (how == "all" || how == "field") {
					require.True(rt, same, "the tool's hold is not lifted by a group")
				}
				if was.Decision == changeset.Open && o.Decision != changeset.Open {
					require.Equal(rt, o.Decision, is.Decision, "what is open is decided")
				}
				if how == "unit" && o.Decision != changeset.Open {
					require.Equal(rt, o.Decision, is.Decision, "what is named is decided")
				}
				if others && seconds {
					require.Contains(rt, looks[i], changeset.Person{Name: o.By}, "a second approval counts")
					require.Subset(rt, looks[i], looked[i])
				}
				if o.Decided && others {
					require.Equal(rt, o.Decision == changeset.Open, is.Decision == changeset.Open || is.ToolHeld(), "what others decided is taken in")
				}
				if is.When.Equal(o.When) || o.Decision == changeset.Open && !same {
					touched++
				} else {
					require.True(rt, same)
				}
			}
			passed := n.Passed + n.Stopped + n.Already
			for _, k := range n.Others {
				passed += k
			}
			require.Equal(rt, wanted, n.Units+passed, "all that was meant is counted: %+v", n)
			require.Equal(rt, n.Units, touched, "what is said to be touched stands")
			require.Equal(rt, n.Units, n.Fields()+n.Adds+n.Deletes)
			if n.Units == 0 {
				require.Equal(rt, n.InTheWay(), wanted > n.Already)
				require.Zero(rt, touched)
			}
			require.False(rt, slices.ContainsFunc(after, func(s changeset.State) bool { return s.Lapsed != "" }))
		}
	})
}
