package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// broken starts a run in batches of one, and sends it a signal once two are
// written. It returns the folder, what the run said, and its exit code.
func broken(t *testing.T, sig syscall.Signal) (dir, said string, code int) {
	dir = t.TempDir()
	office(t, dir)
	cmd := exec.Command(program, "apply", "1", "--to", "register.csv", "--yes", "--batch", "1", "--pause", "700ms")
	var out bytes.Buffer
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &out, &out
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		b, err := os.ReadFile(filepath.Join(dir, "dossiers/0001-edited/runs/1/journal.jsonl"))
		return err == nil && bytes.Count(b, []byte(`"outcomes"`)) == 2
	}, 20*time.Second, time.Millisecond)
	sent := time.Now()
	require.NoError(t, cmd.Process.Signal(sig))
	_ = cmd.Wait() // its exit code tells
	require.Less(t, time.Since(sent), time.Second)
	return dir, out.String(), cmd.ProcessState.ExitCode()
}

// A run that did not come to its end is told truly: by itself, by verify, by
// --follow and by the history; and apply finishes it.
func TestUnfinishedRunsAreToldTruly(t *testing.T) {
	for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGKILL} {
		t.Run(sig.String(), func(t *testing.T) {
			t.Parallel()
			dir, said, code := broken(t, sig)
			if sig != syscall.SIGKILL {
				assert.Equal(t, 1, code)
				assert.Contains(t, said, "interrupted; run 1 had written 2 of 4 records")
				assert.NotContains(t, said, "nothing")
			}
			out, code := command(t, program, dir, nil, "verify", "1")
			assert.Equal(t, 3, code, out)
			assert.Contains(t, out, "2 records as meant")
			assert.Contains(t, out, "2 not attempted")
			assert.Regexp(t, `not attempted +5`, out)
			assert.Regexp(t, `not attempted +6`, out)
			assert.NotContains(t, out, "nothing else moved")
			out, code = command(t, program, dir, nil, "history", "1", "--run", "1", "--follow")
			assert.Equal(t, 1, code, out)
			assert.Contains(t, out, "interrupted: no process is working on it")
			out, code = command(t, program, dir, nil, "apply", "1", "--yes")
			assert.Zero(t, code, out)
			out, code = command(t, program, dir, nil, "verify", "1")
			assert.Zero(t, code, out)
			assert.Contains(t, out, "4 records as meant, and nothing else moved")
		})
	}
}

// A run whose reader has gone goes on to its end.
func TestNobodyReadsOn(t *testing.T) {
	for _, form := range [][]string{nil, {"--json"}} {
		dir := t.TempDir()
		office(t, dir)
		args := append([]string{"apply", "1", "--to", "register.csv", "--yes", "--batch", "1"}, form...)
		cmd := exec.Command("sh", "-c", "{ "+program+" "+strings.Join(args, " ")+"; echo $? >code; } 2>&1 | true")
		cmd.Dir = dir
		require.NoError(t, cmd.Run())
		require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(dir, "code")); return err == nil }, 10*time.Second, time.Millisecond)
		time.Sleep(10 * time.Millisecond)
		code, err := os.ReadFile(filepath.Join(dir, "code"))
		require.NoError(t, err)
		assert.Equal(t, "0\n", string(code))
		assert.Equal(t, newRegister, register(t, dir))
		out, n := command(t, program, dir, nil, "verify", "1")
		assert.Zero(t, n, out)
	}
}
