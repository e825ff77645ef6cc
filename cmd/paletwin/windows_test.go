//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"
)

// The build for Windows plays the stories, too, where something runs it: .ci/windows, on Linux. PALETWIN_TEST_WINDOWS=required says
// that it must be there.

// forWindows builds the program for Windows into a folder of its own and returns that, or skips the test.
func forWindows(t *testing.T, tags string) (dir string) {
	if os.Getenv("PALETWIN_TEST_WINDOWS") != "required" {
		t.Skip("PALETWIN_TEST_WINDOWS=required runs this with .ci/windows")
	}
	dir = t.TempDir()
	t.Setenv("WINEDEBUG", "-all")
	t.Setenv("LC_ALL", "C.UTF-8")
	self, err := os.Executable()
	require.NoError(t, err)
	require.NoError(t, os.Symlink(self, filepath.Join(dir, "paletwin")))
	buildWindows(t, filepath.Join(dir, "paletwin.exe"), tags, ".")
	return dir
}

func buildWindows(t *testing.T, to, tags, of string) {
	build := exec.Command("go", "build", "-tags", tags, "-ldflags", "-s -w", "-o", to, of)
	build.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS=windows", "GOARCH=amd64")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// onWindows runs the program for Windows that is in dir in a folder, and returns what it said and its exit code.
func onWindows(t *testing.T, dir, in string, env []string, args ...string) (string, int) {
	out, err := os.CreateTemp(dir, "out")
	require.NoError(t, err)
	defer os.Remove(out.Name())
	cmd := exec.Command("wine", append([]string{filepath.Join(dir, "paletwin.exe")}, args...)...)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = in, append(os.Environ(), env...), out, out
	if err := cmd.Run(); cmd.ProcessState == nil {
		require.NoError(t, err)
	}
	b, err := os.ReadFile(out.Name())
	require.NoError(t, err)
	return string(b), cmd.ProcessState.ExitCode()
}

// TestStoriesOnWindows plays the stories with the build for Windows.
func TestStoriesOnWindows(t *testing.T) {
	dir := forWindows(t, "minimal")
	stories, err := filepath.Glob("testdata/stories/*.txtar")
	require.NoError(t, err)
	require.Greater(t, len(stories), 60)
	p := storyParams(t, dir)
	p.Dir, p.Files = "", stories
	setup := p.Setup
	p.Setup = func(e *testscript.Env) error {
		e.Setenv(windowsProgram, filepath.Join(dir, "paletwin.exe"))
		e.Setenv(windowsTemp, os.TempDir())
		for _, name := range []string{"WINEDEBUG", "WINEPREFIX", "LC_ALL"} {
			e.Setenv(name, os.Getenv(name))
		}
		return setup(e)
	}
	p.Condition = func(string) (bool, error) { return false, nil } // no accounts, and nothing of POSIX
	testscript.Run(t, p)
}

// The program for Windows is killed before its first, sixth, … file operation of an apply, some forty times; after each the register is
// whole, the next apply completes and the rollback gives the bytes of before, locks and temporary files that were left notwithstanding.
func TestKilledOnWindows(t *testing.T) {
	dir := forWindows(t, "minimal faults")
	start := t.TempDir()
	office(t, start)
	run := func(in string, env []string, args ...string) (string, int) {
		return onWindows(t, dir, in, env, args...)
	}
	// How many operations there are: the number of the last before which it can be killed.
	killedAt := func(n int) (in string, killed bool) {
		in = t.TempDir()
		again(t, start, in)
		out, code := run(in, []string{fmt.Sprintf("PALETWIN_KILL_AT=%d", n)}, "apply", "1", "--to", "register.csv", "--yes")
		if code == 0 {
			return in, false
		}
		require.Empty(t, out, "at %d it was not killed", n)
		return in, true
	}
	killed := 0
	for n := 1; ; n += 5 {
		in, was := killedAt(n)
		if !was {
			break
		}
		killed++
		require.Contains(t, []string{oldRegister, newRegister}, register(t, in), "at %d", n)
		out, code := run(in, nil, "apply", "1", "--to", "register.csv", "--yes", "--json")
		require.Zero(t, code, "at %d: %s", n, out)
		require.Equal(t, newRegister, register(t, in), "at %d", n)
		require.Equal(t, 4, doneOnce(t, in), "at %d: nothing twice, nothing lost", n)
		out, code = run(in, nil, "rollback", "1", "--apply", "--yes")
		require.Zero(t, code, "at %d: %s", n, out)
		require.Equal(t, oldRegister, register(t, in), "at %d", n)
		left, err := filepath.Glob(filepath.Join(in, ".register*"))
		require.NoError(t, err)
		require.Empty(t, left, "at %d", n)
	}
	t.Logf("killed at %d points", killed)
	require.GreaterOrEqual(t, killed, 40)
}

// A desk goes from Windows to Linux and back: what was made there is whole, proven and undone here, and the other way round.
func TestDesksGoBetweenSystems(t *testing.T) {
	dir := forWindows(t, "minimal")
	windows := func(in string, args ...string) (string, int) { return onWindows(t, dir, in, nil, args...) }
	linux := func(in string, args ...string) (string, int) { return command(t, program, in, nil, args...) }
	type system func(in string, args ...string) (string, int)
	for name, c := range map[string]struct{ makes, undoes system }{"from Windows": {windows, linux}, "to Windows": {linux, windows}} {
		t.Run(name, func(t *testing.T) {
			in := t.TempDir()
			for name, text := range map[string]string{"aids.csv": oldRegister, "edited.csv": editedCopy, "register.csv": oldRegister} {
				require.NoError(t, os.WriteFile(filepath.Join(in, name), []byte(text), 0o644))
			}
			does := func(who system, args ...string) string {
				out, code := who(in, args...)
				require.Zero(t, code, "%v: %s", args, out)
				return out
			}
			does(c.makes, "compare", "aids.csv", "edited.csv", "--key", "k", "--title", "Round")
			does(c.makes, "approve", "1", "--all", "--held")
			does(c.makes, "apply", "1", "--to", "register.csv", "--yes")
			require.Equal(t, newRegister, register(t, in))
			for _, f := range []string{"dossiers/0001-round/dossier.json", "dossiers/0001-round/runs/1/journal.jsonl", "dossiers/0001-round/decisions.jsonl", "dossiers/book.jsonl"} {
				b, err := os.ReadFile(filepath.Join(in, f))
				require.NoError(t, err)
				require.NotContains(t, string(b), `\\`, f) // what is kept has slashes
			}
			require.Contains(t, does(c.undoes, "history", "--check"), "whole")
			require.Contains(t, does(c.undoes, "history"), "4 done")
			require.Contains(t, does(c.undoes, "verify", "1", "register.csv"), "4 records as meant, and nothing else moved")
			does(c.undoes, "rollback", "1", "--to", "register.csv", "--other-target", "--other-machine")
			does(c.undoes, "approve", "2", "--all", "--held")
			does(c.undoes, "apply", "2", "--to", "register.csv", "--other-target", "--yes")
			require.Equal(t, oldRegister, register(t, in))
			require.Contains(t, does(c.makes, "history", "--other-machine"), "undone")
		})
	}
}

// A register that is open in another program is not written, and a file that is locked by one not read: both are said in words. A file
// that is read-only is left alone, too.
func TestOpenElsewhereOnWindows(t *testing.T) {
	dir := forWindows(t, "minimal")
	buildWindows(t, filepath.Join(dir, "holder.exe"), "", "./testdata/holder")
	hold := func(file, share string) (release func()) {
		cmd := exec.Command("wine", filepath.Join(dir, "holder.exe"), file, share)
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		said, err := os.CreateTemp(dir, "held")
		require.NoError(t, err)
		cmd.Stdout, cmd.Stderr = said, said
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool { b, _ := os.ReadFile(said.Name()); return strings.Contains(string(b), "held") }, 20*time.Second, 20*time.Millisecond)
		return func() { require.NoError(t, in.Close()); require.NoError(t, cmd.Wait()) }
	}
	in := t.TempDir()
	office(t, in)
	file := filepath.Join(in, "register.csv")
	for _, share := range []string{"read", "none"} {
		release := hold(file, share)
		out, code := onWindows(t, dir, in, nil, "apply", "1", "--to", "register.csv", "--yes")
		release()
		require.Equal(t, 3, code, "%s: %s", share, out)
		require.Contains(t, out, "register.csv: it is open in another program")
		require.Contains(t, out, "close it there")
		require.Equal(t, oldRegister, register(t, in))
		require.NoDirExists(t, filepath.Join(in, "dossiers/0001-edited/runs"))
		left, err := filepath.Glob(filepath.Join(in, ".register*"))
		require.NoError(t, err)
		require.Empty(t, left)
	}
	release := hold(filepath.Join(in, "edited.csv"), "none")
	out, code := onWindows(t, dir, in, nil, "compare", "aids.csv", "edited.csv", "--key", "k")
	release()
	require.Equal(t, 1, code, out)
	require.Regexp(t, `edited.csv.* it is open in another program`, out)
	require.NoError(t, os.Chmod(file, 0o444))
	out, code = onWindows(t, dir, in, nil, "apply", "1", "--to", "register.csv", "--yes")
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "read-only")
	require.NoError(t, os.Chmod(file, 0o644))
	out, code = onWindows(t, dir, in, nil, "apply", "1", "--to", "register.csv", "--yes")
	require.Zero(t, code, out)
	require.Equal(t, newRegister, register(t, in))
}

