package sqldb

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/target"
)

// folded makes a key column whose values the database takes for equal where letters differ
// in case only.
func (d *db) folded() string {
	switch {
	case d.is("mariadb"):
		return "varchar(10) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci"
	case d.is("sqlite"):
		return "varchar(10) COLLATE NOCASE"
	}
	d.exec("CREATE COLLATION IF NOT EXISTS folds (provider = icu, locale = 'und-u-ks-level2', deterministic = false)")
	return "varchar(10) COLLATE folds"
}

// TestSwiftBatches has random batches of amends, adds and deletes carried out, some of them
// of records that moved, are gone, are there already, or are others to everybody but the
// database: each outcome, what is said to be kept, and the table are as a model has them.
func TestSwiftBatches(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	onEach(t, func(t *testing.T, d *db) {
		r := rand.New(rand.NewPCG(seed, 0))
		table := d.table("(k " + d.folded() + " NOT NULL PRIMARY KEY, v varchar(20), n integer)")
		tgt := d.writable(table, Options{Key: []string{"k"}})
		model := map[string][2]string{}
		for i := range 80 {
			model[fmt.Sprintf("k%d", i)] = [2]string{fmt.Sprintf("v%d", r.IntN(3)), fmt.Sprint(i)}
		}
		for _, k := range slices.Sorted(maps.Keys(model)) {
			d.fill(table, []string{k, model[k][0], model[k][1]})
		}
		form := func(i int) string { // of a key: seldom the other one
			if r.IntN(25) == 0 {
				return fmt.Sprintf("K%d", i)
			}
			return fmt.Sprintf("k%d", i)
		}
		for round := range 60 {
			harm, moves := r.IntN(4) == 0, r.IntN(4) < 2 // in others each step is as the table is, and all of it is done at once
			var steps []target.Step
			var want []target.Fate
			for _, i := range r.Perm(100)[:1+r.IntN(60)] {
				k := form(i)
				if !harm {
					k = fmt.Sprintf("k%d", i)
				}
				there, has := model[k]
				_, other := model[map[byte]string{'k': "K", 'K': "k"}[k[0]]+k[1:]]
				s := target.Step{Key: record.NewKey(k)}
				fate := target.Done
				switch {
				case !has && !other || harm && r.IntN(6) == 0:
					s.Act = changeset.Add
					s.Record = record.Record{{Name: "k", Value: record.Text(k)}, {Name: "v", Value: record.Text("added")}, {Name: "n", Value: record.Text("007")}}
					if r.IntN(3) == 0 {
						s.Record = s.Record[:2]
					}
					if has {
						fate = target.Moved
					} else if other {
						fate = target.Refused
					}
				case r.IntN(2) == 0:
					s.Act = changeset.Delete
					s.Record = record.Record{{Name: "k", Value: record.Text(k)}, {Name: "v", Value: record.Text(there[0])}}
				default:
					s.Act = changeset.Amend
					s.Fields = []changeset.Edit{{Field: "v", From: record.Text(there[0]), To: record.Text(fmt.Sprintf("v%d", r.IntN(3)))}}
					if r.IntN(2) == 0 {
						s.Fields = append(s.Fields, changeset.Edit{Field: "n", From: record.Text(there[1]), To: record.Text("08")})
					}
				}
				if s.Act != changeset.Add {
					if (harm || moves) && r.IntN(20) == 0 {
						if s.Act == changeset.Delete {
							s.Record[1].Value = record.Text("moved")
						} else {
							s.Fields[0].From = record.Text("moved")
						}
						fate = target.Moved
					}
					if !has {
						fate = target.Moved
					}
				}
				steps, want = append(steps, s), append(want, fate)
			}
			results, err := tgt.Write(t.Context(), steps)
			require.NoError(t, err)
			for i := range steps {
				s, res := &steps[i], &results[i]
				k := s.Key.String()
				require.Equal(t, want[i], res.Fate, "round %d: %s %s: %s", round, s.Act, k, res.Reason)
				if res.Fate != target.Done {
					continue
				}
				now := model[k]
				switch s.Act {
				case changeset.Delete:
					delete(model, k)
					assert.Equal(t, now[0], text(res.Before, "v"))
					assert.Nil(t, res.After)
					continue
				case changeset.Add:
					now = [2]string{"added", ""}
					if len(s.Record) == 3 {
						now[1] = "7"
					}
				default:
					now[0] = s.Fields[0].To.String()
					if len(s.Fields) == 2 {
						now[1] = "8"
					}
				}
				model[k] = now
				assert.Equal(t, now[0], text(res.After, "v"))
				if _, there := res.After.Get("n"); there || len(s.Fields) != 1 {
					assert.Equal(t, now[1], text(res.After, "n"), "what was kept, and not what was written: %s %s", s.Act, k)
				}
			}
			var lines []string
			for k, v := range model {
				lines = append(lines, k+","+v[0]+","+v[1])
			}
			slices.Sort(lines)
			require.Equal(t, strings.Join(append([]string{"k,v,n"}, lines...), "\n")+"\n", d.taken(table), "round %d", round)
		}
	})
}

func text(r record.Record, field string) string {
	v, _ := r.Get(field)
	return v.String()
}
