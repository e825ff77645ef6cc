package sqldb

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/record"
	"paletwin/core/schema"
	carry "paletwin/internal/run"
)

// What is taken of some records is what these are in what is taken of all, whatever is
// asked for besides.
func TestSomeRecordsAreAsInTheWholeTable(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 0))
	onEach(t, func(t *testing.T, d *db) {
		integers := d.table("(k bigint NOT NULL PRIMARY KEY, v varchar(20))")
		pairs := d.table("(a integer NOT NULL, b varchar(20) NOT NULL, v varchar(20), PRIMARY KEY (a, b))")
		for range 3 {
			var rows []string
			for range 1500 {
				rows = append(rows, fmt.Sprintf("(%d, 'x')", r.IntN(1<<40)))
			}
			d.exec("INSERT INTO " + integers + " VALUES " + strings.Join(rows, ", "))
		}
		for i := range 40 {
			d.exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, '%c%c', NULL)", pairs, i%7-3, 'A'+i/7, 'a'+i%3))
		}
		for table, of := range map[string]*schema.Schema{integers: new(schema.Schema), pairs: new(schema.Schema), integers + " in forms": schema.New([]string{"k"}, schema.KeyForm{Trim: true, Zeros: 20}, nil)} {
			table, _, _ = strings.Cut(table, " ")
			tgt := d.open(table, Options{Of: of})
			all := rows(d.taken(table))
			ask := []record.Key{}
			want := []string{all[0]}
			for i, line := range all[1:] {
				parts := strings.Split(line, ",")[:len(tgt.key)]
				if r.IntN(3) == 0 {
					continue
				}
				if !of.OneForm() && i%2 == 0 {
					parts[0] = "00" + parts[0] + " "
				}
				ask, want = append(ask, record.NewKey(parts...)), append(want, line)
			}
			for _, none := range append(hostile(r)[:60], "9223372036854775808", "-1", "1.0", "0x10", "") { // what is no value of the column, or none that is there
				parts := slices.Repeat([]string{none}, len(tgt.key))
				ask = append(ask, record.NewKey(parts...))
			}
			r.Shuffle(len(ask), func(i, k int) { ask[i], ask[k] = ask[k], ask[i] })
			require.NoError(t, tgt.Only(ask))
			var got bytes.Buffer
			require.NoError(t, tgt.Backup(t.Context(), &got))
			assert.Equal(t, want, rows(got.String()), table)
			states, err := tgt.Current(t.Context(), ask)
			require.NoError(t, err)
			there := 0
			for _, s := range states {
				there += s.Count
			}
			assert.Equal(t, len(want)-1, there)
			_, err = tgt.Current(t.Context(), []record.Key{record.NewKey(slices.Repeat([]string{"nobody asked"}, len(tgt.key))...)})
			require.ErrorContains(t, err, "none of the records that are looked at")
			require.NoError(t, tgt.Only(nil))
			got.Reset()
			require.NoError(t, tgt.Backup(t.Context(), &got))
			assert.Equal(t, all, rows(got.String()))
			require.NoError(t, tgt.Only([]record.Key{}))
			got.Reset()
			require.NoError(t, tgt.Backup(t.Context(), &got))
			assert.Equal(t, all[:1], rows(got.String()), "none is not all")
		}
	})
}

// What some records are is one state, whoever writes meanwhile.
func TestSomeRecordsAreOneState(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		table := d.table("(k integer NOT NULL PRIMARY KEY, v integer)")
		const n = 3 * onlyPart
		keys := make([]record.Key, n)
		for i := range n {
			d.exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, 0)", table, i))
			keys[i] = record.NewKey(fmt.Sprint(i))
		}
		colleague := d.open(table, Options{})
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan error)
		go func() {
			for i := 1; ctx.Err() == nil; i++ {
				_, err := colleague.s.exec(context.Background(), fmt.Sprintf("UPDATE %s SET v = %d", table, i))
				if f := colleague.e.failure(err); f != nil && f.kind == again {
					continue
				}
				if err != nil {
					done <- err
					return
				}
			}
			done <- nil
		}()
		tgt := d.open(table, Options{})
		for range 5 {
			require.NoError(t, tgt.Only(keys))
			var b bytes.Buffer
			require.NoError(t, tgt.Backup(t.Context(), &b))
			values := map[string]bool{}
			for _, line := range rows(b.String())[1:] {
				_, v, _ := strings.Cut(line, ",")
				values[v] = true
			}
			assert.Len(t, values, 1, "%v", slices.Collect(maps.Keys(values)))
		}
		cancel()
		require.NoError(t, <-done)
	})
}

