package compare

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"paletwin/core/table/csv"
)

// TestCellsOfWideRowsAreFound: a cell that is looked for from a step of its row is the one that the whole row has, in any order of
// asking, and on a row that is shorter, too.
func TestCellsOfWideRowsAreFound(t *testing.T) {
	var b strings.Builder
	const columns = 3*stepCells + 7
	b.WriteString("k")
	for c := range columns {
		fmt.Fprintf(&b, ",c%d", c)
	}
	for r := range 5 {
		fmt.Fprintf(&b, "\n%d", r)
		for c := range columns {
			fmt.Fprintf(&b, `,"%d,%d"`, r, c)
		}
	}
	img, err := csv.Open("wide.csv", []byte(b.String()))
	require.NoError(t, err)
	s := newSide(img, []int{0})
	require.NoError(t, s.scan(context.Background(), 1))
	x := &slipTable{of: &pairs{tables: &tables{snap: s, res: &Result{Fields: img.Heading}}}}
	fields := make([]int, columns+1)
	for f := range fields {
		fields[f] = f
	}
	for r := range uint32(5) {
		whole := x.OldRow(r)
		for _, f := range slices.Backward(fields) {
			require.Equal(t, whole[f], x.Old(r, f), "%d, %d", r, f)
		}
		require.Empty(t, x.Old(r, columns+1))
		require.Empty(t, x.Old(r, 1000))
	}
}
