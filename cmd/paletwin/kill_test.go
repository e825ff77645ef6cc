//go:build unix

package main

import (
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/thorough"
)

const (
	oldRegister = "k,v,w\n1,a,x\n2,b,x\n3,\"c\",x\n\n4,d,x\n5,e,x\n"
	editedCopy  = "k,v,w\n1,A,x\n2,b,x\n3,C,x\n4,d,x\n6,f,y\n"
	newRegister = "k,v,w\n1,A,x\n2,b,x\n3,\"C\",x\n\n4,d,x\n6,f,y\n"
)

// office makes a folder with a register and an approved dossier.
func office(t *testing.T, dir string) {
	for name, text := range map[string]string{"aids.csv": oldRegister, "edited.csv": editedCopy, "register.csv": oldRegister} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	for _, args := range [][]string{{"compare", "aids.csv", "edited.csv", "--key", "k"}, {"approve", "1", "--all", "--held"}} {
		out, code := command(t, program, dir, nil, args...)
		require.Zero(t, code, out)
	}
}

func register(t *testing.T, dir string) string {
	b, err := os.ReadFile(filepath.Join(dir, "register.csv"))
	require.NoError(t, err)
	return string(b)
}

// TestKilledAtEveryOperation kills the real program (SIGKILL) before its
// first, second, third … file operation of an apply. After each the register
// is whole, old or new; the next apply completes; the rollback gives the
// bytes of before.
func TestKilledAtEveryOperation(t *testing.T) {
	t.Parallel()
	bin := faultyProgram(t)
	start := t.TempDir()
	office(t, start)
	killed := 0
	first, step := thorough.Every(t, 5)
	for n := first; ; n += step {
		dir := t.TempDir()
		require.NoError(t, os.CopyFS(dir, os.DirFS(start)))
		require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
		out, code := command(t, bin, dir, []string{fmt.Sprintf("PALETWIN_KILL_AT=%d", n)}, "apply", "1", "--to", "register.csv", "--yes")
		if code == 0 {
			break
		}
		require.Equal(t, -1, code, out) // by a signal
		killed++
		require.Contains(t, []string{oldRegister, newRegister}, register(t, dir), "at %d", n)
		out, code = command(t, program, dir, nil, "apply", "1", "--to", "register.csv", "--yes", "--json")
		require.Zero(t, code, "at %d: %s", n, out)
		require.Equal(t, newRegister, register(t, dir), "at %d", n)
		require.Equal(t, 4, doneOnce(t, dir), "at %d: nothing twice, nothing lost", n)
		out, code = command(t, program, dir, nil, "rollback", "1", "--apply", "--yes")
		require.Zero(t, code, "at %d: %s", n, out)
		require.Equal(t, oldRegister, register(t, dir), "at %d", n)
		left, err := filepath.Glob(filepath.Join(dir, ".register*"))
		require.NoError(t, err)
		require.Empty(t, left)
	}
	t.Logf("killed at %d points", killed)
	assert.Greater(t, killed*step, 60)
}

// faultyProgram builds the program so that it can be made to kill itself.
func faultyProgram(t *testing.T) string {
	require.NoError(t, buildFaulty())
	return filepath.Join(filepath.Dir(program), faultyName)
}

const faultyName = "paletwin-faults"

