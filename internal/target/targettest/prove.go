package targettest

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/target"
)

// Kind is a kind of target that Prove proves.
type Kind struct {
	// Make makes a place with the records of a CSV text under a key.
	Make func(t *testing.T, key []string, register string) Place
	// Nulls says that it tells null from the empty text.
	Nulls bool
	// Once says that no two records of it have one key, and Alone that it cannot write records together or not at all.
	Once, Alone bool
	// Read opens what Backup wrote.
	Read func(name string, backup []byte) (*table.Image, error)
}

// held is a target that is used in a test.
type held struct {
	t *testing.T
	target.Target
}

// open makes a place and opens it. Steps can be carried out at it, unless it is a
// Loader.
func (k *Kind) open(t *testing.T, key []string, register string) (Place, *held) {
	p := k.Make(t, key, register)
	tgt := p.Open(t)
	t.Cleanup(func() { assert.NoError(t, tgt.Close()) })
	return p, &held{t, tgt}
}

// now reads records, after others may have written.
func (h *held) now(keys ...record.Key) []target.State {
	require.NoError(h.t, h.Refresh(h.t.Context()))
	s, err := h.Current(h.t.Context(), keys)
	require.NoError(h.t, err)
	require.Len(h.t, s, len(keys))
	return s
}

// value is a field of a record.
func (h *held) value(key record.Key, field string) record.Value {
	v, _ := h.now(key)[0].Record.Get(field)
	return v
}

// write carries steps out, in batches of the target's size; linked ones stay
// together.
func (h *held) write(steps ...target.Step) []target.Result {
	size := h.Traits().Batch
	if size <= 0 || len(steps) <= size || steps[0].Linked != "" {
		size = len(steps)
	}
	var all []target.Result
	for from := 0; from < len(steps); from += size {
		r, err := h.Write(h.t.Context(), steps[from:min(from+size, len(steps))])
		require.NoError(h.t, err)
		all = append(all, r...)
	}
	require.Len(h.t, all, len(steps))
	return all
}

func amend(key record.Key, field, from, to string) target.Step {
	return target.Step{ID: changeset.MakeID("aids", key, changeset.Amend), Act: changeset.Amend, Key: key,
		Fields: []changeset.Edit{{Field: field, From: record.Text(from), To: record.Text(to)}}}
}

// Prove proves that a kind of target keeps to what package target says, whatever
// a run makes of it: keys of several fields, nulls, records that moved, keys that
// stand twice, exchanges, big batches, cancellation, backups.
func Prove(t *testing.T, k Kind) {
	t.Run("a backup opens as what it was made of", func(t *testing.T) {
		_, h := k.open(t, []string{"k"}, Register)
		var b bytes.Buffer
		require.NoError(t, h.Backup(t.Context(), &b))
		img, err := k.Read("backup"+h.Traits().Ext, b.Bytes())
		require.NoError(t, err)
		assert.Equal(t, Content(t, h.Target), Content(t, &tableOf{h.Target, img}))
	})
	t.Run("keys of several fields are no texts put together", func(t *testing.T) {
		_, h := k.open(t, []string{"a", "b"}, "a,b,v\nx,yz,1\nxy,z,2\n\"x,y\",z,3\nx,\"y,z\",4\n")
		keys := []record.Key{record.NewKey("xy", "z"), record.NewKey("x", "yz"), record.NewKey("x", "y,z"), record.NewKey("x,y", "z"), record.NewKey("x", "y")}
		var found []string
		for _, s := range h.now(keys...) {
			v, _ := s.Record.Get("v")
			found = append(found, fmt.Sprint(s.Count, v))
		}
		assert.Equal(t, []string{"1 2", "1 1", "1 4", "1 3", "0 "}, found)
	})
	t.Run("a key that stands twice is counted", func(t *testing.T) {
		if k.Once {
			t.Skip("none does")
		}
		_, h := k.open(t, []string{"k"}, Register+"3,other,x\n")
		s := h.now(record.NewKey("3"), record.NewKey("4"))
		assert.Equal(t, []int{2, 1}, []int{s[0].Count, s[1].Count})
	})
	t.Run("what is cancelled is not begun", func(t *testing.T) {
		_, h := k.open(t, []string{"k"}, Register)
		before := Content(t, h.Target)
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		_, err := h.Write(ctx, []target.Step{amend(record.NewKey("1"), "v", "a", "z")})
		assert.ErrorIs(t, err, context.Canceled)
		assert.Equal(t, before, Content(t, h.Target))
		assert.ErrorIs(t, h.Backup(ctx, new(bytes.Buffer)), context.Canceled)
	})
	if _, later := k.Make(t, []string{"k"}, Register).Open(t).(target.Loader); later {
		return // what became of a step is not known
	}
	proveWriting(t, &k)
	proveKeyChanges(t, &k)
}

