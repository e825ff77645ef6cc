package targettest

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk/faulty"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

// renamed is a register in which some records were given other keys, and
// others were amended, deleted or added.
type renamed struct {
	rows   [][]string
	edited string
	keys   map[string]string // new keys by old

	gone      map[string]bool // keys of records that were deleted
	exchanged int             // pairs of records that exchanged their keys
}

func drawRenamed(t *rapid.T) renamed {
	r := renamed{rows: [][]string{{"k", "a", "b", "c", "e", "f", "d"}}, keys: map[string]string{}, gone: map[string]bool{}}
	var head, tail []string
	n := rapid.IntRange(20, 40).Draw(t, "records")
	for i := range n {
		row := []string{fmt.Sprintf("1%02d", i), fmt.Sprintf("lantern %d", i*7), fmt.Sprintf("rock %d", i*11), fmt.Sprintf("spit %d", i*13), fmt.Sprintf("bank %d", i*17), fmt.Sprintf("pier %d", i*19), "x"}
		r.rows = append(r.rows, row)
		now := slices.Clone(row)
		switch rapid.IntRange(0, 9).Draw(t, "edit") {
		case 0, 1:
			now[0] = fmt.Sprintf("9%02d", n-i)
			r.keys[row[0]] = now[0]
		case 2:
			now[6] = "y"
		case 3:
			if i > 0 {
				r.gone[row[0]] = true
				continue
			}
		}
		if line := strings.Join(now, ","); r.keys[row[0]] != "" && rapid.Bool().Draw(t, "moved down") {
			tail = append(tail, line)
		} else {
			head = append(head, line)
		}
	}
	for i := 1; i < len(head); i++ { // neighbours exchange their keys
		if rapid.IntRange(0, 5).Draw(t, "exchange") == 0 && strings.HasPrefix(head[i-1], "1") && strings.HasPrefix(head[i], "1") {
			a, b := head[i-1], head[i]
			head[i-1], head[i] = a[:3]+b[3:], b[:3]+a[3:]
			r.exchanged++
			i++
		}
	}
	r.edited = "k,a,b,c,e,f,d\n" + strings.Join(append(head, tail...), "\n") + "\n"
	return r
}

func (r *renamed) snapshot() string {
	var lines []string
	for _, row := range r.rows {
		lines = append(lines, strings.Join(row, ","))
	}
	return strings.Join(lines, "\n") + "\n"
}

// whole checks that every renamed record stands under its old key or under its
// new one, and never under both or none, unless somebody else took it away.
func (r *renamed) whole(t require.TestingT, m *Mean, when string) {
	for _, old := range slices.Sorted(maps.Keys(r.keys)) {
		was, is := m.Value(old, "a") != "(gone)", m.Value(r.keys[old], "a") != "(gone)"
		require.True(t, was != is, "%s: %s there %t, %s there %t\n%s", when, old, was, r.keys[old], is, m.State())
	}
}

// same checks that a record whose key was changed, there or back, is the record
// that it was, where the target gives records other keys.
func (r *renamed) same(t require.TestingT, m *Mean) {
	if !m.Rekeys {
		return
	}
	linked := map[string]bool{}
	for _, k := range r.keys {
		linked[k] = true
	}
	born := map[string]string{}
	for i, row := range r.rows[1:] {
		born[row[1]] = fmt.Sprint("born ", i+1)
	}
	for _, x := range m.records {
		a, _ := x.Get("a")
		b, _ := x.Get("born")
		k := m.keyOf(x).String()
		if linked[k] || strings.HasPrefix(k, "1") && !r.gone[k] {
			require.Equal(t, born[a.String()], b.String(), "%s\n%s", k, m.State())
		}
	}
}

