package desk

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A dossier undoes one that was made before, so that no way through what undoes what leads in a circle.
func TestWhatADossierUndoesIsOlder(t *testing.T) {
	said := func(number, undoes string) error {
		m := &Meta{Number: number, Slug: "x", RecordSets: []RecordSet{{Name: "aids", Key: []string{"k"}}}, Snapshot: &Input{File: "snapshot.csv"}, Undoes: &Undoes{Dossier: undoes}}
		return m.believe(number + "-x")
	}
	for _, older := range []string{"0001", "0006", "0006/visits"} {
		require.NoError(t, said("0007", older))
	}
	for _, not := range []string{"0007", "0008", "0007/visits", "", "x", "1", "99999999999999999999", "0001/", "../0001"} {
		assert.ErrorIs(t, said("0007", not), ErrForged, not)
	}
}