var buildFaulty = sync.OnceValue(func() error {
	build := exec.Command("go", "build", "-tags", "faults", "-ldflags", "-s -w", "-o", filepath.Join(filepath.Dir(program), faultyName), ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return err
})

// A hand-off, and then the collecting of its answer, is killed before its
// first, second, third … file operation. The next command makes the files
// whole, or takes the answer in; nothing is handed over twice.
func TestHandoffKilledAtEveryOperation(t *testing.T) {
	t.Parallel()
	bin := faultyProgram(t)
	start := t.TempDir()
	office(t, start)
	require.NoError(t, os.WriteFile(filepath.Join(start, "result.csv"), []byte("k,result\n1,ok\n3,error\n5,ok\n6,ok\n"), 0o644))
	handoff := []string{"handoff", "1", "--current", "register.csv"}
	collect := []string{"handoff", "collect", "1", "result.csv"}
	whole := t.TempDir()
	again(t, start, whole)
	out, code := command(t, program, whole, nil, handoff...)
	require.Zero(t, code, out)
	for name, c := range map[string]struct {
		before func(dir string)
		args   []string
		ends   int
	}{"handoff": {func(string) {}, handoff, 0}, "collect": {func(dir string) { command(t, program, dir, nil, handoff...) }, collect, 4}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			killed := 0
			first, step := thorough.Every(t, 6)
			for n := first; ; n += step {
				dir := t.TempDir()
				again(t, start, dir)
				c.before(dir)
				out, code := command(t, bin, dir, []string{fmt.Sprintf("PALETWIN_KILL_AT=%d", n)}, c.args...)
				if code == c.ends {
					break
				}
				require.Equal(t, -1, code, out) // by a signal
				killed++
				if name == "handoff" {
					out, code = command(t, program, dir, nil, handoff...)
					require.Zero(t, code, "at %d: %s", n, out)
				}
				require.Equal(t, tree(t, whole), tree(t, dir), "at %d", n)
				out, code = command(t, program, dir, nil, collect...)
				require.Equal(t, 4, code, "at %d: %s", n, out)
				require.Regexp(t, `done +3`, out, "at %d", n)
				require.Regexp(t, `refused +1`, out, "at %d", n)
				out, code = command(t, program, dir, nil, "history", "--check")
				require.Zero(t, code, "at %d: %s", n, out)
				out, code = command(t, program, dir, nil, "history")
				require.Zero(t, code, out)
				require.Contains(t, out, "3 done, 1 refused", "at %d", n)
			}
			t.Logf("killed at %d points", killed)
			assert.Greater(t, killed*step, 15)
		})
	}
}

// again copies an office.
func again(t *testing.T, start, dir string) {
	require.NoError(t, os.CopyFS(dir, os.DirFS(start)))
	require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
}

// tree is what a hand-off made: its files by their names.
func tree(t *testing.T, dir string) map[string]string {
	files := map[string]string{}
	loads := filepath.Join(dir, "dossiers/0001-edited/load")
	require.NoError(t, filepath.WalkDir(loads, func(name string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.Contains(e.Name(), "refused.xlsx") {
			return err
		}
		b, err := os.ReadFile(name)
		files[strings.TrimPrefix(name, loads)] = string(b)
		return err
	}))
	return files
}

// doneOnce counts the records that all outcome files together say are done,
// and fails if one is done twice.
func doneOnce(t *testing.T, dir string) int {
	files, err := filepath.Glob(filepath.Join(dir, "dossiers/0001-*/runs/*/outcome.csv"))
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, name := range files {
		f, err := os.Open(name)
		require.NoError(t, err)
		rows, err := csv.NewReader(f).ReadAll()
		require.NoError(t, err)
		require.NoError(t, f.Close())
		for _, row := range rows[1:] {
			if row[3] == "done" {
				assert.False(t, seen[row[0]+row[1]], "%s %s twice", row[0], row[1])
				seen[row[0]+row[1]] = true
			}
		}
	}
	return len(seen)
}

// large makes a register of many records and its edited copy.
func large(t *testing.T, dir string, records int) {
	var a, b strings.Builder
	a.WriteString("k,v,w\n")
	b.WriteString("k,v,w\n")
	for i := range records {
		fmt.Fprintf(&a, "%07d,value %d,8.0\n", i, i)
		fmt.Fprintf(&b, "%07d,value %d,%s\n", i, i, []string{"8.0", "9.0"}[i%2])
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "aids.csv"), []byte(a.String()), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "edited.csv"), []byte(b.String()), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "register.csv"), []byte(a.String()), 0o644))
}

