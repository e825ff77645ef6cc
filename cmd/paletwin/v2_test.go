package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A hand-off whose journal has version 2 stays readable for ever: shown,
// checked, verified, handed over again where it was refused, and undone.
func TestSecondVersionStaysReadable(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/v2")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
	out, code := command(t, program, dir, nil, "history", "--check")
	assert.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "history")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "2 done, 1 refused")
	out, code = command(t, program, dir, nil, "history", "--record", "00101", "--json")
	assert.Zero(t, code, out)
	assert.Contains(t, out, `"load":"forward/01-amend-depot.csv","outcome":"done"`)
	fresh := "aid_no,name,depot,range_nm\n00101,Old Pier,D07,8.0\n00102,Skerry Ledge,D05,6.0\n00103,Tarn Mouth,D05,3.5\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fresh.csv"), []byte(fresh), 0o600))
	out, code = command(t, program, dir, nil, "verify", "1", "fresh.csv")
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "2 records as meant")
	assert.Contains(t, out, "1 not done")
	out, code = command(t, program, dir, nil, "handoff", "1", "--retry")
	assert.Zero(t, code, out)
	assert.Regexp(t, `to load +1`, out)
	out, code = command(t, program, dir, nil, "rollback", "1", "--current", "fresh.csv")
	assert.Zero(t, code, out)
	assert.Regexp(t, `amend +2`, out)
}
