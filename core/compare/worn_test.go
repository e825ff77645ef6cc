package compare_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/table/csv"
)

// worn compares two CSV texts with wear told, and returns the result and the
// change set's lines.
func worn(t require.TestingT, snapshot, edited string, o compare.Options) (*compare.Result, string) {
	o.Wear, o.Year = true, 2026
	return with(t, "", snapshot, edited, o)
}

func codes(r *compare.Result) (all []string) {
	for _, f := range r.Findings {
		all = append(all, f.Code)
	}
	return all
}

// Long ids that a program shows all alike are told apart by what else the rows
// hold; what they change is held, and what cannot be told apart is nobody's.
func TestKeysShownAlike(t *testing.T) {
	var s, e strings.Builder
	s.WriteString("k,name,fee\n")
	e.WriteString("k,name,fee\n")
	order := rand.New(rand.NewPCG(1, 2)).Perm(40)
	for i := range 40 {
		fmt.Fprintf(&s, "57441000234567%04d,aid %d,%d.50\n", i, i, i)
	}
	for _, i := range order {
		fee := fmt.Sprintf("%d.5", i)
		if i == 7 {
			fee = "99.5"
		}
		fmt.Fprintf(&e, "5.74410002345670E+017,aid %d,%s\n", i, fee)
	}
	edited := strings.ReplaceAll(e.String(), "5.74410002345670E+017", "5.7441000234567E+017")
	res, changes := worn(t, s.String(), edited, compare.Options{})
	assert.Equal(t, 1, res.Changes.Amend, changes)
	assert.Contains(t, changes, `"key":["574410002345670007"],"held":["key-by-evidence"],"fields":{"fee":{"from":"7.50","to":"99.50"}}`)
	assert.Equal(t, 39, res.Records.Unchanged)
	assert.Contains(t, codes(res), "key-by-evidence")

	twins := strings.Replace(s.String(), "aid 3,3.50", "aid 4,4.50", 1) // two records that only the key tells apart
	edited = strings.Replace(edited, "aid 3,3.5\n", "aid 4,4.5\n", 1)
	res, _ = worn(t, twins, edited, compare.Options{Proposals: compare.Proposals{Missing: compare.Asked}})
	assert.Equal(t, 2, res.Records.Stopped)
	assert.Equal(t, 2, res.Records.StoppedRecords)
	assert.Zero(t, res.Changes.Delete, "a record that may be on a stopped row is not deleted")
	assert.Contains(t, codes(res), "key-lost")
}

// However a register is worn, the comparison adds up; and without an edit there
// is no change.
func TestWearAddsUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(4, 60).Draw(t, "records")
		s, e := "k,fee,on,v\n", "k,fee,on,v\n"
		edits := 0
		for i := range n {
			fee, on := fmt.Sprintf("%d.%d0", 10+i, i%10), []string{"true", "false"}[i%2]
			s += fmt.Sprintf("%05d,%s,%s,x\n", 10+i, fee, on)
			v := "x"
			if i >= 4 && rapid.IntRange(0, 9).Draw(t, "edit") == 0 {
				v = "y"
				edits++
			}
			if i < 4 || rapid.IntRange(0, 19).Draw(t, "gone") > 0 {
				e += fmt.Sprintf("%d,%s,%s,%s\n", 10+i, strings.TrimSuffix(strings.TrimSuffix(fee, "0"), ".0"), strings.ToUpper(on), v)
			} else if v == "y" {
				edits--
			}
		}
		res, changes := worn(t, s, e, compare.Options{})
		r := res.Records
		require.Equal(t, edits, res.Changes.Amend, changes)
		require.Equal(t, r.Snapshot, res.Changes.Amend+res.Changes.Delete+r.Unchanged+r.Kept+r.StoppedRecords)
		require.Equal(t, r.Edited, res.Changes.Amend+res.Changes.Add+r.Unchanged+r.Skipped+r.Stopped)
		require.Zero(t, res.Changes.Add)
	})
}

