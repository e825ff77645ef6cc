package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A desk that the first version wrote stays readable for ever: shown, checked,
// verified against a file, and gone on with.
func TestFirstVersionStaysReadable(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/v1")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
	out, code := command(t, program, dir, nil, "history", "--check")
	assert.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "history")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "4 done; undone in part by 0002")
	out, code = command(t, program, dir, nil, "show", "1", "--json")
	assert.Zero(t, code, out)
	assert.Contains(t, out, `"fields":{"depot":{"from":"D05","to":"","decision":"reject"`)
	assert.Contains(t, out, `"decision":"approve","by":"root"`)
	fresh := "aid_no,name,depot,range_nm\n00101,Old Pier,D03,8.0\n00102,Skerry Ledge,D05,6.0\n00103,\"Tarn\nMouth\",D05,3.5\n00106,\"Heron, Steps\",D01,2.0\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fresh.csv"), []byte(fresh), 0o600))
	out, code = command(t, program, dir, nil, "verify", "1", "fresh.csv")
	assert.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "rollback", "1", "--to", "fresh.csv")
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "no run of dossier 0001 went to")
	out, code = command(t, program, dir, nil, "rollback", "1", "--to", "fresh.csv", "--other-target")
	assert.Zero(t, code, out)
	assert.FileExists(t, filepath.Join(dir, "dossiers/0003-rollback-of-0001/changes.aids.jsonl"))
}
