package judge_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/judge"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/slip"
)

func parse(t *testing.T, text string) *layout.Layout {
	l, err := layout.Parse("aids.yaml", []byte(text), nil)
	require.NoError(t, err)
	return l
}

// A rule judges the record as it would be: the new values, and beside them what
// stays. An amend can only break rules that name what it changes.
func TestRules(t *testing.T) {
	l := parse(t, "record_set: aids\nkey: k\nfields: {k: text, fee: decimal, cap: decimal, w: text}\nrules:\n  - {name: fits, check: new.fee <= new.cap, message: above the cap}\n")
	now := map[string]string{"k": "1", "fee": "5", "cap": "10", "w": "x"}
	old := func(i int) string { return now[l.Fields[i].Name] }
	to := func(field, v string) []changeset.Edit {
		return []changeset.Edit{{Field: field, From: record.Text(now[field]), To: record.Text(v)}}
	}
	key := record.NewKey("1")
	assert.Empty(t, judge.Amended(l, key, 0, to("fee", "10"), old))
	assert.Len(t, judge.Amended(l, key, 0, to("fee", "11"), old), 1)
	assert.Len(t, judge.Amended(l, key, 0, to("cap", "4"), old), 1)
	now["fee"] = "99"
	assert.Empty(t, judge.Amended(l, key, 0, to("w", "y"), old), "it was broken before, and by others")
	r := record.Record{{Name: "fee", Value: record.Text("3")}, {Name: "cap", Value: record.Text("2")}}
	assert.Len(t, judge.Whole(l, changeset.Add, key, 0, r), 1)
	assert.Empty(t, judge.Whole(l, changeset.Delete, key, 0, r), "what goes is not as it would be")
}

// As many changes as the limit says are allowed, and no more.
func TestLimits(t *testing.T) {
	l := parse(t, "record_set: aids\nkey: k\nfields: {k: text}\nlimits: {amend: 5, delete: 10%}\n")
	limits := judge.Limits{Limits: &l.Limits, Whose: "the layout"}
	all := func(changeset.Act) bool { return true }
	over, findings := limits.Over(judge.Numbers{Records: 100, Amend: 5, Add: 1000, Delete: 10}, all)
	assert.Empty(t, over)
	assert.Empty(t, findings)
	over, findings = limits.Over(judge.Numbers{Records: 100, Amend: 6, Delete: 11}, all)
	assert.Equal(t, []changeset.Act{changeset.Amend, changeset.Delete}, over)
	require.Len(t, findings, 2)
	assert.Equal(t, "the copy would amend 6 records, and the layout allows 5; they are held", findings[0].Text)
	over, _ = limits.Over(judge.Numbers{Records: 100, Amend: 6, Delete: 11}, func(a changeset.Act) bool { return a == changeset.Add })
	assert.Empty(t, over, "what is not allowed at all is not too much")
}

// Marks put each code where the slip was found, and nowhere else; what belongs
// together, by whatever slips, has one link.
func TestMarks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const records, fields = 6, 2
		in := &slip.Input{}
		for i := range uint32(records) {
			for f := range uint32(fields) {
				in.Cells = append(in.Cells, slip.Cell{Record: i, Row: i, Field: f})
			}
		}
		codes := []changeset.Code{changeset.Factor, changeset.Outlier, changeset.KeyShifted}
		var found []slip.Found
		want := map[string]map[string]bool{}
		together := map[uint32]uint32{} // disjoint sets, by the plainest means
		for i := range uint32(records) {
			together[i] = i
		}
		for range rapid.IntRange(0, 4).Draw(t, "slips") {
			f := slip.Found{Code: rapid.SampledFrom(codes).Draw(t, "code"), Field: rapid.IntRange(-1, fields-1).Draw(t, "field")}
			if f.Field < 0 {
				f.Together = rapid.Bool().Draw(t, "together")
				f.Records = rapid.SliceOfNDistinct(rapid.Uint32Range(0, records-1), 1, 3, rapid.ID[uint32]).Draw(t, "records")
				for _, r := range f.Records {
					mark(want, fmt.Sprint(r), f.Code.Name)
					if a, b := together[f.Records[0]], together[r]; f.Together && a != b {
						for k, v := range together {
							if v == b {
								together[k] = a
							}
						}
					}
				}
			} else {
				r := rapid.IntRange(0, records-1).Draw(t, "record")
				f.Cells = []int{r*fields + f.Field}
				mark(want, fmt.Sprint(r, f.Field), f.Code.Name)
			}
			found = append(found, f)
		}
		m := judge.NewMarks([]string{"f0", "f1"}, true, func(r uint32) record.Key { return record.NewKey(fmt.Sprint(r)) })
		m.Take(in, found)
		links := map[uint32]string{}
		for i := range uint32(records) {
			ch := &changeset.Change{Act: changeset.Amend, Fields: []changeset.FieldChange{{Edit: changeset.Edit{Field: "f0"}}, {Edit: changeset.Edit{Field: "f1"}}}}
			m.Mark(ch, judge.Place{Record: i, Row: i})
			require.ElementsMatch(t, keys(want[fmt.Sprint(i)]), ch.Held)
			for f := range ch.Fields {
				require.ElementsMatch(t, keys(want[fmt.Sprint(i, f)]), ch.Fields[f].Held)
			}
			links[i] = ch.Linked
		}
		for a := range links {
			for b := range links {
				if together[a] == together[b] {
					require.Equal(t, links[a], links[b], "%d and %d", a, b)
				} else if links[a] != "" {
					require.NotEqual(t, links[a], links[b], "%d and %d", a, b)
				}
			}
		}
	})
}

func mark(want map[string]map[string]bool, at, code string) {
	if want[at] == nil {
		want[at] = map[string]bool{}
	}
	want[at][code] = true
}

func keys(m map[string]bool) []string {
	all := []string{}
	for k := range m {
		all = append(all, k)
	}
	return all
}
