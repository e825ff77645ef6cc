package targettest

import (
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"paletwin/core/table"
	"paletwin/core/table/open"
)

func TestMeanIsProven(t *testing.T) {
	Prove(t, Kind{
		Make: func(t *testing.T, key []string, register string) Place {
			rows, err := csv.NewReader(strings.NewReader(register)).ReadAll()
			require.NoError(t, err)
			m := NewMean(key, rows...)
			m.BatchSize, m.Rekeys = 500, true
			return memory{m}
		},
		Nulls: true,
		Read:  func(name string, b []byte) (*table.Image, error) { return open.Open(name, b, table.Options{}) },
	})
}
