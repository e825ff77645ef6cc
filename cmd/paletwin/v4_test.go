package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A desk of the form with several copies (dossier version 3, change set version 2) stays readable
// for ever: shown by copy, checked, proven and undone.
func TestFourthVersionStaysReadable(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/v4")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
	out, code := command(t, program, dir, nil, "history", "--check")
	assert.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "show", "1", "--of", "tomas.csv")
	assert.Zero(t, code, out)
	assert.Regexp(t, `00101 .* D06 +tomas.csv +approved`, out)
	assert.Regexp(t, `00105 +Gull Rocks`, out)
	out, code = command(t, program, dir, nil, "show", "2")
	assert.Zero(t, code, out)
	assert.Regexp(t, `00103 .* D05 +→ +D09`, out)
	out, code = command(t, program, dir, nil, "verify", "1", "register.csv")
	assert.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "rollback", "1", "--to", "register.csv", "--other-target", "--apply", "--yes")
	assert.Zero(t, code, out)
	now, err := os.ReadFile(filepath.Join(dir, "register.csv"))
	require.NoError(t, err)
	assert.Equal(t, "aid_no,name,depot,fee\n00101,Old Pier,D03,8.0\n00102,Skerry Ledge,D05,7.0\n00103,Tarn Mouth,D05,3.5\n00104,The Nags,D01,4.0\n", string(now))
}
