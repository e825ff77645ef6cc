package changeset_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
)

// However many findings there are: of a code on a column ten are told, the others
// are counted, every row that is named was found, and nothing is lost from the sum.
func TestFindings(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var l changeset.Findings
		type cause struct{ code, column string }
		told, count, named := map[cause]int{}, map[cause]int{}, 0
		for i := range rapid.IntRange(0, 80).Draw(t, "findings") {
			c := cause{rapid.SampledFrom([]string{"a", "b"}).Draw(t, "code"), rapid.SampledFrom([]string{"", "v"}).Draw(t, "column")}
			f := changeset.Finding{Code: c.code, Column: c.column, Row: i + 1, Count: rapid.IntRange(1, 3).Draw(t, "count"), Text: fmt.Sprint(i)}
			if rapid.IntRange(0, 4).Draw(t, "names a record") == 0 {
				f.Key = "k"
				named++
			} else {
				told[c]++
				count[c] += f.Count
			}
			l.Add(f)
		}
		seen, sum, keys := map[cause]int{}, map[cause]int{}, 0
		for _, f := range l.All() {
			if f.Key != "" {
				keys++
				continue
			}
			c := cause{f.Code, f.Column}
			seen[c]++
			sum[c] += f.Count
			assert.LessOrEqual(t, len(f.Rows), changeset.MaxRows)
			if seen[c] == changeset.MostAlike+1 {
				assert.Equal(t, fmt.Sprintf("%d more of the kind", told[c]-changeset.MostAlike), f.Text)
				assert.Positive(t, f.Row)
			}
		}
		assert.Equal(t, count, sum)
		assert.Equal(t, named, keys, "what names a record is told")
		for c, n := range told {
			assert.Equal(t, min(n, changeset.MostAlike+1), seen[c])
		}
	})
}
