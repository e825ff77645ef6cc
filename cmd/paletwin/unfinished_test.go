//go:build unix

package main

import (
	"bytes"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// patience is how long a command that was told to end may take here: a machine on
// which all tests run at once is slower than the second that is promised, and
// faster than what the commands would take.
const patience = 10 * time.Second

// broken starts a run in batches of one, and sends it a signal once one is
// written. It returns the folder, what the run said, and its exit code.
func broken(t *testing.T, sig syscall.Signal) (dir, said string, code int) {
	dir = t.TempDir()
	office(t, dir)
	cmd := exec.Command(program, "apply", "1", "--to", "register.csv", "--yes", "--with", "batch=1", "--with", "pause=20s")
	var out bytes.Buffer
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &out, &out
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		b, err := os.ReadFile(filepath.Join(dir, "dossiers/0001-edited/runs/1/journal.jsonl"))
		return err == nil && bytes.Count(b, []byte(`"outcomes"`)) == 1
	}, 20*time.Second, time.Millisecond)
	sent := time.Now()
	require.NoError(t, cmd.Process.Signal(sig))
	_ = cmd.Wait() // its exit code tells
	require.Less(t, time.Since(sent), patience)
	return dir, out.String(), cmd.ProcessState.ExitCode()
}

// A run that did not come to its end is told truly: by itself, by verify, by
// --follow and by the history; and apply finishes it.
func TestUnfinishedRunsAreToldTruly(t *testing.T) {
	for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGKILL} {
		t.Run(sig.String(), func(t *testing.T) {
			t.Parallel()
			if signal.Ignored(sig) { // as nohup has it, and whoever was started from it
				t.Skip("this signal is ignored here, and so it is by the program")
			}
			dir, said, code := broken(t, sig)
			if sig != syscall.SIGKILL {
				assert.Equal(t, 1, code)
				assert.Contains(t, said, "interrupted; run 1 had written 1 of 4 records")
				assert.NotContains(t, said, "nothing")
			}
			out, code := command(t, program, dir, nil, "verify", "1")
			assert.Equal(t, 3, code, out)
			assert.Contains(t, out, "1 record as meant")
			assert.Contains(t, out, "3 not attempted")
			assert.Regexp(t, `not attempted +3`, out)
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
		args := append([]string{"apply", "1", "--to", "register.csv", "--yes", "--with", "batch=1"}, form...)
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

// An interrupt ends every command within a second, whatever it is at: here one
// that waits for an input that does not come, and those that read much.
func TestEveryCommandEndsAtOnce(t *testing.T) {
	dir := t.TempDir()
	large(t, dir, 150_000)
	out, code := command(t, program, dir, nil, "compare", "aids.csv", "edited.csv", "--key", "k", "--title", "all")
	require.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "layout", "draft", "aids.csv")
	require.Zero(t, code, out)
	for _, args := range [][]string{
		{"compare", "-", "edited.csv", "--key", "k"}, {"compare", "aids.csv", "edited.csv", "--key", "k"}, {"derive", "aids.csv", "--key", "k", "--set", `fee = fee * 2`},
		{"lend", "aids.csv", "--key", "k", "-o", "lent.xlsx"}, {"layout", "test", "layouts/aids.yaml", "aids.csv"}, {"layout", "draft", "aids.csv", "-o", "x.yaml"},
		{"approve", "1", "--all"}, {"show", "1", "--json"}, {"review", "sheet", "1", "-o", "s.xlsx"}, {"review", "page", "1", "-o", "p.html"}, {"handoff", "1"}, {"history", "--check"},
	} {
		for _, sig := range []os.Signal{syscall.SIGTERM, os.Interrupt} {
			cmd := exec.Command(program, args...)
			cmd.Dir = dir
			in, err := cmd.StdinPipe()
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			time.Sleep(80 * time.Millisecond)
			sent := time.Now()
			_ = cmd.Process.Signal(sig) // it may have ended by itself
			_ = cmd.Wait()              // its exit code tells
			assert.Less(t, time.Since(sent), patience, "%v", args)
			_ = in.Close()
			for _, name := range []string{"lent.xlsx", "x.yaml", "s.xlsx", "p.html"} {
				_ = os.Remove(filepath.Join(dir, name)) // where it was made in time
			}
		}
	}
	out, code = command(t, program, dir, nil, "history", "--check")
	assert.Zero(t, code, out)
	for _, next := range [][]string{{"compare", "aids.csv", "edited.csv", "--key", "k", "--title", "after"}, {"approve", "1", "--all"}} { // on the desk, and on the dossier
		out, code = command(t, program, dir, nil, next...)
		assert.Zero(t, code, out)
	}
	assert.Empty(t, leftovers(t, dir))
}

// leftovers lists what killed commands left and the next one should have cleared.
func leftovers(t *testing.T, dir string) (all []string) {
	require.NoError(t, filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		if name := e.Name(); strings.HasPrefix(name, ".draft-") || strings.HasSuffix(name, ".paletwin-new") && filepath.Dir(path) != dir {
			all = append(all, path)
		}
		return err
	}))
	return all
}

// Others' files: what belongs to somebody else is said before it becomes ours, and
// what may not be read or written is one line that names it.
func TestOthersFiles(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can be somebody else")
	}
	dir, err := os.MkdirTemp("", "others")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	bin, err := os.ReadFile(program)
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "paletwin"), bin, 0o755))
	desk, srv := filepath.Join(dir, "desk"), filepath.Join(dir, "srv")
	for _, d := range []string{desk, srv} {
		require.NoError(t, os.Mkdir(d, 0o755))
	}
	for name, text := range map[string]string{"aids.csv": oldRegister, "edited.csv": editedCopy} {
		require.NoError(t, os.WriteFile(filepath.Join(desk, name), []byte(text), 0o644))
	}
	require.NoError(t, os.Chown(desk, 65534, 65534))
	nobody := func(args ...string) (string, int) {
		cmd := exec.Command(filepath.Join(dir, "paletwin"), args...)
		cmd.Dir, cmd.Env = desk, []string{"NO_COLOR=1"}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		out, _ := cmd.CombinedOutput() // its exit code tells
		return string(out), cmd.ProcessState.ExitCode()
	}
	if _, code := nobody("--version"); code != 0 {
		t.Skip("nobody else reaches the temporary folder")
	}
	out, code := nobody("compare", "aids.csv", "edited.csv", "--key", "k")
	require.Zero(t, code, out)
	out, code = nobody("approve", "1", "--all", "--held")
	require.Zero(t, code, out)
	register := filepath.Join(srv, "register.csv")
	require.NoError(t, os.WriteFile(register, []byte(oldRegister), 0o600))
	out, code = nobody("apply", "1", "--to", register, "--yes")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "paletwin: "+srv+": permission denied\n")
	require.NoError(t, os.Chmod(srv, 0o777))
	out, code = nobody("apply", "1", "--to", register, "--yes")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "paletwin: "+register+": permission denied\n")
	require.NoError(t, os.Chmod(register, 0o666))
	out, code = nobody("apply", "1", "--to", register, "--yes", "--rehearse")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "belongs to root; written anew it belongs to you")
	out, code = nobody("apply", "1", "--to", register, "--yes")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "belongs to root; written anew it belongs to you")
}