// Places on Windows: behind a drive letter, in a folder whose name is longer than programs of old could open, and what is printed of them.
func TestPlacesOnWindows(t *testing.T) {
	dir := forWindows(t, "minimal")
	in, long := t.TempDir(), t.TempDir()
	office(t, in)
	for range 5 {
		long = filepath.Join(long, strings.Repeat("harbour-", 9))
	}
	require.NoError(t, os.MkdirAll(long, 0o755))
	require.Greater(t, len(long), 320)
	require.NoError(t, os.CopyFS(long, os.DirFS(in)))
	require.NoError(t, os.Chmod(filepath.Join(long, "desk.yaml"), 0o600))
	does := func(in string, args ...string) string {
		out, code := onWindows(t, dir, in, nil, args...)
		require.Zero(t, code, "%v: %s", args, out)
		return out
	}
	drive := func(path string) string { return `Z:` + strings.ReplaceAll(path, "/", `\`) }
	out := does(in, "apply", "1", "--to", drive(in)+`\register.csv`, "--yes")
	require.Equal(t, newRegister, register(t, in))
	require.Contains(t, out, `dossiers\0001-edited\runs\1\backup.csv`)
	require.NotContains(t, out, `/runs/`)
	does(in, "layout", "draft", "aids.csv", "--record-set", "nul")
	require.FileExists(t, filepath.Join(in, "layouts", "nul-1.yaml"))

	there := t.TempDir()
	desk := drive(long)
	does(there, "apply", "1", "--desk", desk, "--to", desk+`\register.csv`, "--yes")
	require.Equal(t, newRegister, register(t, long))
	require.Contains(t, does(there, "history", "--desk", desk), "4 done")
	does(there, "rollback", "1", "--desk", desk, "--apply", "--yes")
	require.Equal(t, oldRegister, register(t, long))
	does(there, "compare", desk+`\aids.csv`, desk+`\edited.csv`, "--key", "k", "--desk", desk)
	require.DirExists(t, filepath.Join(long, "dossiers", "0003-edited"))
}