// Ctrl-C, early and late, in a comparison and in a run: nothing half-written
// is left, and the same command again goes through.
func TestInterrupted(t *testing.T) {
	dir := t.TempDir()
	large(t, dir, thorough.Few(200_000, 50_000))
	before := register(t, dir)
	interrupted := 0
	for _, wait := range []time.Duration{0, 5, 20, 60, 120, 200} {
		interrupted += interrupt(t, dir, wait*time.Millisecond, "compare", "aids.csv", "edited.csv", "--key", "k")
		drafts, err := filepath.Glob(filepath.Join(dir, "dossiers/.draft*"))
		require.NoError(t, err)
		assert.Empty(t, drafts)
	}
	assert.Positive(t, interrupted)
	out, code := command(t, program, dir, nil, "compare", "aids.csv", "edited.csv", "--key", "k", "--title", "whole")
	require.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "approve", "whole", "--all")
	require.Zero(t, code, out)
	for _, wait := range []time.Duration{0, 50, 150, 300, 500} {
		interrupt(t, dir, wait*time.Millisecond, "apply", "whole", "--to", "register.csv", "--yes")
	}
	out, code = command(t, program, dir, nil, "apply", "whole", "--to", "register.csv", "--yes")
	require.Zero(t, code, out)
	assert.Contains(t, register(t, dir), "\n0000001,value 1,9.0\n")
	out, code = command(t, program, dir, nil, "rollback", "whole", "--apply", "--yes")
	require.Zero(t, code, out)
	assert.Equal(t, before, register(t, dir))
}

// interrupt runs a command, sends it an interrupt after a while, and returns
// 1 if that reached it.
func interrupt(t *testing.T, dir string, wait time.Duration, args ...string) int {
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	require.NoError(t, cmd.Start())
	time.Sleep(wait)
	_ = cmd.Process.Signal(syscall.SIGINT) // it may have ended by itself
	err := cmd.Wait()
	if err == nil {
		return 0
	}
	return 1
}

// Two processes, one dossier or one target: the second is told, and nothing
// is lost.
func TestTwoProcesses(t *testing.T) {
	dir := t.TempDir()
	large(t, dir, thorough.Few(100_000, 30_000))
	for _, title := range []string{"one", "two"} {
		out, code := command(t, program, dir, nil, "compare", "aids.csv", "edited.csv", "--key", "k", "--title", title)
		require.Zero(t, code, out)
		out, code = command(t, program, dir, nil, "approve", title, "--all")
		require.Zero(t, code, out)
	}
	codes := make(chan int, 4)
	for _, title := range []string{"one", "two", "one", "two"} {
		go func() {
			cmd := exec.Command(program, "apply", title, "--to", "register.csv", "--yes")
			cmd.Dir = dir
			_ = cmd.Run() // its exit code tells
			codes <- cmd.ProcessState.ExitCode()
		}()
	}
	ok := 0
	for range 4 {
		if code := <-codes; code == 0 {
			ok++
		} else {
			assert.Contains(t, []int{1, 3}, code)
		}
	}
	assert.Positive(t, ok)
	for _, title := range []string{"one", "two"} {
		out, code := command(t, program, dir, nil, "apply", title, "--to", "register.csv", "--yes", "--other-target")
		require.Zero(t, code, out)
	}
	want, err := os.ReadFile(filepath.Join(dir, "edited.csv"))
	require.NoError(t, err)
	assert.Equal(t, string(want), register(t, dir))
	out, code := command(t, program, dir, nil, "history", "--check")
	assert.Zero(t, code, out)
}

// A full disk: the register stays as it was, and says so in words.
func TestDiskFull(t *testing.T) {
	dir := t.TempDir()
	office(t, dir)
	// A limit on the size of files stands in for a disk without room.
	cmd := exec.Command("sh", "-c", "trap '' XFSZ; ulimit -f 0; exec "+program+" apply 1 --to register.csv --yes")
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "paletwin:")
	assert.Equal(t, oldRegister, register(t, dir))
	text, code := command(t, program, dir, nil, "apply", "1", "--to", "register.csv", "--yes")
	require.Zero(t, code, text)
	assert.Equal(t, newRegister, register(t, dir))
}

