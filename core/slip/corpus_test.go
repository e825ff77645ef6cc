package slip_test

import (
	"bytes"
	"context"
	stdcsv "encoding/csv"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

func image(t require.TestingT, name string, s *sheet) *table.Image {
	var b bytes.Buffer
	require.NoError(t, stdcsv.NewWriter(&b).WriteAll(s.rows))
	m, err := csv.Open(name, b.Bytes())
	require.NoError(t, err)
	return m
}

type nothing struct{}

func (nothing) WriteEncoded([]byte, []*changeset.Change) error { return nil }

// findings compares and returns the codes that are found, of slips alone.
func findings(t require.TestingT, was, is *sheet) []changeset.Finding {
	o := compare.Options{RecordSet: "t", Key: was.key, Proposals: compare.Proposals{Missing: compare.Asked, AllMissing: true, Blank: compare.Clear}, SlipSearch: compare.SlipSearch{Slips: compare.SlipsHold}}
	res, err := compare.Run(context.Background(), image(t, "snapshot.csv", was), image(t, "edited.csv", is), o, nothing{})
	require.NoError(t, err)
	return slices.DeleteFunc(res.Findings, func(f changeset.Finding) bool {
		return f.Code == changeset.Missing.Name || f.Code == changeset.KeyBlank.Name
	})
}

// cases is how many change sets of a kind are made; PALETWIN_SLIPS=500 makes
// more, and PALETWIN_SEED=7 others.
func cases(t *testing.T) (n int, seed uint64) {
	n = 60
	if s := os.Getenv("PALETWIN_SLIPS"); s != "" {
		var err error
		n, err = strconv.Atoi(s)
		require.NoError(t, err)
	}
	seed, _ = strconv.ParseUint(os.Getenv("PALETWIN_SEED"), 10, 64)
	return n, seed
}

// TestSlipsAreFound lets hands slip, among honest edits or alone, and asks
// what is found. At least 95 in 100 are.
func TestSlipsAreFound(t *testing.T) {
	n, seed := cases(t)
	names := make([]string, 0, len(hands))
	for name := range hands {
		names = append(names, name)
	}
	slices.Sort(names)
	all := map[string]map[string]int{}
	for h, name := range names {
		got := map[string]int{}
		all[name] = got
		made := 0
		for k := uint64(0); made < n; k++ {
			g := gen{rand.New(rand.NewPCG(seed*1000+uint64(h), k))}
			was := g.register()
			is := was.clone()
			if g.IntN(5) == 0 {
				is.sortBy(pick(g, is.of(choice, code, date)))
			}
			for range g.IntN(3) {
				g.honest(is)
			}
			before := is.clone()
			if !hands[name](g, is, was) {
				continue
			}
			two := ""
			if g.IntN(5) == 0 { // two slips at once
				two = pick(g, []string{"factor", "total-row", "near-miss", "formula-left", "blank-row"})
				if two == name || !hands[two](g, is, was) {
					two = ""
				}
			}
			made++
			seen := map[string]bool{}
			found := findings(t, was, is)
			for _, f := range found {
				seen[f.Code] = true
			}
			for code := range seen {
				if code != two {
					got[code]++
				}
			}
			if !seen[name] && os.Getenv("PALETWIN_SHOW") == name {
				t.Logf("case %d, %d records: %s not found; %v\n%s", k, len(was.rows), name, found, diff(was, before, is))
			}
		}
		assert.GreaterOrEqual(t, got[name]*100, 95*n, "%s: found in %d of %d", name, got[name], n)
	}
	if os.Getenv("PALETWIN_SLIPS") != "" {
		t.Log("\n" + confusion(names, all, n))
	}
}

// TestNoSlipsInHonestEdits makes change sets in which nobody slipped. At most
// one in 20 raises an alarm.
func TestNoSlipsInHonestEdits(t *testing.T) {
	n, seed := cases(t)
	n *= 5
	alarms := map[string]int{}
	sum := 0
	for k := range n {
		g := gen{rand.New(rand.NewPCG(seed*7919+99, uint64(k)))}
		was := g.register()
		is := was.clone()
		if g.IntN(3) == 0 {
			is.sortBy(pick(g, is.of(choice, code, date)))
		}
		for range 1 + g.IntN(8) {
			g.honest(is)
		}
		for _, f := range findings(t, was, is) {
			if f.Level != changeset.Note {
				alarms[f.Code]++
				sum++
				if os.Getenv("PALETWIN_SHOW") == "clean" {
					t.Logf("case %d: %s %s: %s", k, f.Code, f.Column, f.Text)
					if os.Getenv("PALETWIN_CASE") == strconv.Itoa(k) {
						for _, n := range append(f.Rows, f.Row) {
							t.Logf("row %d: %v, was %v", n, is.rows[n-1], was.find(is.rows[n-1], is))
						}
					}
				}
			}
		}
	}
	t.Logf("%d false alarms in %d clean change sets: %v", sum, n, alarms)
	assert.LessOrEqual(t, sum*20, n, "%v", alarms)
}

// confusion is a table: what was done, and what was found, in parts of a
// hundred.
func confusion(names []string, all map[string]map[string]int, n int) string {
	var b strings.Builder
	for _, name := range names {
		fmt.Fprintf(&b, "%-22s %3d %%", name, all[name][name]*100/n)
		others := make([]string, 0, len(all[name]))
		for code := range all[name] {
			if code != name {
				others = append(others, code)
			}
		}
		slices.Sort(others)
		for _, code := range others {
			fmt.Fprintf(&b, "  %s %d", code, all[name][code]*100/n)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// diff lists what a slip did, for a look at what was not found.
func diff(was, before, is *sheet) string {
	var b strings.Builder
	lines := 0
	for i, r := range is.rows {
		old := was.find(r, is)
		prev := before.find(r, is)
		for f := range r {
			if lines < 40 && old != nil && old[f] != r[f] {
				fmt.Fprintf(&b, "  row %d %s: %s → %s", i+1, is.columns[f].name, old[f], r[f])
				if prev != nil && prev[f] == r[f] {
					b.WriteString(" (honest)")
				}
				b.WriteByte('\n')
				lines++
			}
		}
	}
	return b.String()
}
