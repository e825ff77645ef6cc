//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/thorough"
)

var roundFiles = map[string]string{
	"layouts/round.yaml": `list: visits
joins:
  visits: {key: id, columns: {visit: id, aid: aid, crew: crew}}
  aids: {key: no, columns: {aid: no, name: name}}
`,
	"aids.csv":   "no,name\n1,Skerry\n2,\"Holm\"\n3,Bar\n",
	"visits.csv": "id,aid,crew\na,1,x\nb,1,x\nc,2,y\nd,3,y\n",
	"sheet.csv":  "visit,aid,crew,name\na,1,z,Skerry\nb,4,x,Voe\nc,2,y,Holm 2\nnew,4,y,Voe\n",
}

// roundEdited is what comes of it: aid 3 is on no row any more, and stays.
var roundEdited = map[string]string{
	"aids":   "no,name\n1,Skerry\n2,\"Holm 2\"\n3,Bar\n4,Voe\n",
	"visits": "id,aid,crew\na,1,z\nb,4,x\nc,2,y\nnew,4,y\n",
}

// TestSetsKilledAtEveryOperation kills the real program (SIGKILL) before its first, second, third … file
// operation of an apply of two record sets. After each, each register is whole; the next apply completes,
// and the rollback gives the bytes of before in both.
func TestSetsKilledAtEveryOperation(t *testing.T) {
	t.Parallel()
	bin := faultyProgram(t)
	start := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(start, "layouts"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(start, "live"), 0o755))
	for name, text := range roundFiles {
		require.NoError(t, os.WriteFile(filepath.Join(start, name), []byte(text), 0o644))
	}
	for _, set := range []string{"aids", "visits"} {
		require.NoError(t, os.WriteFile(filepath.Join(start, "live", set+".csv"), []byte(roundFiles[set+".csv"]), 0o644))
	}
	for _, args := range [][]string{
		{"compare", "--joined", "round", "--snapshot", "visits=visits.csv", "--snapshot", "aids=aids.csv", "sheet.csv", "--missing", "delete"},
		{"approve", "1", "--all", "--held"}} {
		out, code := command(t, program, start, nil, args...)
		require.Zero(t, code, out)
	}
	live := func(dir, set string) string {
		b, err := os.ReadFile(filepath.Join(dir, "live", set+".csv"))
		require.NoError(t, err)
		return string(b)
	}
	killed := 0
	first, step := thorough.Every(t, 7)
	for n := first; ; n += step {
		dir := t.TempDir()
		require.NoError(t, os.CopyFS(dir, os.DirFS(start)))
		require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
		out, code := command(t, bin, dir, []string{fmt.Sprintf("PALETWIN_KILL_AT=%d", n)}, "apply", "1", "--to", "live", "--yes")
		if code == 0 {
			require.Equal(t, roundEdited, map[string]string{"aids": live(dir, "aids"), "visits": live(dir, "visits")}, out)
			break
		}
		require.Equal(t, -1, code, out) // by a signal
		killed++
		out, code = command(t, program, dir, nil, "apply", "1", "--to", "live", "--yes")
		require.Zero(t, code, "at %d: %s", n, out)
		for set, want := range roundEdited {
			require.Equal(t, want, live(dir, set), "at %d: %s", n, out)
		}
		out, code = command(t, program, dir, nil, "rollback", "1", "--apply", "--yes")
		require.Zero(t, code, "at %d: %s", n, out)
		for set := range roundEdited {
			require.Equal(t, roundFiles[set+".csv"], live(dir, set), "at %d: %s", n, out)
		}
		out, code = command(t, program, dir, nil, "history", "--check")
		require.Zero(t, code, "at %d: %s", n, out)
	}
	t.Logf("killed at %d points", killed)
	assert.Greater(t, killed*step, 100)
}
