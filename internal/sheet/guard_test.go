package sheet

import (
	"bytes"
	"encoding/csv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever a cell has, it begins with nothing that runs, and comes back as it was.
func TestGuardsComeOff(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := rapid.StringOf(rapid.RuneFrom([]rune("='+-@\t\r\n＝＋－＠a1 ;|,\""))).Draw(t, "v")
		require.False(t, runs(guard(v)))
		require.Equal(t, v, unguard(guard(v)))
	})
}

// What would be split by another separator, or by a line end, stands in quotes.
func TestRowsAreNotSplit(t *testing.T) {
	var b bytes.Buffer
	cells := []string{"00417", "a;=1+1", "b\t=2", "c|d", " e", "f,g", "h\"i", "j\nk", ""}
	require.NoError(t, writeRow(&b, cells))
	assert.Equal(t, "00417,\"a;=1+1\",\"b\t=2\",\"c|d\",\" e\",\"f,g\",\"h\"\"i\",\"j\nk\",\n", b.String())
	back, err := csv.NewReader(&b).Read()
	require.NoError(t, err)
	assert.Equal(t, cells, back)
}
