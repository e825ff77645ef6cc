package compare

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/slip"
)

// bare is a change without what was found about it.
func bare(c *changeset.Change) string {
	d := *c
	d.Held, d.Stop, d.Noted, d.Linked = nil, nil, nil, ""
	d.Fields = slices.Clone(c.Fields)
	for i := range d.Fields {
		d.Fields[i].Held, d.Fields[i].Stop, d.Fields[i].Noted = nil, nil, nil
	}
	return string(changeset.AppendLine(nil, &d))
}

// Looking for slips changes holds and nothing else, in any copy.
func TestSlipsOnlyHold(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		snapshot := register(t)
		edited := edit(t, snapshot)
		o := Options{Key: []string{"k", "l"}, OtherRegister: true, SlipSearch: SlipSearch{Slips: SlipsOff}, Room: Room{Cores: rapid.IntRange(1, 3).Draw(t, "cores")}, Proposals: Proposals{Missing: rapid.SampledFrom([]string{Held, Asked, Ignore}).Draw(t, "missing"), Blank: rapid.SampledFrom([]string{Held, Clear, Ignore}).Draw(t, "blank")}}
		off, without := run(t, snapshot, edited, o)
		o.Slips = SlipsWarn
		_, warned := run(t, snapshot, edited, o)
		o.Slips = SlipsHold
		res, with := run(t, snapshot, edited, o)
		_, again := run(t, snapshot, edited, o)
		addsUp(t, res)
		assert.Equal(t, string(with.lines), string(again.lines), "the same files give the same bytes")
		assert.Equal(t, off.Records, res.Records)
		require.Len(t, with.changes, len(without.changes))
		for i, c := range with.changes {
			assert.Equal(t, bare(without.changes[i]), bare(c))
			assert.Equal(t, bare(c), bare(warned.changes[i]))
			assert.Equal(t, without.changes[i].Held, warned.changes[i].Held, "a warning holds nothing")
			assert.Subset(t, append(c.Held, ""), append(without.changes[i].Held, ""), "no hold is lost")
		}
	})
}

// filled is a register of which a group is filled one row too far, among many
// other changes.
func filled(records int) (snapshot, edited [][]string) {
	snapshot, edited = [][]string{{"k", "depot", "fee", "note"}}, [][]string{{"k", "depot", "fee", "note"}}
	for i := range records {
		row := []string{fmt.Sprintf("%06d", i), fmt.Sprintf("D%02d", i/20%30), fmt.Sprint(1000 + i%977), fmt.Sprintf("n%d", i)}
		snapshot = append(snapshot, row)
		row = slices.Clone(row)
		row[3] += "x"
		if i >= 40 && i < 61 {
			row[1] = "D77"
		}
		edited = append(edited, row)
	}
	return snapshot, edited
}

// More changes than are kept are made a second time, and are the same.
func TestManyChangesAreJudgedLikeFew(t *testing.T) {
	for _, n := range []int{2000, mostDrafted + 5000} {
		snapshot, edited := filled(n)
		res, k := run(t, snapshot, edited, Options{SlipSearch: SlipSearch{Slips: SlipsHold}})
		require.Len(t, k.changes, n)
		var held []string
		for _, c := range k.changes {
			for _, f := range c.Fields {
				if len(f.Held) > 0 {
					held = append(held, c.Key.String()+" "+f.Field+" "+strings.Join(f.Held, ","))
				}
			}
		}
		assert.Equal(t, []string{"000060 depot fill-overrun"}, held, "%d records", n)
		assert.Equal(t, n, res.Changes.Amend)
		assert.Equal(t, n+21, res.Changes.FieldChanges)
		lines := 0
		for range strings.Lines(string(k.lines)) {
			lines++
		}
		assert.Equal(t, n, lines)
	}
}

// A copy fits the snapshot that it was made from; samples say so, after a
// round trip through their text, whatever the records' order.
func TestACopyFitsItsOwnSnapshot(t *testing.T) {
	older, _ := filled(3000)
	newer := [][]string{older[0]}
	for i, row := range older[1:] {
		row = slices.Clone(row)
		if i%7 == 0 {
			row[2] = fmt.Sprint(9000 + i)
		}
		newer = append(newer, row)
	}
	newer[1], newer[2900] = newer[2900], newer[1]
	sample := func(rows [][]string) slip.Sample {
		res, _ := run(t, rows, rows, Options{SlipSearch: SlipSearch{Slips: SlipsHold}})
		text, err := res.Sample.MarshalText()
		require.NoError(t, err)
		var back slip.Sample
		require.NoError(t, back.UnmarshalText(text))
		assert.Equal(t, res.Sample, back)
		assert.Len(t, back.Rows, slip.SampleSize)
		return back
	}
	others := func() ([]Other, error) { return []Other{{"dossier 0003", sample(older)}}, nil }
	edit := func(rows [][]string) [][]string {
		e := slices.Clone(rows)
		e[5] = append(slices.Clone(e[5][:3]), "edited")
		return e
	}
	codes := func(edited [][]string) (all []string) {
		res, err := Run(context.Background(), image(t, "newer.csv", newer), image(t, "edited.csv", edited), Options{RecordSet: "t", Key: []string{"k"}, SlipSearch: SlipSearch{Slips: SlipsHold, Others: others}}, nil)
		require.NoError(t, err)
		for _, f := range res.Findings {
			all = append(all, f.Code)
		}
		return all
	}
	assert.NotContains(t, codes(edit(newer)), changeset.WrongFile.Name)
	assert.Contains(t, codes(edit(older)), changeset.WrongFile.Name)
	assert.Error(t, new(slip.Sample).UnmarshalText([]byte("QUJD")))
}
