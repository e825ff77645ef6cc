package compare_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
)

// feesShown compares a table of n records with a copy in which the fees of the first of
// them are shown otherwise, and that has one row more, if more is one.
func feesShown(t *testing.T, n, others int, show func(fee string) string, more string) (*compare.Result, map[string]*changeset.FieldChange) {
	s, e := [][]string{{"k", "fee", "note"}}, [][]string{{"k", "fee", "note"}}
	for i := range n {
		key, fee := fmt.Sprintf("R%d", i), fmt.Sprintf("%d.%02d", 10+i%900, i%100)
		s = append(s, []string{key, fee, "see the file"})
		if i < others {
			fee = show(fee)
		}
		e = append(e, []string{key, fee, "see the file"})
	}
	if more != "" {
		e = append(e, strings.Split(more, ","))
	}
	sink := &fieldSink{all: map[string]*changeset.FieldChange{}}
	res, err := compare.Run(t.Context(), asImage(t, "s.csv", s), asImage(t, "e.csv", e), compare.Options{RecordSet: "t", Key: []string{"k"}, Program: compare.Program{Wear: true, Year: 2026}}, sink)
	require.NoError(t, err)
	return res, sink.all
}

func codesOf(res *compare.Result, column string) []string {
	var all []string
	for _, f := range res.Findings {
		if f.Column == column {
			all = append(all, f.Code)
		}
	}
	return all
}

// A column is strange if a fifth of its cells, and at least five, are written as none
// of it is; a bulk edit, if they are written as it is. Fewer are single edits.
func TestStrangeColumnsAndBulkEdits(t *testing.T) {
	pence := func(v string) string { return strings.Replace(v, ".", "", 1) }
	dearer := func(v string) string { return "1" + v }
	for _, c := range []struct {
		n, others int
		show      func(string) string
		want      []string
	}{
		{100, 19, pence, nil},
		{100, 20, pence, []string{"strange-column"}},
		{100, 100, pence, []string{"wear-held"}}, // in one way, which is named
		{12, 4, pence, nil},
		{12, 5, pence, []string{"strange-column"}},
		{100, 19, dearer, nil},
		{100, 20, dearer, []string{"bulk-edit"}},
		{30_000, 3_000, pence, nil},                        // a tenth, though it is most of the sample
		{30_000, 6_000, pence, []string{"strange-column"}}, // more than is sampled
	} {
		res, changes := feesShown(t, c.n, c.others, c.show, "")
		assert.Equal(t, c.want, codesOf(res, "fee"), "%d of %d", c.others, c.n)
		assert.Equal(t, c.others, res.Changes.Amend)
		held := 0
		for _, fc := range changes {
			held += len(fc.Held)
		}
		if len(c.want) > 0 && c.want[0] != "bulk-edit" {
			assert.Equal(t, c.others, held, "all of the column waits for one decision")
		} else {
			assert.Zero(t, held)
		}
	}
}

// A new record is held with the column if its value is written as the strange ones are.
func TestNewRecordsOfAStrangeColumn(t *testing.T) {
	pence := func(v string) string { return strings.Replace(v, ".", "", 1) }
	for fee, held := range map[string]int{"1250": 1, "12.50": 0} {
		res, _ := feesShown(t, 40, 24, pence, "N1,"+fee+",new")
		require.NotNil(t, res.Changes.HeldActs)
		assert.Equal(t, held, res.Changes.HeldActs.Add, fee)
	}
}

// Other words for all choices are strange; one that many records get is given by
// somebody.
func TestChoicesOfAColumn(t *testing.T) {
	run := func(edit func(string) string) []string {
		s, e := [][]string{{"k", "zone", "note"}}, [][]string{{"k", "zone", "note"}}
		for i := range 60 {
			v := []string{"north", "south", "harbour"}[i%3]
			s = append(s, []string{fmt.Sprint(i), v, "see the file"})
			e = append(e, []string{fmt.Sprint(i), edit(v), "see the file"})
		}
		res, err := compare.Run(t.Context(), asImage(t, "s.csv", s), asImage(t, "e.csv", e), compare.Options{RecordSet: "t", Key: []string{"k"}, Program: compare.Program{Wear: true, Year: 2026}}, nil)
		require.NoError(t, err)
		return codesOf(res, "zone")
	}
	assert.Equal(t, []string{"strange-column"}, run(func(v string) string { return v + "ern" }))
	assert.Equal(t, []string{"wear-held"}, run(strings.ToUpper))
	assert.Equal(t, []string{"bulk-edit"}, run(func(v string) string { return strings.Replace(v, "south", "east", 1) }))
	assert.Equal(t, []string{"bulk-edit"}, run(func(v string) string {
		return map[string]string{"north": "south", "south": "north"}[v] + strings.Repeat("harbour", strings.Count(v, "harbour"))
	}))
}
