package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A desk of the form with heads (dossier version 2, journal version 3) stays
// readable for ever: shown, checked, proven, undone, and its hand-off collected.
func TestThirdVersionStaysReadable(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/v3")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
	out, code := command(t, program, dir, nil, "history", "--check")
	assert.Zero(t, code, out)
	assert.NotContains(t, out, "not covered")
	out, code = command(t, program, dir, nil, "history")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "3 done, 1 in conflict; undone in part by 0002")
	assert.Contains(t, out, "1 done, 1 refused")
	out, code = command(t, program, dir, nil, "verify", "1", "register.csv")
	assert.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "rollback", "1", "--to", "register.csv", "--other-target", "--apply", "--yes")
	assert.Zero(t, code, out)
	now, err := os.ReadFile(filepath.Join(dir, "register.csv"))
	require.NoError(t, err)
	assert.Equal(t, "aid_no,name,depot,range_nm\n00101,Old Pier,D03,8.0\n00102,Skerry Ledge,D05,7.0\n00103,Tarn Mouth,D05,3.5\n00104,The Nags,D01,4.0\n", string(now))
	out, code = command(t, program, dir, nil, "handoff", "3", "--retry")
	assert.Regexp(t, `to load +1`, out, code)

	// Of the first version, what was not covered then is said, and no damage.
	old := t.TempDir()
	require.NoError(t, os.CopyFS(old, os.DirFS("testdata/v1")))
	require.NoError(t, os.Chmod(filepath.Join(old, "desk.yaml"), 0o600))
	out, code = command(t, program, old, nil, "history", "--check")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "not covered before version 2")
}
