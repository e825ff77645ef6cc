package slip_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
)

// keeper writes what it is given as a change set.
type keeper struct{ w *changeset.Writer }

func (k *keeper) WriteEncoded(lines []byte, changes []*changeset.Change) error {
	return k.w.WriteEncoded(lines, changes)
}

// BenchmarkMillion compares 500,000 records of which two fields each change
// with and without a look for slips, and reads the change set, each change
// decoded, in turn. slips/read is what slips cost, the changes' being made a
// second time included, as a share of the reading.
func BenchmarkMillion(b *testing.B) {
	g := gen{rand.New(rand.NewPCG(1, 2))}
	was := &sheet{columns: aidColumns, key: []string{"aid_no"}}
	was.rows = [][]string{was.heading()}
	for i := range 500_000 {
		row := make([]string, len(was.columns))
		for f := range was.columns {
			row[f] = g.value(&was.columns[f], i)
		}
		row[0] = fmt.Sprintf("%07d", i)
		was.rows = append(was.rows, row)
	}
	is := was.clone()
	for _, r := range is.rows[1:] {
		g.times(is, r, 11, 1.04)
		r[8] = g.other(&is.columns[8], r[8])
	}
	x, y := image(b, "snapshot.csv", was), image(b, "edited.csv", is)
	var out bytes.Buffer
	once := func(slips string) time.Duration {
		out.Reset()
		w, err := changeset.NewWriter(&out, changeset.Header{RecordSet: "aids", Key: was.key, Fields: was.heading()})
		require.NoError(b, err)
		start := time.Now()
		_, err = compare.Run(context.Background(), x, y, compare.Options{RecordSet: "aids", Key: was.key, SlipSearch: compare.SlipSearch{Slips: slips}}, &keeper{w})
		require.NoError(b, err)
		took := time.Since(start)
		_, err = w.Close()
		require.NoError(b, err)
		return took
	}
	var off, hold, read time.Duration
	for b.Loop() {
		hold += once(compare.SlipsHold)
		off += once(compare.SlipsOff)
		r, err := changeset.Parse(out.Bytes())
		require.NoError(b, err)
		start := time.Now()
		for _, err := range r.Changes() {
			require.NoError(b, err)
		}
		read += time.Since(start)
	}
	b.ReportMetric(float64(hold-off)/float64(read), "slips/read")
	b.ReportMetric(read.Seconds()/float64(b.N), "s/read")
}
