package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A dossier of two tables that were compared where they are (dossier version 6) stays readable for ever: it knows how many
// records there are, and which it does not have.
func TestSixthVersionStaysReadable(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/v6")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
	out, code := command(t, program, dir, nil, "history", "--check")
	assert.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "show", "1")
	assert.Zero(t, code, out)
	assert.Regexp(t, `00002 .* Skerry 2 +→ +Holm`, out)
	out, code = command(t, program, dir, nil, "show", "1", "--with", "markdown")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "1 amended (2 field changes), 1 added, 1 deleted")
	out, code = command(t, program, dir, nil, "show", "1", "--record", "00004")
	assert.Equal(t, 2, code, out)
	assert.Contains(t, out, "none of those that differ")
	out, code = command(t, program, dir, nil, "apply", "1", "--yes")
	assert.Equal(t, 3, code, out)
}
