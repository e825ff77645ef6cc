package shape_test

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/shape"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

func image(t require.TestingT, name string, rows [][]string) *table.Image {
	var b []byte
	for _, row := range rows {
		for i, c := range row {
			if i > 0 {
				b = append(b, ',')
			}
			b = csv.AppendCell(b, c, ',', false)
		}
		b = append(b, '\n')
	}
	m, err := csv.Open(name, b)
	require.NoError(t, err)
	return m
}

type lines []string

func (l *lines) WriteEncoded(_ []byte, changes []*changeset.Change) error {
	for _, c := range changes {
		for _, f := range c.Fields {
			*l = append(*l, fmt.Sprintf("%s %s %q %q %v", c.Key, f.Field, f.From, f.To, f.Held))
		}
		if c.Act != changeset.Amend {
			*l = append(*l, fmt.Sprintf("%s %s %v %v", c.Act, c.Key, c.Record, c.Held))
		}
	}
	return nil
}

// changes are what comparing says of a copy, once it has the shape of the layout, in order.
func changes(t require.TestingT, l *layout.Layout, key []string, snapshot, copied *table.Image) []string {
	var all lines
	img, err := shape.Of(l, copied, false)
	require.NoError(t, err)
	_, err = compare.Run(context.Background(), snapshot, img, compare.Options{RecordSet: "t", Key: key, Layout: l, OtherRegister: true,
		Proposals: compare.Proposals{AllMissing: true}}, &all)
	require.NoError(t, err)
	slices.Sort(all)
	return all
}

func parse(t require.TestingT, text string) *layout.Layout {
	l, err := layout.Parse("t.yaml", []byte(text), nil)
	require.NoError(t, err)
	return l
}

var values = []string{"", "x", "y", "a,b", `say "so"`, "two\nlines", "0", "00", " led"}

// A list of what is to change, in any order and with what was there beside, says what a whole copy
// with the same edits says.
func TestALongListSaysWhatACopySays(t *testing.T) {
	l := parse(t, "record_set: t\nkey: k\nfields: {k: text, a: text, b: text, c: text}\nshape: {long: {field: what, old: was, new: now}}\n")
	rapid.Check(t, func(t *rapid.T) {
		fields := []string{"a", "b", "c"}
		rows := [][]string{{"k", "a", "b", "c"}}
		copied := [][]string{{"k", "a", "b", "c"}}
		list := [][]string{}
		for i := range rapid.IntRange(3, 20).Draw(t, "records") {
			row := []string{fmt.Sprintf("%02d", i)}
			for range fields {
				row = append(row, rapid.SampledFrom(values).Draw(t, "value"))
			}
			rows = append(rows, row)
			is := slices.Clone(row)
			for f, name := range fields {
				if rapid.IntRange(0, 3).Draw(t, "edit") > 0 {
					continue
				}
				is[f+1] = rapid.SampledFrom(values).Draw(t, "new")
				list = append(list, []string{row[0], name, row[f+1], is[f+1]})
			}
			copied = append(copied, is)
		}
		list = rapid.Permutation(list).Draw(t, "order")
		snapshot := image(t, "s.csv", rows)
		plain := changes(t, l, []string{"k"}, snapshot, image(t, "e.csv", copied))
		long := changes(t, l, []string{"k"}, snapshot, image(t, "l.csv", append([][]string{{"k", "what", "was", "now"}}, list...)))
		require.Equal(t, plain, long)
	})
}

// A table with a column for each month says what one with a row for each item and month says; of
// months that it does not have it says nothing.
func TestAWideTableSaysWhatACopySays(t *testing.T) {
	l := parse(t, "record_set: t\nkey: [k, m]\nfields: {k: text, m: date, v: text}\nshape: {wide: {key: m, value: v}}\n")
	rapid.Check(t, func(t *rapid.T) {
		months := []string{"2026-01-01", "2026-02-01", "2026-03-01", "2026-04-01"}
		had := map[string]map[string]string{}
		rows, copied := [][]string{{"k", "m", "v"}}, [][]string{{"k", "m", "v"}}
		shown := months[:rapid.IntRange(1, 4).Draw(t, "months")]
		wide := [][]string{append([]string{"k"}, shown...)}
		for i := range rapid.IntRange(2, 12).Draw(t, "items") {
			k := fmt.Sprintf("%02d", i)
			had[k] = map[string]string{}
			for _, m := range months {
				if rapid.IntRange(0, 3).Draw(t, "has") > 0 {
					had[k][m] = rapid.SampledFrom([]string{"x", "y", "z", "a,b"}).Draw(t, "v")
					rows = append(rows, []string{k, m, had[k][m]})
				}
			}
			line := []string{k}
			now := maps.Clone(had[k])
			for _, m := range shown {
				if rapid.IntRange(0, 2).Draw(t, "edit") == 0 {
					v := rapid.SampledFrom([]string{"", "x", "q"}).Draw(t, "new")
					if _, there := now[m]; there || v != "" {
						now[m] = v
					}
				}
				line = append(line, now[m])
			}
			wide = append(wide, line)
			for _, m := range months {
				if v, there := now[m]; there {
					copied = append(copied, []string{k, m, v})
				}
			}
		}
		if len(rows) == 1 || len(copied) == 1 {
			return
		}
		key := []string{"k", "m"}
		snapshot := image(t, "s.csv", rows)
		require.Equal(t, changes(t, l, key, snapshot, image(t, "e.csv", copied)), changes(t, l, key, snapshot, image(t, "w.csv", wide)))
		back, err := shape.Of(l, image(t, "w.csv", wide), true)
		require.NoError(t, err)
		for r, err := range rowsOf(back) {
			require.NoError(t, err)
			require.NotEmpty(t, r, "a snapshot's empty cell is no record")
		}
	})
}

// rowsOf gives the values of a wide table's cells.
func rowsOf(m *table.Image) func(yield func(string, error) bool) {
	return func(yield func(string, error) bool) {
		err := csv.Each(context.Background(), m, func(r *csv.Line) error {
			yield(strings.TrimSpace(r.Text(m.Column("v"))), nil)
			return nil
		})
		if err != nil {
			yield("", err)
		}
	}
}
