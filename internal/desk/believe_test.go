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

// An id is one that the program makes, or, of dossiers of before, none: whoever shortens it would be in the way of what is made of it.
func TestWhichIdsAreBelieved(t *testing.T) {
	said := func(id string) error {
		m := &Meta{Number: "0007", Slug: "x", ID: id, RecordSets: []RecordSet{{Name: "aids", Key: []string{"k"}}}, Snapshot: &Input{File: "snapshot.csv"}}
		return m.believe("0007-x")
	}
	require.NoError(t, said(""))
	require.NoError(t, said(newID()))
	for _, not := range []string{"x", "3f9c", ".", "../../../outside", newID()[:31], newID() + "0", "3F9C1B7D20AA4E553F9C1B7D20AA4E55"} {
		assert.ErrorIs(t, said(not), ErrForged, not)
	}
}
