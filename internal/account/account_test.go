package account

import (
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOneMachineHasOneID: many processes that make the id at once agree on it; one that cannot be kept is the same each time; what is no id is
// made anew.
func TestOneMachineHasOneID(t *testing.T) {
	for range 50 {
		file := filepath.Join(t.TempDir(), "home", ".config", "paletwin", "machine")
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Dir(filepath.Dir(file))), 0o700))
		ids := make([]string, 16)
		var all sync.WaitGroup
		for i := range ids {
			all.Go(func() { ids[i] = machine(file, "1000") })
		}
		all.Wait()
		for _, id := range ids {
			assert.Regexp(t, machineID, id)
			assert.Equal(t, ids[0], id)
		}
		left, err := os.ReadDir(filepath.Dir(file))
		require.NoError(t, err)
		assert.Len(t, left, 1, "nothing but the id is left")
	}
	file := filepath.Join(t.TempDir(), "machine")
	for _, text := range []string{"", "3f9c", "../../etc/passwd", "3f9c1b7d20aa4e55 and more"} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		id := machine(file, "1000")
		assert.Regexp(t, machineID, id)
		assert.Equal(t, id, machine(file, "1000"))
	}
	nowhere := filepath.Join(t.TempDir(), "no", "home", "at", "all", "machine")
	assert.Equal(t, machine(nowhere, "1000"), machine(nowhere, "1000"))
	assert.NotEqual(t, machine(nowhere, "1000"), machine(nowhere, "1001"), "one for each account")
	assert.NoFileExists(t, nowhere)
}

// TestTheEnvironmentIsNotBelieved: a name in it changes nothing, and who called sudo counts for root alone.
func TestTheEnvironmentIsNotBelieved(t *testing.T) {
	plain := Current(func(string) string { return "" })
	assert.Equal(t, plain.ID, OnMachine(func(string) string { return "" }).ID)
	said := Current(func(name string) string {
		return map[string]string{"USER": "mairead", "LOGNAME": "mairead", "USERNAME": "mairead", "SUDO_USER": "mairead", "SUDO_UID": "4242"}[name]
	})
	if os.Getuid() == 0 {
		assert.Equal(t, "4242", said.ID)
		assert.NotEqual(t, "mairead", said.Name)
	} else {
		assert.Equal(t, plain, said)
	}
	for _, odd := range []string{"-1", "x", "", "1000 "} {
		a := Current(func(name string) string {
			if name == "SUDO_UID" {
				return odd
			}
			return ""
		})
		assert.Equal(t, plain.ID, a.ID)
	}
	if os.Getuid() >= 0 {
		assert.Equal(t, strconv.Itoa(os.Getuid()), plain.ID)
	}
}
