package table_test

import (
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/table"
)

func TestDoubles(t *testing.T) {
	for stored, want := range map[string]string{
		"977.270000000000000018": "977.27", "29.699999999999999": "29.7", "0.85250000000000000002": "0.8525", "-0.30000000000000004": "-0.30000000000000004", "936.6799999999999": "936.68",
		"574400010002345678": "574400010002345678", "2031000417650017": "2031000417650017", "00000000000000000001.5": "00000000000000000001.5", "29.70": "29.70",
		"5.7440001000234566012E+17": "5.7440001000234566e+17", "1E5": "1E5", "": "", "x.1234567890123456": "x.1234567890123456", "1.23456789012345678e999": "1.23456789012345678e999",
	} {
		assert.Equal(t, want, table.Double(stored), stored)
	}
}

// What is read is the double that is stored, in no more digits than it needs.
func TestDoublesAreTheNumberThatIsStored(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := rapid.Float64Range(-1e14, 1e14).Draw(t, "f")
		stored := strconv.FormatFloat(f, 'f', rapid.IntRange(0, 30).Draw(t, "decimals"), 64)
		want, err := strconv.ParseFloat(stored, 64)
		require.NoError(t, err)
		read := table.Double(stored)
		is, err := strconv.ParseFloat(read, 64)
		require.NoError(t, err)
		require.Equal(t, want, is)
		require.LessOrEqual(t, len(read), len(stored))
	})
}
