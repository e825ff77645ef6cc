package sqldb

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/record"
	"paletwin/core/schema"
)

// Keys that are one by their form are found whether they are kept in memory or in files, and no others are.
func TestKeysThatAreOne(t *testing.T) {
	of := schema.New([]string{"k"}, schema.KeyForm{Trim: true, Zeros: 5}, nil)
	for _, many := range []bool{false, true} {
		for _, twice := range []string{"", " 00417", "417", "00417"} {
			f := &keyForms{of: of}
			for i := range 2000 {
				require.NoError(t, f.add(record.NewKey(fmt.Sprintf("%05d", i))))
				if many && i%300 == 0 {
					require.NoError(t, f.spill())
				}
			}
			if twice != "" {
				require.NoError(t, f.add(record.NewKey(twice)))
			}
			is, err := f.twice()
			require.NoError(t, err)
			assert.Equal(t, twice != "", is, "%q", twice)
		}
	}
}
