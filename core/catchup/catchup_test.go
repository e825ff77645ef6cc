package catchup_test

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/catchup"
	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// state is records by key, each with the values of fields.
type state map[string][]string

var fields = []string{"a", "b", "c"}

func (s state) image(t testing.TB, name string) *table.Image { return s.written(t, name, "\n", 0) }

// written is the state with other line ends, and a blank row after every so many.
func (s state) written(t testing.TB, name, end string, blank int) *table.Image {
	line := []byte("k,a,b,c" + end)
	for n, k := range slices.Sorted(maps.Keys(s)) {
		if blank > 0 && n%blank == blank-1 {
			line = append(line, end...)
		}
		line = csv.AppendCell(line, k, ',', false)
		for _, v := range s[k] {
			line = csv.AppendCell(append(line, ','), v, ',', false)
		}
		line = append(line, end...)
	}
	if blank == 5 { // the last row has no end
		line = bytes.TrimSuffix(line, []byte(end))
	}
	img, err := csv.Open(name, line)
	require.NoError(t, err)
	return img
}

func (s state) clone() state {
	c := state{}
	for k, v := range s {
		c[k] = slices.Clone(v)
	}
	return c
}

// worked is a state after somebody worked on it.
func (s state) worked(r *rand.Rand, values []string) state {
	w := s.clone()
	for i := range 30 {
		k := fmt.Sprintf("k%02d", i)
		switch v, there := w[k]; {
		case !there && r.IntN(6) == 0:
			w[k] = []string{pick(r, values), pick(r, values), pick(r, values)}
		case there && r.IntN(8) == 0:
			delete(w, k)
		case there && r.IntN(2) == 0:
			v[r.IntN(3)] = pick(r, values)
		}
	}
	return w
}

func pick(r *rand.Rand, all []string) string { return all[r.IntN(len(all))] }

// kept are the changes of a comparison.
type kept []*changeset.Change

func (k *kept) WriteEncoded(_ []byte, changes []*changeset.Change) error {
	*k = append(*k, changes...)
	return nil
}

func changesOf(t testing.TB, snapshot, copied *table.Image, judge func(*changeset.Change)) []*changeset.Change {
	var all kept
	_, err := compare.Run(context.Background(), snapshot, copied, compare.Options{RecordSet: "aids", Key: []string{"k"}, OtherRegister: true, Judge: judge,
		Proposals: compare.Proposals{Missing: compare.Asked, AllMissing: true, Blank: compare.Clear}}, &all)
	require.NoError(t, err)
	return all
}

// words say what changes, and what holds it.
func words(all []*changeset.Change) []string {
	var lines []string
	for _, c := range all {
		for _, f := range c.Fields {
			lines = append(lines, fmt.Sprintf("%s %s %s %q→%q %v%v", c.Act, c.Key, f.Field, f.From, f.To, c.Held, f.Held))
		}
		if c.Act != changeset.Amend {
			lines = append(lines, fmt.Sprintf("%s %s %v", c.Act, c.Key, c.Held))
		}
	}
	slices.Sort(lines)
	return lines
}

// expected is what is laid, by the three states alone.
func expected(old, copied, now state) []string {
	var lines []string
	amend := func(k, f, from, to, whole, held string) {
		lines = append(lines, fmt.Sprintf("amend %s %s %q→%q [%s][%s]", k, f, from, to, whole, held))
	}
	all := maps.Clone(old)
	maps.Copy(all, copied)
	for k := range all {
		o, was := old[k]
		c, is := copied[k]
		n, there := now[k]
		switch {
		case !was && is && !there:
			lines = append(lines, "add "+k+" []")
		case !was && is:
			for i, f := range fields {
				if n[i] != c[i] {
					amend(k, f, n[i], c[i], "key-taken", "")
				}
			}
		case was && !is && there:
			held := ""
			if !slices.Equal(n, o) {
				held = "moved-on"
			}
			lines = append(lines, fmt.Sprintf("delete %s [%s]", k, held))
		case was && is && !there && !slices.Equal(o, c):
			lines = append(lines, "add "+k+" [gone-since]")
		case was && is && there:
			for i, f := range fields {
				if c[i] == o[i] || c[i] == n[i] {
					continue // never what the copy left as it was
				}
				held := ""
				if n[i] != o[i] {
					held = "moved-on"
				}
				amend(k, f, n[i], c[i], "", held)
			}
		}
	}
	slices.Sort(lines)
	return lines
}

// goesOn is what an editor goes on with, by the three states alone: the newer records with what
// the copy changed, but for what others were first with.
func goesOn(old, copied, now state) state {
	want := now.clone()
	all := maps.Clone(old)
	maps.Copy(all, copied)
	for k := range all {
		o, was := old[k]
		c, is := copied[k]
		n, there := now[k]
		switch {
		case !was && is && !there:
			want[k] = slices.Clone(c)
		case was && !is && there && slices.Equal(n, o):
			delete(want, k)
		case was && is && there:
			for i := range fields {
				if c[i] != o[i] {
					want[k][i] = c[i]
				}
			}
		}
	}
	return want
}

