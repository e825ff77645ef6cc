//go:build unix

package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/target/sqldb/lite"
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

// world is where the record sets live.
type world struct {
	to     string // as apply names it
	make   func(t *testing.T, dir string)
	live   func(t *testing.T, dir string) string
	before string
	after  string
}

// worlds are a folder of files, and a database, in which what belongs together is one transaction.
func worlds() map[string]world {
	file := func(t *testing.T, dir, set string) string {
		b, err := os.ReadFile(filepath.Join(dir, "live", set+".csv"))
		require.NoError(t, err)
		return string(b)
	}
	const ddl = "CREATE TABLE aids (no TEXT PRIMARY KEY, name TEXT)"
	return map[string]world{
		"files": {to: "live", before: roundFiles["aids.csv"] + roundFiles["visits.csv"], after: roundEdited["aids"] + roundEdited["visits"],
			make: func(t *testing.T, dir string) {
				require.NoError(t, os.MkdirAll(filepath.Join(dir, "live"), 0o755))
				for _, set := range []string{"aids", "visits"} {
					require.NoError(t, os.WriteFile(filepath.Join(dir, "live", set+".csv"), []byte(roundFiles[set+".csv"]), 0o644))
				}
			},
			live: func(t *testing.T, dir string) string { return file(t, dir, "aids") + file(t, dir, "visits") }},
		"database": {to: "sqlite:live.db", before: "1 Skerry 2 Holm 3 Bar a 1 x b 1 x c 2 y d 3 y ", after: "1 Skerry 2 Holm 2 3 Bar 4 Voe a 1 z b 4 x c 2 y new 4 y ",
			make: func(t *testing.T, dir string) {
				for _, sql := range []string{ddl, "CREATE TABLE visits (id TEXT PRIMARY KEY, aid TEXT REFERENCES aids, crew TEXT)",
					"INSERT INTO aids VALUES ('1', 'Skerry'), ('2', 'Holm'), ('3', 'Bar')", "INSERT INTO visits VALUES ('a', '1', 'x'), ('b', '1', 'x'), ('c', '2', 'y'), ('d', '3', 'y')"} {
					query(t, dir, sql)
				}
			},
			live: func(t *testing.T, dir string) string {
				return query(t, dir, "SELECT no, name FROM aids ORDER BY 1") + query(t, dir, "SELECT id, aid, crew FROM visits ORDER BY 1")
			}},
	}
}

// query asks live.db, and gives what comes back as words.
func query(t *testing.T, dir, sql string) string {
	path := filepath.Join(dir, "live.db")
	if _, err := os.Stat(path); err != nil {
		require.NoError(t, os.WriteFile(path, nil, 0o600))
	}
	db, err := lite.Open(path, 1000)
	require.NoError(t, err)
	defer db.Close()
	var b strings.Builder
	require.NoError(t, db.Query(context.Background(), sql, nil, func(row []lite.Value) error {
		for _, v := range row {
			b.WriteString(string(v.Bytes) + " ")
		}
		return nil
	}))
	return b.String()
}

// TestSetsKilledAtEveryOperation kills the real program (SIGKILL) before its first, second, third … file
// operation of an apply of two record sets. The next apply completes, and the rollback gives what was there
// before, of files the bytes.
func TestSetsKilledAtEveryOperation(t *testing.T) {
	for name, w := range worlds() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			killSets(t, w)
		})
	}
}

func killSets(t *testing.T, w world) {
	bin := faultyProgram(t)
	start := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(start, "layouts"), 0o755))
	for name, text := range roundFiles {
		require.NoError(t, os.WriteFile(filepath.Join(start, name), []byte(text), 0o644))
	}
	w.make(t, start)
	for _, args := range [][]string{
		{"compare", "--joined", "round", "--snapshot", "visits=visits.csv", "--snapshot", "aids=aids.csv", "sheet.csv", "--missing", "delete"},
		{"approve", "1", "--all", "--held"}} {
		out, code := command(t, program, start, nil, args...)
		require.Zero(t, code, out)
	}
	killed := 0
	first, step := thorough.Every(t, 7)
	for n := first; ; n += step {
		dir := t.TempDir()
		require.NoError(t, os.CopyFS(dir, os.DirFS(start)))
		require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
		out, code := command(t, bin, dir, []string{fmt.Sprintf("PALETWIN_KILL_AT=%d", n)}, "apply", "1", "--to", w.to, "--yes")
		if code == 0 {
			require.Equal(t, w.after, w.live(t, dir), out)
			break
		}
		require.Equal(t, -1, code, out) // by a signal
		killed++
		out, code = command(t, program, dir, nil, "apply", "1", "--to", w.to, "--yes")
		require.Zero(t, code, "at %d: %s", n, out)
		require.Equal(t, w.after, w.live(t, dir), "at %d: %s", n, out)
		out, code = command(t, program, dir, nil, "rollback", "1", "--apply", "--yes")
		require.Zero(t, code, "at %d: %s", n, out)
		require.Equal(t, w.before, w.live(t, dir), "at %d: %s", n, out)
		out, code = command(t, program, dir, nil, "history", "--check")
		require.Zero(t, code, "at %d: %s", n, out)
	}
	t.Logf("killed at %d points", killed)
	assert.Greater(t, killed*step, 100)
}