// Whatever a target refuses, whatever colleagues change meanwhile, in batches
// of any size, in trials, undone whole or for some records: changes that are
// linked are all there or not at all.
func TestLinksAreNeverTorn(t *testing.T) {
	groups := 0
	rapid.Check(t, func(rt *rapid.T) {
		r := drawRenamed(rt)
		dir, err := os.MkdirTemp("", "paletwin-links-")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		d, err := desk.Find(faulty.NoSync{}, account.Account{}, dir, "")
		require.NoError(rt, err)
		x, res, err := d.Compare(context.Background(), &desk.Comparison{Title: "links", By: "lina", Now: clock(),
			Snapshot: desk.Source{Name: "s.csv", Stream: strings.NewReader(r.snapshot())},
			Edited:   &desk.Source{Name: "e.csv", Stream: strings.NewReader(r.edited)},
			Options:  compare.Options{RecordSet: "aids", Key: []string{"k"}, OtherRegister: true, SlipSearch: compare.SlipSearch{Slips: compare.SlipsHold}}})
		require.NoError(rt, err)
		r.keys = linkedKeys(rt, x)
		groups += len(r.keys)
		_, err = x.Decide(&desk.Order{Decision: changeset.Approve, Held: true, By: "lina", When: clock()})
		require.NoError(rt, err)
		m := NewMean([]string{"k"}, r.rows...)
		m.BatchSize = rapid.IntRange(1, 6).Draw(rt, "batch")
		m.Rekeys = rapid.Bool().Draw(rt, "gives records other keys")
		m.Register("born")
		refused := rapid.IntRange(0, 9).Draw(rt, "refused")
		m.Refuse = func(s *target.Step) string {
			if strings.HasSuffix(s.Key.String(), fmt.Sprint(refused)) {
				return "closed"
			}
			return ""
		}
		m.Before = func(m *Mean, batch int) {
			if k := r.rows[1+batch%(len(r.rows)-1)][0]; rapid.IntRange(0, 3).Draw(rt, "colleague") == 0 && m.Value(k, "a") != "(gone)" {
				m.Colleague(k, "d", "theirs")
			}
		}
		apply := func(x *desk.Dossier, first int) *run.Report {
			rep, err := run.Apply(context.Background(), &run.Job{Dossier: x, Target: m, By: "lina", Now: clock, Options: run.Options{First: first, System: []string{"born"}}})
			require.NoError(rt, err)
			isRead(rt, x, rep)
			return rep
		}
		apply(x, rapid.IntRange(0, 4).Draw(rt, "first"))
		r.whole(rt, m, "after the first run")
		apply(x, 0)
		r.whole(rt, m, "after all")
		r.same(rt, m)
		if res.Changes.Changes() == 0 {
			return
		}
		m.Before, refused = nil, rapid.SampledFrom([]int{refused, 99}).Draw(rt, "refused then")
		for _, k := range r.keys {
			if m.Value(k, "a") != "(gone)" && rapid.IntRange(0, 2).Draw(rt, "colleague") == 0 {
				m.Colleague(k, "d", "theirs, later")
			}
		}
		var some []record.Key
		for old := range r.keys {
			if rapid.Bool().Draw(rt, "undone") {
				some = append(some, record.NewKey(rapid.SampledFrom([]string{old, r.keys[old]}).Draw(rt, "side")))
			}
		}
		for _, records := range [][]record.Key{some, nil} {
			back, err := run.Rollback(context.Background(), x, m, run.Undo{Records: records, By: "lina", Now: clock})
			if err != nil {
				continue // there is nothing to undo
			}
			heldAlike(rt, back)
			_, err = back.Decide(&desk.Order{Decision: changeset.Approve, By: "lina", When: clock()})
			require.NoError(rt, err)
			apply(back, 0)
			r.whole(rt, m, "undone")
			r.same(rt, m)
		}
	})
	assert.Positive(t, groups, "some keys were edited")
}

// heldAlike checks that what is linked is held together.
func heldAlike(t require.TestingT, x *desk.Dossier) {
	c, err := x.Changes()
	require.NoError(t, err)
	defer c.Close()
	held := map[string]bool{}
	for ch, err := range c.Changes() {
		require.NoError(t, err)
		if before, there := held[ch.Linked]; there && ch.Linked != "" {
			require.Equal(t, before, len(ch.Held) > 0, "%s %s", ch.Act, ch.Key)
		}
		held[ch.Linked] = len(ch.Held) > 0
	}
}

// linkedKeys are the keys of the deletes and adds of a change set that are
// linked, two and two.
func linkedKeys(t require.TestingT, x *desk.Dossier) map[string]string {
	c, err := x.Changes()
	require.NoError(t, err)
	defer c.Close()
	old, now := map[string]string{}, map[string]string{}
	for ch, err := range c.Changes() {
		require.NoError(t, err)
		switch {
		case ch.Linked == "":
		case ch.Act == changeset.Delete:
			old[ch.Linked] = ch.Key.String()
		case ch.Act == changeset.Add:
			now[ch.Linked] = ch.Key.String()
		}
	}
	keys := map[string]string{}
	for link, k := range old {
		keys[k] = now[link]
	}
	return keys
}
