package wear

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// What a person says of the program reads numbers as it writes them, and leaves alone what is in the
// column's own form; without a word nothing is read so.
func TestAsSaid(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var cells []Pair
		cents := rapid.SliceOfN(rapid.IntRange(100, 99999), 5, 40).Draw(t, "cents")
		for _, n := range cents {
			up := n + n/25 + 1
			cells = append(cells, Pair{fmt.Sprintf("%d.%02d", n/100, n%100), fmt.Sprintf("%d,%02d", up/100, up%100)})
		}
		for _, h := range Habits("csv") {
			c := Judge(h, cells)
			for _, said := range []bool{false, true} {
				c.Said = said
				p := cells[0]
				r := c.ReadNew(p.Seen)
				if said && h.Locale.decimal == ',' {
					up := cents[0] + cents[0]/25 + 1
					assert.Equal(t, Reading{As: Edit, Value: fmt.Sprintf("%d.%02d", up/100, up%100)}, r)
				} else {
					assert.NotEqual(t, Snapshot, r.As)
					assert.False(t, r.As == Edit && r.Value != p.Seen, "%v", r)
				}
				assert.Equal(t, p.Snapshot, c.ReadNew(p.Snapshot).Value)
			}
		}
	})
}