func proveWriting(t *testing.T, k *Kind) {
	key := func(n int) record.Key { return record.NewKey(fmt.Sprint(n)) }
	t.Run("nulls are written and read as what they are", func(t *testing.T) {
		_, h := k.open(t, []string{"k"}, Register)
		step := amend(key(1), "v", "a", "")
		step.Fields[0].To = record.Null()
		require.Equal(t, target.Done, h.write(step)[0].Fate)
		v := h.value(key(1), "v")
		assert.True(t, v.Blank())
		assert.Equal(t, k.Nulls, v.IsNull())
		back := amend(key(1), "v", "", "a")
		back.Fields[0].From = v
		require.Equal(t, target.Done, h.write(back)[0].Fate)
		assert.Equal(t, record.Text("a"), h.value(key(1), "v"))
	})
	t.Run("a record that moved is left alone", func(t *testing.T) {
		p, h := k.open(t, []string{"k"}, Register)
		h.now(key(2))
		p.Set(t, "2", "v", "colleague")
		r, err := h.Write(t.Context(), []target.Step{amend(key(2), "v", "b", "mine"), amend(key(3), "v", "c", "mine")})
		if err != nil {
			require.ErrorIs(t, err, target.ErrMoved)
		} else {
			assert.Equal(t, []target.Fate{target.Moved, target.Done}, []target.Fate{r[0].Fate, r[1].Fate})
		}
		assert.Equal(t, record.Text("colleague"), h.value(key(2), "v"))
	})
	t.Run("records exchange their values", func(t *testing.T) {
		if k.Alone {
			t.Skip("they are written one by one")
		}
		_, h := k.open(t, []string{"k"}, Register)
		one, two := amend(key(1), "v", "a", "b"), amend(key(2), "v", "b", "a")
		one.Linked, two.Linked = "swap", "swap"
		for _, r := range h.write(one, two) {
			require.Equal(t, target.Done, r.Fate, r.Reason)
		}
		assert.Equal(t, []record.Value{record.Text("b"), record.Text("a")}, []record.Value{h.value(key(1), "v"), h.value(key(2), "v")})
	})
	t.Run("many records at once", func(t *testing.T) {
		const n = 3000
		var b strings.Builder
		b.WriteString("k,v,w\n")
		var steps []target.Step
		for i := range n {
			fmt.Fprintf(&b, "%d,old %d,x\n", i, i)
			switch i % 3 {
			case 0:
				steps = append(steps, amend(key(i), "v", fmt.Sprint("old ", i), fmt.Sprint("new ", i)))
			case 1:
				steps = append(steps, target.Step{Act: changeset.Delete, Key: key(i), Record: rowOf(i, fmt.Sprint("old ", i))})
			default:
				steps = append(steps, target.Step{Act: changeset.Add, Key: key(n + i), Record: rowOf(n+i, "added")})
			}
		}
		_, h := k.open(t, []string{"k"}, b.String())
		h.now()
		for _, r := range h.write(steps...) {
			require.Equal(t, target.Done, r.Fate, r.Reason)
		}
		assert.Equal(t, 1+n, strings.Count(Content(t, h.Target), "\n")+1, "a third more, a third less")
		assert.Equal(t, record.Text("new 6"), h.value(key(6), "v"))
		assert.Zero(t, h.now(key(7))[0].Count)
		assert.Equal(t, record.Text("added"), h.value(key(n+8), "v"))
	})
	t.Run("what it has is what its records say, and nobody is there twice", func(t *testing.T) {
		_, h := k.open(t, []string{"k"}, Register)
		first := h.write(target.Step{Act: changeset.Add, Key: key(9), Record: rowOf(9, "i")})
		require.Equal(t, target.Done, first[0].Fate)
		s := h.now(key(9))[0]
		assert.Equal(t, 1, s.Count)
		assert.Equal(t, []string{"k", "v", "w"}, h.Fields())
		assert.Equal(t, rowOf(9, "i"), s.Record)
	})
}