// edits lays what Keep keeps on the newer records.
func edits(t *testing.T, in *catchup.Input, now state) state {
	kept, err := catchup.Keep(in)
	require.NoError(t, err)
	got := now.clone()
	for k, own := range kept.Own {
		if got[k.String()] == nil {
			got[k.String()] = make([]string, len(fields))
		}
		for i, f := range fields {
			if v, edited := own.Values.Get(f); edited {
				got[k.String()][i] = v.String()
			}
		}
	}
	for k := range kept.Gone {
		delete(got, k.String())
	}
	return got
}

// TestThreeStates lays random changes on records that others worked on: what comes of it is
// what the three states say, and a field that the copy left alone is never in it.
func TestThreeStates(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 0))
	values := []string{"x", "y", "", "a,b", `say "so"`, " led", "two\nlines", "0", "00"}
	for range 300 {
		old := state{}.worked(r, values)
		old = old.worked(r, values)
		for len(old) == 0 {
			old = old.worked(r, values)
		}
		copied := old.worked(r, values)
		now := old.worked(r, values)
		if r.IntN(10) == 0 {
			now = old.clone()
		}
		if len(now) == 0 || len(copied) == 0 {
			continue
		}
		in := &catchup.Input{Set: "aids", Key: []string{"k"}, Of: new(schema.Schema), Changes: changesOf(t, old.image(t, "old"), copied.image(t, "copy"), nil),
			Old: old.image(t, "old"), Fresh: now.written(t, "fresh", pick(r, []string{"\n", "\r\n"}), r.IntN(6)), Others: true}
		var b bytes.Buffer
		laid, err := catchup.Lay(t.Context(), in, &b)
		require.NoError(t, err)
		edited, err := csv.Open("edited", b.Bytes())
		require.NoError(t, err)
		got := words(changesOf(t, in.Fresh, edited, laid.Hold))
		require.Equal(t, expected(old, copied, now), got, "old\n%s\ncopy\n%s\nnow\n%s", in.Old.Data, copied.image(t, "").Data, in.Fresh.Data)
		if maps.EqualFunc(old, now, slices.Equal) {
			assert.Equal(t, words(in.Changes), got, "on records that did not move nothing changes")
			assert.Empty(t, laid.Findings)
		}
		require.Equal(t, goesOn(old, copied, now), edits(t, in, now), "what an editor goes on with")
		held := strings.Count(strings.Join(got, " "), "moved-on") + strings.Count(strings.Join(got, " "), "gone-since")
		told := 0
		for _, f := range laid.Findings {
			if f.Level == changeset.Warn && f.Code != changeset.KeyTaken.Name {
				told++
			}
		}
		assert.Equal(t, held, told, "each that is held is told")
	}
}

// New records that got their keys already are not added again, and are named by these; one of
// which that is not known is held.
func TestNewRecordsThatWereAdded(t *testing.T) {
	old := state{"1": {"x", "", ""}}
	copied := state{"1": {"new:b", "", ""}, "new:a": {"a", "", ""}, "new:b": {"b", "", ""}, "new:c": {"c", "new:b", ""}}
	fresh := state{"1": {"x", "", ""}, "7": {"b", "", ""}}
	in := &catchup.Input{Set: "aids", Key: []string{"k"}, Of: new(schema.Schema), Changes: changesOf(t, old.image(t, "old"), copied.image(t, "copy"), nil),
		Old: old.image(t, "old"), Fresh: fresh.image(t, "fresh"), Keys: map[string]string{"new:b": "7"}}
	id := func(key string) changeset.ID { return changeset.MakeID("aids", record.NewKey(key), changeset.Add) }
	in.Added = map[changeset.ID]bool{id("new:b"): true, id("new:a"): false}
	var b bytes.Buffer
	laid, err := catchup.Lay(t.Context(), in, &b)
	require.NoError(t, err)
	edited, err := csv.Open("edited", b.Bytes())
	require.NoError(t, err)
	assert.Equal(t, []string{"add new:a [added-perhaps]", "add new:c []", `amend 1 a "x"→"7" [][]`}, words(changesOf(t, in.Fresh, edited, laid.Hold)))
	assert.Contains(t, b.String(), "new:c,c,7,")
	assert.Equal(t, 1, laid.Settled)
}

// A record that gets another key here, and is gone, is not added under that key by the way.
func TestAKeyChangeOfARecordThatIsGone(t *testing.T) {
	old, fresh := state{"1": {"x", "", ""}, "2": {"y", "", ""}}, state{"2": {"y", "", ""}}
	changes := changesOf(t, old.image(t, "old"), state{"2": {"y", "", ""}, "9": {"x", "", ""}}.image(t, "copy"), nil)
	for _, ch := range changes {
		if ch.Linked = "keys 1"; ch.Act == changeset.Add {
			ch.Was = record.NewKey("1")
		}
	}
	in := &catchup.Input{Set: "aids", Key: []string{"k"}, Of: new(schema.Schema), Changes: changes, Old: old.image(t, "old"), Fresh: fresh.image(t, "fresh"), Others: true}
	var b bytes.Buffer
	laid, err := catchup.Lay(t.Context(), in, &b)
	require.NoError(t, err)
	edited, err := csv.Open("edited", b.Bytes())
	require.NoError(t, err)
	assert.Equal(t, []string{"add 9 [gone-since]"}, words(changesOf(t, in.Fresh, edited, laid.Hold)))
}
