package sqldb

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/target"
)

// benchRows is how many records the table of the benchmarks has.
const benchRows = 100_000

// wide makes a table of 16 columns.
func (d *db) wide() string {
	cols := []string{"k varchar(12) NOT NULL PRIMARY KEY"}
	for i := 1; i < 16; i++ {
		cols = append(cols, fmt.Sprintf("c%d varchar(60)", i))
	}
	table := d.table("(" + strings.Join(cols, ", ") + ")")
	for from := 0; from < benchRows; from += 1000 {
		var rows []string
		for i := from; i < from+1000; i++ {
			row := []string{fmt.Sprintf("'%07d'", i)}
			for c := 1; c < 16; c++ {
				row = append(row, fmt.Sprintf("'value %d of %d'", c, i))
			}
			rows = append(rows, "("+strings.Join(row, ", ")+")")
		}
		d.exec("INSERT INTO " + table + " VALUES " + strings.Join(rows, ", "))
	}
	if d.is("postgresql") {
		d.exec("VACUUM ANALYZE " + table)
	}
	return table
}

// sets are the field sets of the amends, in turn.
var sets = [][]int{{1}, {2, 5}, {9}}

// amends are steps that amend every tenth record; round says to what.
func amends(round int) []target.Step {
	var steps []target.Step
	for i := 0; i < benchRows; i += 10 {
		s := target.Step{Act: changeset.Amend, Key: record.NewKey(fmt.Sprintf("%07d", i))}
		for _, c := range sets[i/10%3] {
			from := fmt.Sprintf("value %d of %d", c, i)
			if round > 0 {
				from = fmt.Sprintf("value %d of %d, %d", c, i, round-1)
			}
			s.Fields = append(s.Fields, changeset.FieldChange{Field: fmt.Sprintf("c%d", c), From: record.Text(from), To: record.Text(fmt.Sprintf("value %d of %d, %d", c, i, round))})
		}
		steps = append(steps, s)
	}
	return steps
}

// byHand writes the same as somebody would who knows the database, in the same batches:
// nothing is looked at, and nothing read back.
func (t *Table) byHand(ctx context.Context, steps []target.Step) error {
	if err := run(ctx, t.s, t.e.begin()...); err != nil {
		return err
	}
	items := map[string][]*item{}
	for i := range steps {
		name := fmt.Sprint(len(steps[i].Fields), steps[i].Fields[0].Field)
		items[name] = append(items[name], &item{step: &steps[i], res: new(target.Result), at: t.keyValues(steps[i].Key)})
	}
	for _, set := range items {
		if err := t.amend(ctx, set); err != nil {
			return err
		}
	}
	_, err := t.s.exec(ctx, "COMMIT")
	return err
}

// BenchmarkAmends measures 10,000 amends of three field sets against the same statements
// without anything else, in turn.
func BenchmarkAmends(b *testing.B) {
	for _, base := range bases(b) {
		b.Run(base.name, func(b *testing.B) {
			d := newDB(b, base)
			table := d.wide()
			tgt := d.writable(table, Options{Key: []string{"k"}})
			tgt.exact = map[record.Key]record.Key{}
			var ours, theirs time.Duration
			round := 0
			ctx := context.Background()
			for b.Loop() {
				for _, own := range []bool{true, false} {
					steps := amends(round)
					round++
					began := time.Now()
					for from := 0; from < len(steps); from += batchSize {
						part := steps[from:min(from+batchSize, len(steps))]
						if !own {
							require.NoError(b, tgt.byHand(ctx, part))
							continue
						}
						r, err := tgt.Commit(ctx, part, func(json.RawMessage, []target.Result) error { return nil })
						require.NoError(b, err)
						require.Equal(b, target.Done, r[0].Fate, r[0].Reason)
					}
					if own {
						ours += time.Since(began)
					} else {
						theirs += time.Since(began)
					}
				}
			}
			b.ReportMetric(ours.Seconds()/float64(b.N), "s/10k")
			b.ReportMetric(theirs.Seconds()/float64(b.N), "s/10k-by-hand")
			b.ReportMetric(float64(ours)/float64(theirs), "ratio")
		})
	}
}
