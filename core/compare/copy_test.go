package compare

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/table"
)

// attempt compares and returns the code of a refusal, "" where there is none.
func attempt(t require.TestingT, snapshot, edited [][]string, o Options) (table.Code, *Result) {
	o.RecordSet, o.Key = "t", []string{"k"}
	res, err := Run(context.Background(), image(t, "s.csv", snapshot), image(t, "e.csv", edited), o, new(kept))
	var r *Refusal
	if errors.As(err, &r) {
		return r.Code, nil
	}
	require.NoError(t, err)
	return "", res
}

var aidNames = []string{"Old Pier", "Skerry Ledge", "Tarn Mouth", "Gannet Point", "Heron Steps", "Lantern Rock", "The Nags"}

// records draws a table of some records with a text, a date, a fee and a choice.
func records(t *rapid.T, keys []int) [][]string {
	rows := [][]string{{"k", "name", "seen", "fee", "depot"}}
	for _, k := range keys {
		rows = append(rows, []string{fmt.Sprintf("%05d", k), rapid.SampledFrom(aidNames).Draw(t, "name") + fmt.Sprint(" ", rapid.IntRange(1, 99).Draw(t, "n")),
			fmt.Sprintf("2026-%02d-%02d", rapid.IntRange(1, 12).Draw(t, "m"), rapid.IntRange(1, 28).Draw(t, "d")),
			fmt.Sprintf("%d.50", rapid.IntRange(10, 9999).Draw(t, "fee")), fmt.Sprintf("D%02d", rapid.IntRange(1, 9).Draw(t, "depot"))})
	}
	return rows
}

// A copy stays a copy whatever is edited, filtered out, reordered, added or
// left out of its columns, and in whatever form a program wrote its dates and
// numbers, as long as one column in three is as it was.
func TestEditedCopiesAreCopies(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 60).Draw(t, "records")
		keys := make([]int, n)
		for i := range keys {
			keys[i] = 100 + 3*i
		}
		snapshot := records(t, keys)
		columns := rapid.Permutation([]int{1, 2, 3, 4}).Draw(t, "columns")[:rapid.IntRange(1, 4).Draw(t, "kept")]
		same := columns[:(len(columns)+2)/3]
		worn, extra := rapid.Bool().Draw(t, "worn"), rapid.IntRange(0, 6).Draw(t, "extra")
		part := rapid.IntRange(1, n).Draw(t, "rows")
		var edited [][]string
		for i, row := range snapshot[:part+1] {
			out := []string{row[0]}
			for _, c := range columns {
				cell := row[c]
				switch {
				case i == 0:
				case !slices.Contains(same, c):
					cell = rapid.StringMatching(`[a-z0-9.]{0,12}`).Draw(t, "cell")
				case worn && c == 2:
					cell = cell[8:] + "." + cell[5:7] + "." + cell[:4]
				case worn && c == 3:
					cell = strings.TrimRight(strings.ReplaceAll(cell, ".", ","), "0")
				}
				out = append(out, cell)
			}
			for x := range extra {
				out = append(out, map[bool]string{true: fmt.Sprint("mine ", x), false: "x"}[i == 0])
			}
			edited = append(edited, out)
		}
		code, res := attempt(t, snapshot, edited, Options{})
		require.Empty(t, code)
		require.Equal(t, part, res.Records.Edited)
	})
}

// Another table of records that happen to have the same keys is none.
func TestOtherTablesAreNoCopies(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(40, 80).Draw(t, "records")
		keys := keysFrom(100, n)
		snapshot := records(t, keys)
		other := [][]string{{"k", "name", "seen"}}
		for _, k := range keys[:rapid.IntRange(12, n/2-1).Draw(t, "rows")] {
			other = append(other, []string{fmt.Sprintf("%05d", k), fmt.Sprintf("Crew %d %d", k, n), fmt.Sprintf("1999-10-%02d", 1+k%30)})
		}
		code, _ := attempt(t, snapshot, other, Options{})
		assert.Equal(t, NotACopy, code)
		code, _ = attempt(t, snapshot, other, Options{OtherRegister: true})
		assert.Empty(t, code)
		code, _ = attempt(t, snapshot, project(other, 0), Options{})
		assert.Equal(t, KeysOnly, code)
		code, _ = attempt(t, project(snapshot, 0), project(other, 0), Options{})
		assert.Empty(t, code, "records that are but a key")
		other[0] = []string{"k", "crew", "boat"}
		code, _ = attempt(t, snapshot, other, Options{})
		assert.Equal(t, OtherTable, code)
		for i := range other[1:] {
			other[i+1][1] = []string{"name", "Fee", "depot"}[i%3]
		}
		code, _ = attempt(t, snapshot, other, Options{})
		assert.Equal(t, LongTable, code)
	})
}

func keysFrom(first, n int) []int {
	keys := make([]int, n)
	for i := range keys {
		keys[i] = first + i
	}
	return keys
}