// A run whose backup has the touched records alone reads no other, finds what it should
// among these, and brings them back; what others do elsewhere is not looked at.
func TestRunsThatTouch(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		table := d.simple()
		d.exec("UPDATE " + table + " SET v = 'was'")
		before := "k,v\n1,was\n2,was\n3,was\n4,was\n"
		x := dossier(t, "k", before, "k,v\n1,was\n2,new\n4,was\n5,added\n")
		tgt := d.writable(table, Options{Key: []string{"k"}, Of: d.schemaOf(x)})
		job := &carry.Job{Dossier: x, Target: tgt, By: "lina", Now: time.Now, Options: carry.Options{Touched: true}}
		rep, err := carry.Apply(t.Context(), job)
		require.NoError(t, err)
		assert.Equal(t, 3, rep.Steps.Done)
		assert.True(t, rep.Verify.Holds())
		assert.True(t, rep.Verify.Touched)
		b, err := os.ReadFile(rep.Backup)
		require.NoError(t, err)
		assert.Equal(t, "k,v\n2,was\n3,was\n", string(b))

		d.exec("UPDATE " + table + " SET v = 'others' WHERE k IN ('1', '2')")
		fresh := func(only bool) *carry.Verification {
			last, err := carry.LastTarget(x)
			require.NoError(t, err)
			var keys []record.Key
			if only {
				keys, err = carry.Looked(x, last)
				require.NoError(t, err)
			}
			require.NoError(t, tgt.Refresh(t.Context()))
			require.NoError(t, tgt.Only(keys))
			img, release, err := tgt.Table(t.Context())
			require.NoError(t, err)
			defer release()
			v, err := carry.Verify(t.Context(), x, carry.Proof{Fresh: img, Now: time.Now})
			require.NoError(t, err)
			return v
		}
		assert.Equal(t, fresh(true).Differences, fresh(false).Differences)
		v := fresh(true)
		assert.Equal(t, []int{2, 1, 0}, []int{v.AsMeant, v.Other, v.Besides}, "what became of record 1 is not looked at")

		d.exec("UPDATE " + table + " SET v = 'new' WHERE k = '2'")
		require.NoError(t, tgt.Refresh(t.Context()))
		back, res, err := carry.Restore(t.Context(), x, tgt, carry.Restoration{By: "lina", Now: time.Now})
		require.NoError(t, err)
		assert.Equal(t, []int{1, 1, 1}, []int{res.Changes.Amend, res.Changes.Add, res.Changes.Delete}, "none of them is a delete of what the backup does not have")
		approveAll(t, back)
		require.NoError(t, tgt.Refresh(t.Context()))
		rep, err = carry.Apply(t.Context(), &carry.Job{Dossier: back, Target: tgt, By: "lina", Now: time.Now})
		require.NoError(t, err)
		assert.True(t, rep.Verify.Holds())
		assert.False(t, rep.Verify.Touched, "it was asked for once")
		assert.Equal(t, "k,v\n1,others\n2,was\n3,was\n4,was\n", d.taken(table))
		_, _, err = carry.Restore(t.Context(), x, tgt, carry.Restoration{Whole: true, By: "lina", Now: time.Now})
		var no *carry.Refusal
		require.ErrorAs(t, err, &no)
		assert.Equal(t, carry.NotKept, no.Code)
	})
}

// A run that was interrupted is finished as it was begun, and the rest goes as it is asked
// for then.
func TestRunsThatTouchAreFinishedSo(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		table := d.simple()
		x := dossier(t, "k", "k,v\n1,a\n2,b\n3,c\n4,d\n", "k,v\n1,a\n2,B\n3,C\n4,d\n")
		tgt := d.writable(table, Options{Key: []string{"k"}, Of: d.schemaOf(x)})
		ctx, cancel := context.WithCancel(t.Context())
		_, err := carry.Apply(ctx, &carry.Job{Dossier: x, Target: tgt, By: "lina", Now: time.Now, Options: carry.Options{Touched: true, Batch: 1, First: 2},
			Progress: func(what string, done, all int) {
				if done == 1 {
					cancel()
				}
			}})
		require.Error(t, err)
		tgt = d.writable(table, Options{Key: []string{"k"}, Of: d.schemaOf(x)})
		job := &carry.Job{Dossier: x, Target: tgt, By: "lina", Now: time.Now}
		rep, err := carry.Apply(t.Context(), job)
		require.NoError(t, err)
		require.True(t, rep.Resumed)
		assert.Equal(t, 2, rep.Steps.Done)
		assert.True(t, rep.Verify.Touched)
		assert.False(t, job.Options.Touched)
		var whole bytes.Buffer
		rep, err = carry.Apply(t.Context(), job)
		require.NoError(t, err)
		assert.Zero(t, rep.Run)
		require.NoError(t, tgt.Only(nil))
		require.NoError(t, tgt.Backup(t.Context(), io.Writer(&whole)))
		assert.Len(t, rows(whole.String()), 5)
		left, err := filepath.Glob(filepath.Join(tgt.o.Dir, "*"))
		require.NoError(t, err)
		assert.LessOrEqual(t, len(left), 1, "%v", left)
	})
}