// A detached run goes on by itself; its progress and outcome can be asked
// for; one that was killed is recognised as dead and finished by apply.
func TestDetached(t *testing.T) {
	dir := t.TempDir()
	large(t, dir, 20_000)
	out, code := command(t, program, dir, nil, "compare", "aids.csv", "edited.csv", "--key", "k")
	require.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "approve", "1", "--all")
	require.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "apply", "1", "--to", "register.csv", "--detach")
	assert.Equal(t, 2, code, out)
	out, code = command(t, program, dir, nil, "apply", "1", "--to", "register.csv", "--yes", "--with", "batch=2500", "--with", "pause=300ms", "--detach")
	require.Zero(t, code, out)
	assert.Contains(t, out, "run 1 of 0001 goes on by itself")
	out, code = command(t, program, dir, nil, "history")
	require.Zero(t, code, out)
	assert.Contains(t, out, "running")
	out, code = command(t, program, dir, nil, "history", "1", "--run", "1", "--follow")
	require.Zero(t, code, out)
	assert.Contains(t, out, "10000 done")
	out, code = command(t, program, dir, nil, "verify", "1")
	assert.Zero(t, code, out)

	out, code = command(t, program, dir, nil, "rollback", "1")
	require.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "approve", "2", "--all")
	require.Zero(t, code, out)
	cmd := exec.Command(program, "apply", "2", "--yes", "--with", "batch=2500", "--with", "pause=1m")
	cmd.Dir = dir
	require.NoError(t, cmd.Start())
	journal := filepath.Join(dir, "dossiers/0002-rollback-of-0001/runs/1/journal.jsonl")
	require.Eventually(t, func() bool {
		b, err := os.ReadFile(journal)
		return err == nil && strings.Contains(string(b), `"outcomes"`)
	}, 20*time.Second, 10*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	require.Error(t, cmd.Wait())
	out, code = command(t, program, dir, nil, "history", "2", "--run", "1", "--follow")
	require.Equal(t, 1, code, out)
	assert.Contains(t, out, "interrupted: no process is working on it")
	out, code = command(t, program, dir, nil, "apply", "2", "--yes")
	require.Zero(t, code, out)
	assert.Contains(t, out, "run 1 was interrupted; it is finished now")
	aids, err := os.ReadFile(filepath.Join(dir, "aids.csv"))
	require.NoError(t, err)
	assert.Equal(t, string(aids), register(t, dir))
}

