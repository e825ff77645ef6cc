package sqldb

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
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

// load is what a benchmark carries out: rounds of steps, each of which can be carried out
// after the one before.
type load struct {
	steps func(round int) []target.Step
	// byHand writes the same as somebody would who knows the database, in the same
	// batches: nothing is looked at, and nothing read back.
	byHand func(ctx context.Context, t *Table, items []*item) error
}

func key(i int) record.Key { return record.NewKey(fmt.Sprintf("%07d", i)) }

// valueAt is what a column of a record has after so many rounds, and before the first.
func valueAt(c, i, round int) record.Value {
	if round < 0 {
		return record.Text(fmt.Sprintf("value %d of %d", c, i))
	}
	return record.Text(fmt.Sprintf("value %d of %d, %d", c, i, round))
}

// amending are amends of every tenth record, of the columns that sets names for it.
func amending(sets func(i int) []int) func(round int) []target.Step {
	return func(round int) []target.Step {
		var steps []target.Step
		for i := 0; i < benchRows; i += 10 {
			s := target.Step{Act: changeset.Amend, Key: key(i)}
			for _, c := range sets(i) {
				s.Fields = append(s.Fields, changeset.Edit{Field: fmt.Sprintf("c%d", c), From: valueAt(c, i, round-1), To: valueAt(c, i, round)})
			}
			steps = append(steps, s)
		}
		return steps
	}
}

// comingAndGoing adds records in one round, and deletes them in the next, from the round on
// that is counted.
func comingAndGoing(n int, first changeset.Act) func(round int) []target.Step {
	return func(round int) []target.Step {
		steps := make([]target.Step, n)
		for i := range steps {
			r := record.Record{{Name: "k", Value: record.Text(key(benchRows + i).String())}}
			for c := 1; c < 16; c++ {
				r = append(r, record.Field{Name: fmt.Sprintf("c%d", c), Value: valueAt(c, i, -1)})
			}
			steps[i] = target.Step{Act: first, Key: key(benchRows + i), Record: r}
		}
		return steps
	}
}

// opposite are the steps that undo those of a round.
func opposite(steps []target.Step) []target.Step {
	back := slices.Clone(steps)
	for i := range back {
		back[i].Act = back[i].Act.Inverse()
	}
	return back
}

// columnsAndValues are those that a step writes.
func (t *Table) columnsAndValues(s *target.Step) (cols []*column, values []record.Value) {
	for _, f := range s.Fields {
		cols, values = append(cols, t.cols[slices.Index(t.fields, f.Field)]), append(values, f.To)
	}
	if s.Act == changeset.Add {
		for _, f := range s.Record {
			cols, values = append(cols, t.cols[slices.Index(t.fields, f.Name)]), append(values, f.Value)
		}
	}
	return cols, values
}

// handEach writes the amends of a batch one by one, without waiting for their answers.
func handEach(ctx context.Context, t *Table, items []*item) error {
	var all []statement
	for _, it := range items {
		cols, values := t.columnsAndValues(it.step)
		at := make([]int, len(cols))
		for i, c := range cols {
			at[i] = slices.Index(t.cols, c)
		}
		all = append(all, t.update(at, values, it.at))
	}
	return t.do(ctx, all)
}

// handStaged writes the amends of a batch in one statement for each set of fields.
func handStaged(ctx context.Context, t *Table, items []*item) error {
	if !t.e.staged() {
		return handEach(ctx, t, items)
	}
	sets := map[string][]*item{}
	for _, it := range items {
		name := fmt.Sprint(len(it.step.Fields), it.step.Fields[0].Field)
		sets[name] = append(sets[name], it)
	}
	for _, set := range sets {
		cols, _ := t.columnsAndValues(set[0].step)
		var sql []string
		for i, c := range cols {
			sql = append(sql, fmt.Sprintf("%s%s = r.c%d", t.e.setOf(), t.e.ident(c.name), 1+i))
		}
		rows := make([][]record.Value, len(set))
		for i, it := range set {
			_, values := t.columnsAndValues(it.step)
			rows[i] = append(slices.Clone(it.at), values...)
		}
		from, params := t.e.rows(append(t.keyColumns(), cols...), 1, rows)
		if _, err := t.s.exec(ctx, t.e.updateFrom(t.table(), from, strings.Join(sql, ", "), t.keyOn(0)), params...); err != nil {
			return err
		}
	}
	return nil
}

