package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A preview says just what the comparison says that makes a dossier, whatever
// it is asked and wherever its files come from.
func TestAPreviewIsTheComparison(t *testing.T) {
	dir := t.TempDir()
	data, err := filepath.Abs("../../internal/demo/data")
	require.NoError(t, err)
	require.NoError(t, os.CopyFS(dir, os.DirFS(data)))
	for name, text := range map[string]string{"list.txt": "00101\n00102\n99999\n", "older.csv": "", "stale.csv": ""} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	// An older snapshot with another fee, and a copy that puts it back.
	aids, err := os.ReadFile(filepath.Join(dir, "aids.csv"))
	require.NoError(t, err)
	older := regexp.MustCompile(`(?m)^(001[0-9]{2},.*),D02,`).ReplaceAll(aids, []byte("$1,D08,"))
	require.NotEqual(t, string(aids), string(older))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "older.csv"), older, 0o600))
	for _, args := range [][]string{{"compare", "older.csv", "aids.csv", "--key", "aid_no", "--record-set", "aids"}} {
		out, code := command(t, program, dir, nil, args...)
		require.Zero(t, code, out)
	}
	dossier := regexp.MustCompile(`"dossier":[^,]*,"path":[^,]*,|,"since":\{[^}]*\}`) // of a dossier alone
	for name, c := range map[string]struct {
		args  []string
		stdin string
	}{
		"the demo":                     {[]string{"aids.csv", "autumn-round.csv"}, ""},
		"old values put back":          {[]string{"aids.csv", "older.csv"}, ""},
		"without slips":                {[]string{"aids.csv", "autumn-round.csv", "--with", "slips=off"}, ""},
		"warned only":                  {[]string{"aids.csv", "autumn-round.csv", "--with", "slips=warn", "--with", "wear=off"}, ""},
		"a list":                       {[]string{"aids.csv", "--delete-list", "list.txt"}, ""},
		"a list from standard input":   {[]string{"aids.csv", "--delete-list", "-"}, "list.txt"},
		"a copy and a list":            {[]string{"aids.csv", "autumn-round.csv", "--delete-list", "list.txt"}, ""},
		"a copy from standard input":   {[]string{"aids.csv", "-"}, "autumn-round.csv"},
		"missing and blank":            {[]string{"aids.csv", "autumn-round.csv", "--missing", "delete", "--blank", "clear", "--allow", "amend"}, ""},
		"a snapshot that is the input": {[]string{"-", "autumn-round.csv"}, "aids.csv"},
	} {
		t.Run(name, func(t *testing.T) {
			run := func(more ...string) string {
				cmd := exec.Command(program, append(append([]string{"compare", "--key", "aid_no", "--record-set", "aids", "--json"}, c.args...), more...)...)
				cmd.Dir = dir
				if c.stdin != "" {
					f, err := os.Open(filepath.Join(dir, c.stdin))
					require.NoError(t, err)
					defer f.Close()
					cmd.Stdin = f
				}
				out, err := cmd.Output()
				require.NoError(t, err, "%s", out)
				return dossier.ReplaceAllString(string(out), "")
			}
			preview := run("--rehearse")
			assert.Equal(t, run(), preview)
			if name == "old values put back" {
				assert.Contains(t, preview, "dossier 0001", "what other snapshots had is asked")
			}
		})
	}
}
