package compare_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// none is a source without lists.
type none struct{}

func (none) List(string) (*table.Image, error) { return nil, errors.New("none") }

// with compares two CSV texts under a layout and returns the change set's
// lines without heading and seal.
func with(t require.TestingT, text, snapshot, edited string, o compare.Options) (*compare.Result, string) {
	var err error
	o.RecordSet, o.OtherRegister = "t", true
	if text != "" {
		o.Layout, err = layout.Parse("t.yaml", []byte(text), none{})
		require.NoError(t, err)
		o.Key = o.Layout.Key
	} else {
		o.Key = []string{"k"}
	}
	open := func(name, s string) *table.Image {
		m, err := csv.Open(name, []byte(s))
		require.NoError(t, err)
		o.Layout.Rename(m)
		return m
	}
	s, e := open("s.csv", snapshot), open("e.csv", edited)
	var b bytes.Buffer
	w, err := changeset.NewWriter(&b, changeset.Header{RecordSet: "t", Key: o.Key, Fields: s.Heading})
	require.NoError(t, err)
	res, err := compare.Run(context.Background(), s, e, o, w)
	require.NoError(t, err)
	_, err = w.Close()
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	return res, strings.Join(lines[1:len(lines)-1], "\n")
}

// Translating while comparing gives what comparing a translated copy gives.
func TestTranslateThenCompare(t *testing.T) {
	to := map[string]string{"X1": "D01", "X2": "D02", "X3": "D03"}
	const l = "key: k\nfields:\n  k: text\n  v: {kind: choice, values: [D01, D02, D03], translate: {values: {X1: D01, X2: D02, X3: D03}}}\n  w: decimal\n"
	cell := rapid.SampledFrom([]string{"D01", "D02", "D03", "X1", "X2", "X3"})
	rapid.Check(t, func(t *rapid.T) {
		snapshot, edited, translated := "k,v,w\n", "k,v,w\n", "k,v,w\n"
		for i := range rapid.IntRange(1, 12).Draw(t, "records") {
			was, is := rapid.SampledFrom([]string{"D01", "D02", "D03"}).Draw(t, "was"), cell.Draw(t, "is")
			fee := rapid.SampledFrom([]string{"29.70", "29.7", "30"}).Draw(t, "fee")
			snapshot += fmt.Sprintf("%d,%s,29.70\n", i, was)
			edited += fmt.Sprintf("%d,%s,%s\n", i, is, fee)
			if x, ok := to[is]; ok {
				is = x
			}
			translated += fmt.Sprintf("%d,%s,%s\n", i, is, fee)
		}
		_, one := with(t, l, snapshot, edited, compare.Options{})
		_, two := with(t, l, snapshot, translated, compare.Options{})
		require.Equal(t, two, one)
		require.NotContains(t, one, "29.7\"", "another form of a value is no change")
	})
}

// Under a layout that asks for nothing, comparing is what it is without one.
func TestAnEmptyLayoutChangesNothing(t *testing.T) {
	cell := rapid.SampledFrom([]string{"", "a", "b", "29.70", "29.7"})
	rapid.Check(t, func(t *rapid.T) {
		texts := [2]string{"k,v,w\n", "k,v,w\n"}
		for i := range rapid.IntRange(1, 12).Draw(t, "records") {
			for s := range texts {
				if s == 0 || rapid.Bool().Draw(t, "there") {
					texts[s] += fmt.Sprintf("%d,%s,%s\n", i, cell.Draw(t, "v"), cell.Draw(t, "w"))
				}
			}
		}
		a, one := with(t, "key: k\nfields: {k: text, v: text, w: text}\n", texts[0], texts[1], compare.Options{})
		b, two := with(t, "", texts[0], texts[1], compare.Options{})
		require.Equal(t, two, one)
		require.Equal(t, b.Records, a.Records)
		require.Equal(t, b.Changes, a.Changes)
	})
}

// The comparison adds up whatever a layout leaves out, and what it stops or
// holds stands in the changes.
func TestLayoutsAddUp(t *testing.T) {
	const l = `key: k
key_form: {zeros: 3}
fields:
  k: text
  v: {kind: decimal, scale: 2, move: {share: 50%}}
  w: {kind: text, access: read-only}
  u: {kind: text, unique: true, blank: clear}
rules: [{check: new.v < 100, message: too much}]
limits: {add: 1}
`
	res, changes := with(t, l, "k,v,w,u\n001,10.00,a,p\n002,10.00,a,q\n003,10.00,a,r\n004,10.00,a,s\n005,10.00,a,t\n",
		"k,v,w,u\n1,12,b,p\n2,200,a,q\n3,10.005,a,p\n4,10.0,b,\n6,1,a,x\n7,x,a,y\n", compare.Options{Proposals: compare.Proposals{Missing: compare.Ignore}})
	assert.Equal(t, []int{4, 2}, []int{res.Changes.Amend, res.Changes.Add}, changes)
	assert.Equal(t, res.Records.Snapshot, res.Changes.Amend+res.Records.Unchanged+res.Records.Kept)
	assert.Contains(t, changes, `"key":["001"],"fields":{"v":{"from":"10.00","to":"12.00"}}`)
	assert.Contains(t, changes, `"to":"200.00","held":["limit-move"],"stop":["rule"]`)
	assert.Contains(t, changes, `"to":"10.005","stop":["value-scale"]`)
	assert.Contains(t, changes, `"u":{"from":"s","to":""}`, "the layout says that an emptied cell clears")
	assert.Contains(t, changes, `"stop":["value-unique"]`)
	assert.Equal(t, 2, strings.Count(changes, `"held":["limit"]`), "more adds than the layout allows")
	assert.Contains(t, changes, `"stop":["value-kind"]`)
	assert.Contains(t, changes, `"key":["006"]`, "a new key is written as keys are")
	var codes []string
	for _, f := range res.Findings {
		codes = append(codes, f.Code)
	}
	assert.Subset(t, codes, []string{"limit", "read-only", "rule", "value-kind", "value-scale", "value-unique", "limit-move", "missing-kept"})
}

// A list names records in whatever form their keys have, and each once.
func TestListsNameRecordsInEveryForm(t *testing.T) {
	l, err := layout.Parse("t.yaml", []byte("record_set: t\nkey: k\nkey_form: {zeros: 3}\nfields: {k: text, v: text}\n"), nil)
	require.NoError(t, err)
	list, err := compare.ReadKeyList("gone.txt", []byte("2\n003\n03\n9\n"), []string{"k"}, l)
	require.NoError(t, err)
	s, err := csv.Open("s.csv", []byte("k,v\n001,a\n002,b\n003,c\n"))
	require.NoError(t, err)
	res, err := compare.Run(t.Context(), s, nil, compare.Options{RecordSet: "t", Key: []string{"k"}, Layout: l, Proposals: compare.Proposals{DeleteList: list}}, nil)
	require.NoError(t, err)
	assert.Equal(t, 2, res.Changes.Delete)
	counts := map[string]int{}
	for _, f := range res.Findings {
		counts[f.Code] += f.Count
	}
	assert.Equal(t, map[string]int{"listed-repeat": 1, "listed-unknown": 1}, counts)
}