func project(rows [][]string, columns ...int) [][]string {
	var all [][]string
	for _, r := range rows {
		var row []string
		for _, c := range columns {
			row = append(row, r[c])
		}
		all = append(all, row)
	}
	return all
}

// What was lent comes back: every record of it that is lost, and every other that
// came in, is counted, whatever form the copy was saved in; nothing is a deletion.
func TestLentRecordsAreKnown(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(20, 60).Draw(t, "records")
		snapshot := records(t, keysFrom(100, n))
		lent := &table.Lent{Version: 1, Snapshot: "s", Fields: []string{"k", "depot"}, Of: 5, All: n}
		edited := [][]string{{"k", "depot"}}
		var bits table.Bits
		lost, strange := 0, 0
		for i, row := range snapshot[1:] {
			is := rapid.IntRange(0, 2).Draw(t, "lent") > 0
			if is {
				bits.Add(i)
				lent.Records++
			}
			switch at := rapid.IntRange(0, 19).Draw(t, "back"); {
			case is && at == 0:
				lost++
			case is:
				edited = append(edited, []string{row[0], row[4]})
			case at == 0:
				strange++
				edited = append(edited, []string{row[0], "D77"})
			}
		}
		added := rapid.IntRange(0, 2).Draw(t, "added")
		for k := range added {
			edited = append(edited, []string{fmt.Sprint(9000 + k), "D01"})
		}
		there := lent.Records - lost + strange
		asLent := float64(lent.Records-lost) / float64(lent.Records+strange+added)
		asWhole := float64(there) / float64(n+added)
		if lent.Records < 8 || 10*lent.Records > 8*n || 4*(lost+strange+added) > lent.Records || asLent <= asWhole {
			t.Skip("more like another copy")
		}
		lent.SetRows(bits)
		res, k := run(t, snapshot, edited, Options{Loans: Loans{Lends: func() []*table.Lent { return []*table.Lent{lent} }}})
		found := map[string]int{}
		for _, f := range res.Findings {
			found[f.Code] = f.Count
		}
		assert.Equal(t, lost, found["lent-lost"])
		assert.Equal(t, strange, found["not-lent"])
		assert.Contains(t, found, "lent")
		assert.Zero(t, res.Changes.Delete)
		for _, ch := range k.changes {
			switch {
			case ch.Act == changeset.Amend:
				assert.Equal(t, []string{"not-lent"}, ch.Held, "of a record that was not lent")
			case lost > 0:
				assert.Equal(t, []string{"lent-lost"}, ch.Held, "it may be one that was lent")
			default:
				assert.Empty(t, ch.Held)
			}
		}
		assert.Len(t, k.changes, strange+added)
		// A copy of the whole is none of it, whatever was lent.
		full := project(snapshot, 0, 4)
		full[1+rapid.IntRange(0, n-1).Draw(t, "edited")][1] = "D77"
		if gone := rapid.IntRange(0, 3).Draw(t, "gone"); gone > 0 {
			full = slices.Delete(full, 1, 1+gone)
		}
		res, _ = run(t, snapshot, full, Options{Loans: Loans{Lends: func() []*table.Lent { return []*table.Lent{lent} }}})
		assert.False(t, slices.ContainsFunc(res.Findings, func(f changeset.Finding) bool { return f.Code == "lent" || f.Code == "not-lent" }))
	})
}

// Deletes that are asked for are open up to a tenth of the snapshot; and a copy of
// which half the rows are in the snapshot is one.
func TestHowMuchOfASnapshotACopyHas(t *testing.T) {
	table := func(from, n, others int) [][]string {
		rows := [][]string{{"k", "v"}}
		for i := range n {
			rows = append(rows, []string{fmt.Sprint(from + i), "a " + fmt.Sprint((from+i)%7)})
		}
		for i := range others {
			rows = append(rows, []string{fmt.Sprint(9000 + i), "b"})
		}
		return rows
	}
	for missing, held := range map[int]bool{1: false, 2: false, 3: true} {
		k := new(kept)
		res, err := Run(t.Context(), image(t, "s.csv", table(100, 20, 0)), image(t, "e.csv", table(100+missing, 20-missing, 0)), Options{RecordSet: "t", Key: []string{"k"}, Proposals: Proposals{Missing: Asked}}, k)
		require.NoError(t, err)
		assert.Equal(t, missing, res.Changes.Delete)
		for _, ch := range k.changes {
			assert.Equal(t, held, len(ch.Held) > 0, "%d of 20 missing", missing)
		}
	}
	for others, copied := range map[int]bool{20: true, 21: false} {
		_, err := Run(t.Context(), image(t, "s.csv", table(100, 20, 0)), image(t, "e.csv", table(100, 20, others)), Options{RecordSet: "t", Key: []string{"k"}}, nil)
		if copied {
			assert.NoError(t, err, "%d others", others)
		} else {
			assert.ErrorAs(t, err, new(*Refusal), "%d others", others)
		}
	}
}
