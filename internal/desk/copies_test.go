package desk

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
)

// copied draws an edited copy of a small snapshot.
func copied(t *rapid.T, keys []string, who string) string {
	var b strings.Builder
	b.WriteString("k,v,w\n")
	for _, k := range keys {
		if rapid.IntRange(0, 5).Draw(t, who+" lacks "+k) == 0 {
			continue
		}
		value := func(f string) string { return rapid.SampledFrom([]string{"1", "1", "2", "3"}).Draw(t, who+k+f) }
		fmt.Fprintf(&b, "%s,%s,%s\n", k, value("v"), value("w"))
	}
	if rapid.Bool().Draw(t, who+" adds") {
		fmt.Fprintf(&b, "n,%s,1\n", rapid.SampledFrom([]string{"1", "2"}).Draw(t, who+" new"))
	}
	return b.String()
}

// The order in which copies are named does not matter, to the byte, and one that is named again
// adds nothing. Whatever is decided then by whomever: of a record that one copy amends and another
// lacks one side at most is approved; what copies disagree about is approved as one of them has it,
// and the same after it was approved again; and nothing is approved of it that nobody chose.
func TestCopiesAreDecidedOn(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		keys := []string{"a", "b", "c", "d", "e", "f", "g", "h"}
		var snapshot strings.Builder
		snapshot.WriteString("k,v,w\n")
		for _, k := range keys {
			snapshot.WriteString(k + ",1,1\n")
		}
		names := []string{"p.csv", "q.csv", "r.csv"}[:rapid.IntRange(2, 3).Draw(rt, "copies")]
		texts := map[string]string{}
		for _, n := range names {
			texts[n] = copied(rt, keys, n)
		}
		d := newDesk(t)
		d.Settings.Review.Second = rapid.SampledFrom([]string{"", "all"}).Draw(rt, "second look")
		compared := func(order []string) *Dossier {
			c := &Comparison{Title: "t", By: "lina", Now: time.Unix(1e9, 0), Snapshot: Source{Name: "s.csv", Stream: strings.NewReader(snapshot.String())},
				Options: compare.Options{RecordSet: "aids", Key: []string{"k"}, OtherRegister: true}}
			for _, n := range order {
				s := &Source{Name: n, Stream: strings.NewReader(texts[n])}
				if c.Edited == nil {
					c.Edited = s
				} else {
					c.More = append(c.More, s)
				}
			}
			x, _, err := d.Compare(context.Background(), c)
			require.NoError(rt, err)
			return x
		}
		set := func(x *Dossier) []byte {
			b, err := os.ReadFile(x.Path(ChangesName("aids")))
			require.NoError(rt, err)
			return b
		}
		x := compared(names)
		other := slices.Clone(names)
		slices.Reverse(other)
		require.Equal(rt, string(set(x)), string(set(compared(append(other, names[0])))), "in another order, and one twice")

		for n := range rapid.IntRange(1, 8).Draw(rt, "decisions") {
			o := &Order{Decision: rapid.SampledFrom([]changeset.Decision{changeset.Approve, changeset.Approve, changeset.Approve, changeset.Reject, changeset.Open, changeset.Hold}).Draw(rt, "decision"),
				By: rapid.SampledFrom([]string{"lina", "tomas"}).Draw(rt, "by"), When: time.Unix(2e9+int64(n), 0),
				Held: rapid.Bool().Draw(rt, "held"), Decided: rapid.Bool().Draw(rt, "decided")}
			if o.Decision == changeset.Approve {
				o.Filter.Of = rapid.SampledFrom(append(names, "")).Draw(rt, "of")
			}
			if rapid.Bool().Draw(rt, "disputes") {
				o.Filter.Findings = []string{changeset.CopiesDisagree.Name}
			}
			before := sidesOf(rt, x)
			_, err := x.Decide(o)
			require.NoError(rt, err)
			after := sidesOf(rt, x)
			for unit, s := range after {
				if was := before[unit]; o.Filter.Of == "" && o.Decision == changeset.Approve && s.Decision == changeset.Approve && was.Decision == changeset.Approve {
					require.Equal(rt, was.Of, s.Of, "%s: approved again", unit)
				}
			}
		}
		require.False(rt, bytes.Contains(set(x), []byte("\x00")))
	})
}

// sidesOf checks what stands decided, and returns it by record, act and field.
func sidesOf(t require.TestingT, x *Dossier) map[string]changeset.State {
	c, err := x.Changes()
	require.NoError(t, err)
	defer c.Close()
	all := map[string]changeset.State{}
	approved := map[string]changeset.Act{}
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		require.NoError(t, err)
		for i, s := range c.Ledger.States(line, ch) {
			all[fmt.Sprint(ch.Key, ch.Act, s.Field)] = s
			require.Empty(t, s.Lapsed, "%s %s", ch.Key, s.Field)
			if s.Decision != changeset.Approve {
				continue
			}
			act, there := approved[ch.Key.String()]
			require.True(t, !there || act == ch.Act, "%s is approved to be amended and to be deleted", ch.Key)
			approved[ch.Key.String()] = ch.Act
			if len(s.Stop) == 0 {
				continue
			}
			require.NotEmpty(t, s.Of, "nobody chose a side of %s %s", ch.Key, s.Field)
			if ch.Act == changeset.Amend && ch.Fields[i].Disputed() {
				v, _, ok := ch.Fields[i].OfCopy(s.Of)
				require.True(t, ok && s.Given != nil && *s.Given == v, "%s %s", ch.Key, s.Field)
			}
		}
	}
	return all
}