// list writes rows of values as statements have them: (?, ?), (?, ?).
func (t *Table) list(rows [][]record.Value, cols []*column) (string, []param) {
	var all []string
	var params []param
	for _, r := range rows {
		var marks []string
		for i, v := range r {
			params = append(params, param{v, cols[i]})
			marks = append(marks, t.e.param(len(params), cols[i]))
		}
		all = append(all, "("+strings.Join(marks, ", ")+")")
	}
	return strings.Join(all, ", "), params
}

func handAdd(ctx context.Context, t *Table, items []*item) error {
	rows := make([][]record.Value, len(items))
	for i, it := range items {
		_, rows[i] = t.columnsAndValues(it.step)
	}
	if t.e.returns() {
		var names []string
		for i := range t.cols {
			names = append(names, fmt.Sprintf("r.c%d", i))
		}
		from, params := t.e.rows(t.cols, 0, rows)
		_, err := t.s.exec(ctx, "INSERT INTO "+t.table()+" SELECT "+strings.Join(names, ", ")+" FROM "+from, params...)
		return err
	}
	values, params := t.list(rows, t.cols)
	_, err := t.s.exec(ctx, "INSERT INTO "+t.table()+" VALUES "+values, params...)
	return err
}

func handDelete(ctx context.Context, t *Table, items []*item) error {
	rows := make([][]record.Value, len(items))
	for i, it := range items {
		rows[i] = it.at
	}
	if t.e.returns() {
		from, params := t.e.rows(t.keyColumns(), 1, rows)
		_, err := t.s.exec(ctx, t.e.deleteFrom(t.table(), from, t.keyOn(0)), params...)
		return err
	}
	values, params := t.list(rows, t.keyColumns())
	_, err := t.s.exec(ctx, "DELETE FROM "+t.table()+" WHERE "+t.e.ident("k")+" IN ("+strings.NewReplacer("(", "", ")", "").Replace(values)+")", params...)
	return err
}

// BenchmarkBatches measures what a run writes, in batches, against the same statements without
// anything else, in turn.
func BenchmarkBatches(b *testing.B) {
	random := rand.New(rand.NewPCG(1, 2))
	some := make([][]int, benchRows)
	for i := range some {
		some[i] = random.Perm(15)[:1+random.IntN(6)]
		for k := range some[i] {
			some[i][k]++
		}
		slices.Sort(some[i])
	}
	for name, l := range map[string]load{
		"amends of three sets":  {amending(func(i int) []int { return [][]int{{1}, {2, 5}, {9}}[i/10%3] }), handStaged},
		"amends of random sets": {amending(func(i int) []int { return some[i] }), handEach},
		"adds":                  {comingAndGoing(100_000, changeset.Add), handAdd},
		"deletes":               {comingAndGoing(100_000, changeset.Delete), handDelete},
	} {
		b.Run(name, func(b *testing.B) {
			for _, base := range bases(b) {
				b.Run(base.name, func(b *testing.B) { benchmark(b, base, &l) })
			}
		})
	}
}

func benchmark(b *testing.B, base base, l *load) {
	d := newDB(b, base)
	tgt := d.writable(d.wide(), Options{Key: []string{"k"}})
	ctx := context.Background()
	ours := func(steps []target.Step) {
		for part := range slices.Chunk(steps, batchSize) {
			r, err := tgt.Commit(ctx, part, func(json.RawMessage, []target.Result) error { return nil })
			require.NoError(b, err)
			require.Equal(b, target.Done, r[0].Fate, r[0].Reason)
		}
	}
	byHand := func(steps []target.Step) {
		for part := range slices.Chunk(steps, batchSize) {
			require.NoError(b, run(ctx, tgt.s, tgt.e.begin()...))
			items := make([]*item, len(part))
			for i := range part {
				items[i] = &item{step: &part[i], res: new(target.Result), at: tgt.keyValues(part[i].Key)}
			}
			require.NoError(b, l.byHand(ctx, tgt, items))
			require.NoError(b, run(ctx, tgt.s, "COMMIT"))
		}
	}
	var all [2][]float64 // seconds
	var ratios []float64
	round := 0
	for b.Loop() {
		var took [2]time.Duration
		for who, write := range []func([]target.Step){ours, byHand} {
			steps := l.steps(round)
			round++
			if steps[0].Act == changeset.Delete {
				ours(opposite(steps))
			}
			began := time.Now()
			write(steps)
			took[who] += time.Since(began)
			if steps[0].Act == changeset.Add {
				ours(opposite(steps))
			}
			all[who] = append(all[who], took[who].Seconds())
		}
		ratios = append(ratios, float64(took[0])/float64(took[1]))
	}
	for who, name := range []string{"s", "s-by-hand"} {
		b.ReportMetric(median(all[who]), name)
	}
	b.ReportMetric(median(ratios), "ratio")
}

func median(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)/2]
}
