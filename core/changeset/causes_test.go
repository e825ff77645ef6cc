package changeset

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Groups lose no finding and count none twice: each is in one group, below its cause or not, and the counts add up. What may be lost
// comes before what cannot be used, and that before what waits and what is information.
func TestGroupsAddUp(t *testing.T) {
	codes := Codes()
	rapid.Check(t, func(t *rapid.T) {
		var all []Finding
		want := 0
		for range rapid.IntRange(0, 40).Draw(t, "findings") {
			f := rapid.SampledFrom(codes).Draw(t, "code").Finding("%q is not allowed", rapid.SampledFrom([]string{"a", "b", "c"}).Draw(t, "value"))
			f.Column = rapid.SampledFrom([]string{"", "depot", "fee"}).Draw(t, "column")
			f.File = rapid.SampledFrom([]string{"a.csv", "b.csv"}).Draw(t, "file")
			f.Count = rapid.IntRange(1, 9).Draw(t, "count")
			f.Row = rapid.IntRange(0, 5).Draw(t, "row")
			all, want = append(all, f), want+f.Count
		}
		var l Following
		for range rapid.IntRange(0, 30).Draw(t, "changes") {
			ch := &Change{Act: Amend}
			for _, name := range []string{"depot", "fee"} {
				ch.Fields = append(ch.Fields, FieldChange{Edit: Edit{Field: name}, Held: rapid.SliceOfN(rapid.SampledFrom([]string{ColumnSwap.Name, Factor.Name, Strange.Name, NearMiss.Name}), 0, 2).Draw(t, "held"), Stop: rapid.SliceOfN(rapid.SampledFrom([]string{ValueRef.Name, ValueKind.Name}), 0, 2).Draw(t, "stop")})
			}
			l.Count(ch)
		}
		l.Tell(all)
		groups := Groups(all)
		got, members := 0, 0
		var add func(g *Group)
		add = func(g *Group) {
			got, members = got+g.Count, members+len(g.Of)
			assert.LessOrEqual(t, len(g.Examples), MostExamples)
			assert.LessOrEqual(t, len(g.Rows), MaxRows)
			for i := range g.Follow {
				assert.Equal(t, g.Code, g.Follow[i].Cause)
				add(&g.Follow[i])
			}
		}
		for i := range groups {
			add(&groups[i])
			if i > 0 {
				assert.LessOrEqual(t, groups[i-1].rank(), groups[i].rank())
			}
			for k := range groups[i].Of {
				assert.LessOrEqual(t, groups[i].Of[k].Caused, groups[i].Of[k].Count)
			}
		}
		assert.Equal(t, want, got)
		assert.Equal(t, len(all), members)
	})
}

// Values of exchanged columns follow from the exchange where all of them do, and stand below it; where some do not, they are told
// with how many do.
func TestWhatFollowsFromAnExchange(t *testing.T) {
	swapped := func(more ...string) *Change {
		return &Change{Act: Amend, Fields: []FieldChange{{Edit: Edit{Field: "depot"}, Held: append([]string{ColumnSwap.Name}, more...), Stop: []string{ValueRef.Name}}}}
	}
	finding := func(c Code, n int) Finding {
		f := c.Finding("%d", n)
		f.Column, f.Count = "depot", n
		return f
	}
	var l Following
	for range 5 {
		l.Count(swapped())
	}
	all := []Finding{finding(ValueRef, 3), finding(ValueRef, 2), finding(ColumnSwap, 5)}
	l.Tell(all)
	groups := Groups(all)
	if assert.Len(t, groups, 1) {
		assert.Equal(t, ColumnSwap.Name, groups[0].Code)
		assert.Equal(t, 5, groups[0].FollowCount())
		assert.Equal(t, "reject", groups[0].Settle)
	}
	l.Count(&Change{Act: Amend, Fields: []FieldChange{{Edit: Edit{Field: "depot"}, Stop: []string{ValueRef.Name}}}})
	all = []Finding{finding(ValueRef, 6), finding(ColumnSwap, 5)}
	l.Tell(all)
	groups = Groups(all)
	if assert.Len(t, groups, 2) {
		assert.Equal(t, ValueRef.Name, groups[0].Code)
		assert.Equal(t, 5, groups[0].Caused)
	}
}

// Words stand for codes in a sentence, the finding's own where it is of one thing, and none is said twice.
func TestSentences(t *testing.T) {
	one := Factor.Finding("1.00 → 100.00 looks a hundred times too much")
	one.Column = "fee"
	s := NewSentences([]Finding{one})
	assert.Equal(t, "1.00 → 100.00 looks a hundred times too much.", s.Of(&State{Field: "fee", Held: []string{Factor.Name, Factor.Name}}))
	assert.Equal(t, "A number is off by ten, a hundred, a thousand or its sign; the change is held.", s.Of(&State{Field: "other", Held: []string{Factor.Name}}))
	assert.Empty(t, s.Of(&State{}))
	twice := NewSentences([]Finding{one, one})
	assert.NotContains(t, twice.Of(&State{Field: "fee", Held: []string{Factor.Name}}), "100.00")
}