// A copy that nobody saved with a program is compared as it is.
func TestEditsAreNoWear(t *testing.T) {
	open := func(s string) []byte { return []byte("k,v,w\n" + s) }
	a, err := csv.Open("a.csv", open("1,a,29.75\n2,b,30.25\n3,c,1.25\n"))
	require.NoError(t, err)
	b, err := csv.Open("b.csv", open("1,A,29.75\n2,b,31.25\n3,d,1.50\n"))
	require.NoError(t, err)
	told, err := compare.Run(context.Background(), a, b, compare.Options{RecordSet: "t", Key: []string{"k"}, Program: compare.Program{Wear: true, Year: 2026}}, nil)
	require.NoError(t, err)
	bytes, err := compare.Run(context.Background(), a, b, compare.Options{RecordSet: "t", Key: []string{"k"}}, nil)
	require.NoError(t, err)
	assert.Equal(t, bytes.Changes, told.Changes)
	assert.Equal(t, bytes.Findings, told.Findings)
	assert.Zero(t, told.Wear.Cells)
}

// Headings are cells to a program, too; and a word that stands for nothing in
// a whole column is nothing.
func TestHeadingsAndEmptyCellsWear(t *testing.T) {
	s, e := "k,001,MAR-2,true,note\n", "k,1,03/02/26,TRUE,note\n"
	for i := range 7 {
		s += fmt.Sprintf("%d,a,b,c,\n", i)
		e += fmt.Sprintf("%d,a,b,c,NULL\n", i)
	}
	res, changes := worn(t, s, e, compare.Options{})
	assert.Equal(t, 7, res.Records.Unchanged, changes)
	assert.Equal(t, 7, res.Wear.Cells)
	assert.Equal(t, 3, strings.Count(strings.Join(codes(res), " "), "heading-worn"))
	res, changes = worn(t, s, strings.Replace(e, "3,a,b,c,NULL", "3,a,b,c,", 1), compare.Options{})
	assert.Equal(t, 6, res.Changes.Amend, "where some are empty the word is one: %s", changes)
	res, changes = worn(t, s, strings.Replace(strings.ReplaceAll(e, "NULL", "NA"), "3,a,b,c,NA", "3,a,b,c,Bell gone", 1), compare.Options{})
	assert.Equal(t, 1, res.Changes.Amend, "one cell that was filled in is an edit, and the others are nothing: %s", changes)
	assert.Equal(t, 6, res.Wear.Cells)
}

// A record that goes and another that comes are just that, though a program
// could have made one key of the other: the other keys are as they were.
func TestKeysThatAreKeptAreNotWorn(t *testing.T) {
	s, e := "k,v\n", "k,v\n"
	for i := range 50 {
		s += fmt.Sprintf("%05d,a\n", 100+i)
		if i != 7 {
			e += fmt.Sprintf("%05d,a\n", 100+i)
		}
	}
	res, changes := worn(t, s, e+"107,b\n", compare.Options{})
	assert.Equal(t, []int{0, 1, 1}, []int{res.Changes.Amend, res.Changes.Add, res.Changes.Delete}, changes)
}

// A column of row numbers that a program put there is none of the copy's fields, and no
// warning; signs between the letters of headings are looked through, where one column
// alone fits.
func TestHeadingsOfPrograms(t *testing.T) {
	s, e := "k,asset no,unit price (EUR),a-b,a.b\n", "\"\",k,asset.no,unit.price..EUR.,a.b,a_b\n"
	for i := range 5 {
		s += fmt.Sprintf("R%d,%d,%d.25,x,y\n", i, 100+i, i)
		e += fmt.Sprintf("%d,R%d,%d,%d.25,y,x\n", 1+i, i, 100+i, i)
	}
	res, changes := with(t, "", s, e, compare.Options{Program: compare.Program{Wear: true, Year: 2026}})
	assert.Equal(t, 5, res.Records.Unchanged, changes)
	for _, f := range res.Findings {
		switch f.Code {
		case "column-ignored":
			assert.Equal(t, "column 1 counts the rows, as programs do, and is ignored", f.Text)
			assert.Equal(t, changeset.Note, f.Level)
		case "heading-worn":
			assert.NotEqual(t, "a.b", f.Column, f.Text)
		}
	}
}