// Every command is killed before file operations at random. Whatever it was
// about: the register is whole, no dossier is called damaged, and the same
// command does what it is for when it is given again.
func TestRandomKillsOfEveryCommand(t *testing.T) {
	t.Parallel()
	bin := faultyProgram(t)
	seed := uint64(time.Now().UnixNano())
	if n, err := strconv.ParseUint(os.Getenv("PALETWIN_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("PALETWIN_SEED=%d", seed)
	r := rand.New(rand.NewPCG(seed, 2))
	start := t.TempDir()
	office(t, start)
	require.NoError(t, os.WriteFile(filepath.Join(start, "result.csv"), []byte("k,result\n1,ok\n3,error\n5,ok\n6,ok\n"), 0o644))
	apply := []string{"apply", "1", "--to", "register.csv", "--yes"}
	handoff := []string{"handoff", "1", "--current", "register.csv", "--leave-open"}
	killed := 0
	for _, c := range []struct {
		name   string
		before [][]string
		args   []string
		ends   []int
	}{
		{"compare", nil, []string{"compare", "aids.csv", "edited.csv", "--key", "k"}, []int{0}},
		{"compare into", nil, []string{"compare", "aids.csv", "edited.csv", "--key", "k", "--into", "1"}, []int{0}},
		{"derive", nil, []string{"derive", "aids.csv", "--key", "k", "--set", `v = "z"`}, []int{0}},
		{"derive to a file", nil, []string{"derive", "aids.csv", "--key", "k", "--set", `v = "z"`, "-o", "out.csv"}, []int{0, 2}},
		{"lend", nil, []string{"lend", "aids.csv", "--key", "k", "-o", "lent.xlsx"}, []int{0, 2}},
		{"layout draft", nil, []string{"layout", "draft", "aids.csv"}, []int{0, 2}},
		{"approve", nil, []string{"approve", "1", "--act", "add"}, []int{0}},
		{"reject", nil, []string{"reject", "1", "--act", "delete", "--held", "--decided"}, []int{0}},
		{"review sheet", nil, []string{"review", "sheet", "1", "-o", "sheet.xlsx"}, []int{0, 2}},
		{"apply a trial", nil, []string{"apply", "1", "--to", "register.csv", "--yes", "--first", "2"}, []int{0}},
		{"apply", nil, apply, []int{0}},
		{"verify", [][]string{apply}, []string{"verify", "1"}, []int{0}},
		{"rollback", [][]string{apply}, []string{"rollback", "1"}, []int{0}},
		{"rollback and apply", [][]string{apply}, []string{"rollback", "1", "--apply", "--yes"}, []int{0, 3}},
		{"restore", [][]string{apply}, []string{"restore", "1"}, []int{0}},
		{"hand off", nil, handoff, []int{0}},
		{"collect", [][]string{handoff}, []string{"handoff", "collect", "1", "result.csv"}, []int{4}},
		{"history", [][]string{apply}, []string{"history", "--record", "1"}, []int{0}},
	} {
		t.Run(c.name, func(t *testing.T) {
			for range thorough.Few(8, 2) {
				dir := t.TempDir()
				again(t, start, dir)
				for _, args := range c.before {
					out, code := command(t, program, dir, nil, args...)
					require.Zero(t, code, out)
				}
				n := 1 + r.IntN(1+r.IntN(70))
				out, code := command(t, bin, dir, []string{fmt.Sprintf("PALETWIN_KILL_AT=%d", n)}, c.args...)
				if code != -1 {
					require.Contains(t, c.ends, code, "%d: %s", n, out)
				} else {
					killed++
					if drafts, _ := filepath.Glob(filepath.Join(dir, "dossiers/.draft-*")); len(drafts) > 0 { // - is not the one before
						out, code := command(t, program, dir, nil, "show", "-")
						require.Equal(t, 3, code, "at %d: %s", n, out)
						require.Contains(t, out, "the last attempt to make a dossier made none", "at %d", n)
					}
				}
				require.Contains(t, []string{oldRegister, newRegister, "k,v,w\n1,A,x\n2,b,x\n3,\"C\",x\n\n4,d,x\n5,e,x\n"}, register(t, dir), "at %d", n)
				out, check := command(t, program, dir, nil, "history", "--check")
				require.Zero(t, check, "at %d: %s", n, out)
				out, code = command(t, program, dir, nil, c.args...)
				require.Contains(t, c.ends, code, "at %d, again: %s", n, out)
				out, check = command(t, program, dir, nil, "history", "--check")
				require.Zero(t, check, "at %d, again: %s", n, out)
				out, code = command(t, program, dir, nil, "history")
				require.Zero(t, code, "at %d: %s", n, out)
				require.Empty(t, leftovers(t, dir), "at %d", n)
				switch c.name {
				case "apply":
					require.Equal(t, newRegister, register(t, dir))
				case "rollback and apply":
					if code == 0 {
						require.Equal(t, oldRegister, register(t, dir), "at %d", n)
					}
				}
			}
		})
	}
	t.Logf("killed %d times", killed)
	assert.Greater(t, killed, 25)
}
