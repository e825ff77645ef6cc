package compare

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/layout"
)

// parted takes the records out that both tables have alike, on one row of each, and says what the comparison has to know of
// these.
func parted(snapshot, edited [][]string) (a, b [][]string, alike *Alike) {
	count := func(rows [][]string) map[string]int {
		n := map[string]int{}
		for _, r := range rows[1:] {
			n[strings.Join(r[:2], "\x00")]++
		}
		return n
	}
	whole := map[string]bool{}
	for _, r := range edited[1:] {
		whole[strings.Join(r, "\x00")] = true
	}
	inA, inB := count(snapshot), count(edited)
	out := map[string]bool{}
	for _, r := range snapshot[1:] {
		if k := strings.Join(r[:2], "\x00"); k != "\x00" && inA[k] == 1 && inB[k] == 1 && whole[strings.Join(r, "\x00")] {
			out[k] = true
		}
	}
	rest := func(rows [][]string) [][]string {
		return slices.DeleteFunc(slices.Clone(rows), func(r []string) bool { return out[strings.Join(r[:2], "\x00")] })
	}
	alike = &Alike{Records: len(out),
		Sums: func(_ context.Context, fields []string) ([]Sum, error) {
			all := make([]Sum, len(fields))
			for i, f := range fields {
				at := slices.Index(snapshot[0], f)
				for _, r := range snapshot[1:] {
					all[i].Add([]byte(r[at]))
				}
			}
			return all, nil
		},
		Values: func(_ context.Context, column int, see func([]byte)) error {
			for _, r := range edited[1:] {
				see([]byte(r[column]))
			}
			return nil
		}}
	return rest(snapshot), rest(edited), alike
}

// What a comparison of the records that differ says is what one of all records says, once it knows of the others.
func TestRecordsLeftOutChangeNothing(t *testing.T) {
	l, err := layout.Parse("layout.yaml", []byte("record_set: t\nkey: [k, l]\nfields:\n  k: {kind: text}\n  l: {kind: text}\n  v: {kind: text, unique: true}\n  w: {kind: integer}\nlimits: {amend: 20%, delete: 10%}\n"), nil)
	require.NoError(t, err)
	left := 0
	rapid.Check(t, func(t *rapid.T) {
		snapshot := register(t)
		edited := edit(t, snapshot)
		o := Options{RecordSet: "t", Key: []string{"k", "l"}}
		o.Missing = rapid.SampledFrom([]string{Held, Asked, Ignore}).Draw(t, "missing")
		if rapid.Bool().Draw(t, "layout") {
			o.Layout = l
		}
		say := func(a, b [][]string, o Options) (string, error) {
			k := new(kept)
			res, err := Run(context.Background(), image(t, "s.csv", a), image(t, "e.csv", b), o, k)
			if err != nil {
				return "", err
			}
			var codes []string
			for _, f := range res.Findings {
				codes = append(codes, fmt.Sprint(f.Code, f.Count, f.Key, f.Text))
			}
			tally, err := json.Marshal(res.Changes)
			return fmt.Sprintf("%s%+v%+v%s%s%s", k.lines, res.Records, res.Totals, tally, codes, res.DeletesHeld), err
		}
		want, err := say(snapshot, edited, o)
		a, b, alike := parted(snapshot, edited)
		o.Alike = alike
		got, failed := say(a, b, o)
		if errors.As(failed, new(*Refusal)) {
			return // the whole is looked at then
		}
		require.NoError(t, failed)
		require.NoError(t, err)
		left += alike.Records
		assert.Equal(t, want, got)
	})
	assert.Positive(t, left)
}

// That a tenth of the records is missing is a tenth of all of them.
func TestRecordsLeftOutCount(t *testing.T) {
	for left, many := range map[int]bool{8: true, 9: false} {
		snapshot, edited := [][]string{{"k", "v"}, {"1", "a"}}, [][]string{{"k", "v"}}
		res, _ := run(t, snapshot, edited, Options{Proposals: Proposals{Missing: Asked}, Alike: &Alike{Records: left, Sums: func(_ context.Context, fields []string) ([]Sum, error) { return make([]Sum, len(fields)), nil }}})
		assert.Equal(t, many, res.DeletesHeld != "", strconv.Itoa(left))
		assert.Equal(t, left+1, res.Records.Snapshot)
		assert.Equal(t, left, res.Records.Unchanged)
	}
}
