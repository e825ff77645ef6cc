package odata_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/target"
	"paletwin/internal/target/odata"
)

// kinds are what the fields of the law are, and how their values are drawn.
var kinds = map[string]struct {
	kind string
	draw *rapid.Generator[string]
}{
	"text":  {"text", rapid.OneOf(rapid.StringOf(rapid.RuneFrom([]rune("aü漢,\"'\\\n\t/%+:;?#&=()$@<>{}[] \u00a0\U0001f6a2"))), rapid.SampledFrom([]string{"null", "true", "007", "1e5", "=1+1", "$(x)", "--b--", "\r\n--batch", "2026-02-30"}))},
	"whole": {"integer", rapid.Custom(func(t *rapid.T) string { return fmt.Sprint(rapid.Int64().Draw(t, "n")) })},
	"money": {"{kind: decimal, scale: 2}", rapid.Custom(func(t *rapid.T) string {
		return fmt.Sprintf("%d.%02d", rapid.Int64Range(-1e17, 1e17).Draw(t, "n"), rapid.IntRange(0, 99).Draw(t, "c"))
	})},
	"day": {"date", rapid.Custom(func(t *rapid.T) string {
		return fmt.Sprintf("%04d-%02d-%02d", rapid.IntRange(1, 9999).Draw(t, "y"), rapid.IntRange(1, 12).Draw(t, "m"), rapid.IntRange(1, 28).Draw(t, "d"))
	})},
	"moment": {"datetime", rapid.Custom(func(t *rapid.T) string {
		return fmt.Sprintf("2026-%02d-11T%02d:30:00Z", rapid.IntRange(1, 12).Draw(t, "m"), rapid.IntRange(0, 23).Draw(t, "h"))
	})},
	"flag": {"boolean", rapid.SampledFrom([]string{"true", "false"})},
}

// Whatever values a record has, under whatever key: what is added, amended and put back is what the service has then, in batches of
// either form and alone, and nulls are nulls.
func TestValuesComeBack(t *testing.T) {
	heading := []string{"k", "text", "whole", "money", "day", "moment", "flag"}
	types := map[string]string{}
	for name, k := range kinds {
		types[name] = k.kind
	}
	rapid.Check(t, func(rt *rapid.T) {
		draw := func(label string) []string {
			row := []string{}
			for _, h := range heading[1:] {
				v := ""
				if rapid.IntRange(0, 4).Draw(rt, "null") > 0 {
					v = kinds[h].draw.Draw(rt, label+h)
				}
				row = append(row, v)
			}
			return row
		}
		keys := rapid.SliceOfNDistinct(rapid.StringOfN(rapid.RuneFrom([]rune("aü漢,\"'\\/%+:;?#&=()$@ ")), 1, 8, -1), 2, 6, strings.TrimSpace).Filter(func(all []string) bool {
			for _, k := range all {
				if strings.TrimSpace(k) != k || k == "" {
					return false
				}
			}
			return true
		}).Draw(rt, "keys")
		before, after := map[string][]string{}, map[string][]string{}
		var b strings.Builder
		w := csv.NewWriter(&b)
		require.NoError(t, w.Write(heading))
		for _, k := range keys[1:] {
			before[k], after[k] = draw("before "), draw("after ")
			require.NoError(t, w.Write(append([]string{k}, before[k]...)))
		}
		w.Flush()
		p := aids(t, []string{"k"}, b.String(), types)
		s := p.open(t, odata.Options{Form: rapid.SampledFrom([]string{"json", "multipart", "alone"}).Draw(rt, "form"), Of: (&schema.Schema{}).Telling()})
		defer s.Close()
		record1 := func(k string, row []string) record.Record {
			r := record.Record{{Name: "k", Value: record.Text(k)}}
			for i, v := range row {
				r = append(r, record.Field{Name: heading[i+1], Value: valueOf(v)})
			}
			return r
		}
		all := make([]record.Key, len(keys))
		for i, k := range keys {
			all[i] = record.NewKey(k)
		}
		send := func(steps []target.Step) {
			require.NoError(t, s.Refresh(t.Context()))
			_, err := s.Current(t.Context(), all)
			require.NoError(t, err)
			results, err := s.Request(t.Context(), steps, func(json.RawMessage) error { return nil })
			require.NoError(t, err)
			for i, r := range results {
				require.Equal(t, target.Done, r.Fate, "%s: %s", steps[i].Key, r.Reason)
			}
		}
		read := func(k string) record.Record {
			require.NoError(t, s.Refresh(t.Context()))
			states, err := s.Current(t.Context(), []record.Key{record.NewKey(k)})
			require.NoError(t, err)
			if states[0].Count == 0 {
				return nil
			}
			return states[0].Record
		}
		amends := func(from, to map[string][]string) (steps []target.Step) {
			for _, k := range keys[1:] {
				st := target.Step{ID: changeset.MakeID("aids", record.NewKey(k), changeset.Amend), Act: changeset.Amend, Key: record.NewKey(k)}
				for i := range from[k] {
					if from[k][i] != to[k][i] {
						st.Fields = append(st.Fields, changeset.Edit{Field: heading[i+1], From: valueOf(from[k][i]), To: valueOf(to[k][i])})
					}
				}
				if len(st.Fields) > 0 {
					steps = append(steps, st)
				}
			}
			return steps
		}
		loaded := map[string]record.Record{}
		for _, k := range keys[1:] {
			loaded[k] = read(k)
			for i, f := range loaded[k][1:] { // as the service loaded it
				before[k][i] = f.Value.String()
			}
		}
		send(amends(before, after))
		for _, k := range keys[1:] {
			require.Equal(t, record1(k, after[k]), read(k))
		}
		send(amends(after, before))
		for _, k := range keys[1:] {
			require.Equal(t, record1(k, before[k]), read(k))
		}
		added := record1(keys[0], draw("added "))
		id := changeset.MakeID("aids", record.NewKey(keys[0]), changeset.Add)
		send([]target.Step{{ID: id, Act: changeset.Add, Key: record.NewKey(keys[0]), Record: added}})
		require.Equal(t, added, read(keys[0]))
		send([]target.Step{{ID: id, Act: changeset.Delete, Key: record.NewKey(keys[0]), Record: added}})
		require.Nil(t, read(keys[0]))
	})
}

func valueOf(v string) record.Value {
	if v == "" {
		return record.Null()
	}
	return record.Text(v)
}