// proveKeyChanges proves that records that get other keys stay the records that
// they are: one that gets a new key, two that exchange theirs, three in a ring.
func proveKeyChanges(t *testing.T, k *Kind) {
	for name, to := range map[string]map[string]string{
		"a new key":   {"2": "9"},
		"an exchange": {"2": "4", "4": "2"},
		"a chain":     {"1": "3", "3": "5", "5": "8"},
		"a ring":      {"1": "2", "2": "3", "3": "1"},
	} {
		t.Run("a record keeps what no step names: "+name, func(t *testing.T) {
			_, h := k.open(t, []string{"k"}, "k,v,w\n1,a,w1\n2,b,w2\n3,c,w3\n4,d,w4\n5,e,w5\n")
			if !h.Traits().KeyChanges {
				t.Skip("it deletes and adds")
			}
			values := map[string]string{"1": "a", "2": "b", "3": "c", "4": "d", "5": "e"}
			taken := map[string]bool{}
			var steps []target.Step
			for _, old := range slices.Sorted(maps.Keys(to)) {
				now, v := to[old], values[old]
				taken[now] = true
				s := target.Step{Act: changeset.Add, Key: record.NewKey(now), Was: record.NewKey(old), Linked: "keys",
					Record: record.Record{{Name: "k", Value: record.Text(now)}, {Name: "v", Value: record.Text(v)}}}
				if before, there := values[now]; there {
					s.Act, s.Fields = changeset.Amend, []changeset.Edit{{Field: "v", From: record.Text(before), To: record.Text(v)}}
				}
				steps = append(steps, s)
			}
			for old := range to {
				if !taken[old] {
					steps = append(steps, target.Step{Act: changeset.Delete, Key: record.NewKey(old), Linked: "keys", Record: record.Record{{Name: "v", Value: record.Text(values[old])}}})
				}
			}
			for _, r := range h.write(steps...) {
				require.Equal(t, target.Done, r.Fate, r.Reason)
			}
			for old, now := range to {
				assert.Equal(t, []record.Value{record.Text(values[old]), record.Text("w" + old)}, []record.Value{h.value(record.NewKey(now), "v"), h.value(record.NewKey(now), "w")}, "%s, now %s", old, now)
				if !taken[old] {
					assert.Zero(t, h.now(record.NewKey(old))[0].Count)
				}
			}
		})
	}
}

func rowOf(k int, v string) record.Record {
	return record.Record{{Name: "k", Value: record.Text(fmt.Sprint(k))}, {Name: "v", Value: record.Text(v)}, {Name: "w", Value: record.Text("x")}}
}

// tableOf is a target whose table is another one's.
type tableOf struct {
	target.Target
	img *table.Image
}

func (t *tableOf) Refresh(context.Context) error { return nil }

func (t *tableOf) Table(context.Context) (*table.Image, func() error, error) {
	return t.img, func() error { return nil }, nil
}
