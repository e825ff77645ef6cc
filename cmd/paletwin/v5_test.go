package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A desk of the form with several record sets (dossier version 4, journal version 5) stays readable for
// ever: shown by set, checked, proven and undone, with what was taken back.
func TestFifthVersionStaysReadable(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/v5")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
	out, code := command(t, program, dir, nil, "history", "--check")
	assert.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "show", "1", "--record-set", "aids")
	assert.Zero(t, code, out)
	assert.Regexp(t, `Skerry Rock +held: parts-disagree`, out)
	assert.Regexp(t, `add +4 +Voe .*approved`, out)
	out, code = command(t, program, dir, nil, "show", "1/aids", "--wear") // takes the sheet apart again
	assert.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "history", "2")
	assert.Zero(t, code, out)
	assert.Regexp(t, `1 done, 1 undone`, out)
	out, code = command(t, program, dir, nil, "verify", "1", "live")
	assert.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "rollback", "1", "--to", "live", "--other-target", "--apply", "--yes")
	assert.Zero(t, code, out)
	for name, text := range map[string]string{"aids": "no,name,state\n1,Skerry,lit\n2,Holm,lit\n3,Bar,lit\n", "visits": "id,aid,crew\na,1,x\nb,1,x\nc,2,y\nd,3,y\n"} {
		now, err := os.ReadFile(filepath.Join(dir, "live", name+".csv"))
		require.NoError(t, err)
		assert.Equal(t, text, string(now))
	}
}
