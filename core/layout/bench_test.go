package layout

import (
	"fmt"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"paletwin/core/expr"
)

// BenchmarkCheck checks changed records of 20 fields, three of them changed,
// against five rules, and says how many times as long that takes as evaluating
// the same rules on values that are read already; on all cores, in turn.
func BenchmarkCheck(b *testing.B) {
	var y strings.Builder
	y.WriteString("key: f0\nfields:\n")
	for i := range 20 {
		kind := []string{"text", "{kind: decimal, scale: 2}", "date", "{kind: choice, values: [inner, outer]}"}[i%4]
		fmt.Fprintf(&y, "  f%d: %s\n", i, kind)
	}
	y.WriteString(`rules:
  - check: new.f1 >= 0 && new.f1 <= old.f1 * 1.5
  - check: new.f2 >= new.f6 - days(4000)
  - check: new.f5 == null || new.f9 == null || new.f5 + new.f9 < 10000
  - check: new.f3 != "outer" || new.f1 > 5
  - check: size(new.f4) < 40
`)
	l, err := Parse("b.yaml", []byte(y.String()), harbour)
	require.NoError(b, err)
	record := func(n int) []string {
		r := make([]string, 20)
		for i := range r {
			r[i] = []string{fmt.Sprint("text ", n, i), fmt.Sprintf("%d.%02d", 10+n%90, i), fmt.Sprintf("20%02d-03-%02d", 10+n%15, 1+n%28), "inner"}[i%4]
		}
		return r
	}
	const records = 20_000
	old, changed := make([][]string, records), make([][]string, records)
	values := make([][2][]expr.Value, records)
	for n := range old {
		old[n], changed[n] = record(n), record(n)
		changed[n][1], changed[n][2], changed[n][3] = fmt.Sprintf("%d.50", 10+n%90), "2026-03-11", "outer"
		for s, texts := range [][]string{old[n], changed[n]} {
			for i, t := range texts {
				v, _ := l.Fields[i].Value(t)
				values[n][s] = append(values[n][s], v)
			}
		}
	}
	isChanged := func(i int) bool { return i == 1 || i == 2 || i == 3 }
	all := func(f func(n int)) time.Duration {
		start := time.Now()
		var wg sync.WaitGroup
		cores := runtime.GOMAXPROCS(0)
		for c := range cores {
			wg.Go(func() {
				for n := c; n < records; n += cores {
					f(n)
				}
			})
		}
		wg.Wait()
		return time.Since(start)
	}
	var bare, check time.Duration
	for b.Loop() {
		bare += all(func(n int) {
			in := &expr.Input{Act: "amend", Old: func(i int) expr.Value { return values[n][0][i] }, New: func(i int) expr.Value { return values[n][1][i] }}
			for i := range l.Rules {
				_, _ = l.Rules[i].Check.Holds(in)
			}
		})
		check += all(func(n int) {
			for _, i := range []int{1, 2, 3} {
				_, _ = l.Fields[i].Take(changed[n][i])
			}
			in := &expr.Input{Act: "amend", Old: l.Getter(func(i int) string { return old[n][i] }), New: l.Getter(func(i int) string { return changed[n][i] })}
			l.CheckRules(in, isChanged)
		})
	}
	b.ReportMetric(check.Seconds()/bare.Seconds(), "x-bare")
	b.ReportMetric(bare.Seconds()/float64(b.N)/records*1e6, "us/record-bare")
}
