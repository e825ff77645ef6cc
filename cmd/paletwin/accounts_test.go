//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The accounts that .ci/accounts makes: the first two are in the group ptw-harbour.
var testAccounts = []string{"ptw-mairead", "ptw-lina", "ptw-guest"}

// accounts reports whether stories may work as several accounts: as root, where these are there. PALETWIN_TEST_ACCOUNTS=required has them fail
// where they may not.
func accounts() (bool, error) {
	for _, name := range testAccounts {
		if _, err := user.Lookup(name); err != nil || os.Getuid() != 0 {
			if os.Getenv("PALETWIN_TEST_ACCOUNTS") == "required" {
				return false, fmt.Errorf("the account %s is not there, or this is not root: .ci/accounts", name)
			}
			return false, nil
		}
	}
	return true, nil
}

// credential is what a process of an account runs with.
func credential(name string) (*syscall.Credential, error) {
	u, err := user.Lookup(name)
	if err != nil {
		return nil, err
	}
	ids, err := u.GroupIds()
	if err != nil {
		return nil, err
	}
	var all []uint32
	for _, id := range append([]string{u.Uid, u.Gid}, ids...) {
		n, err := strconv.ParseUint(id, 10, 32)
		if err != nil {
			return nil, err
		}
		all = append(all, uint32(n))
	}
	return &syscall.Credential{Uid: all[0], Gid: all[1], Groups: all[2:]}, nil
}

// as is the story command "as ACCOUNT CODE COMMAND …": an account runs a command, which ends with a code. Its home is $WORK/home-ACCOUNT.
func as(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 3 {
		ts.Fatalf("usage: as ACCOUNT CODE COMMAND …")
	}
	who, err := credential(args[0])
	ts.Check(err)
	work := ts.Getenv("WORK")
	for _, dir := range []string{work, filepath.Dir(work), filepath.Dir(program)} { // which were this process's alone
		ts.Check(os.Chmod(dir, 0o755))
	}
	home := filepath.Join(work, "home-"+args[0])
	ts.Check(os.MkdirAll(home, 0o700))
	ts.Check(os.Chown(home, int(who.Uid), int(who.Gid)))
	name, err := exec.LookPath(args[2])
	if args[2] == "paletwin" {
		name, err = program, nil
	}
	ts.Check(err)
	cmd := exec.Command(name, args[3:]...)
	cmd.Dir = ts.MkAbs(".")
	cmd.Env = []string{"HOME=" + home, "PATH=" + ts.Getenv("PATH"), "NO_COLOR=1", "USER=root", "LOGNAME=root"}
	cmd.Env = append(cmd.Env, strings.Fields(ts.Getenv("WITH"))...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	cmd.Stdout, cmd.Stderr = ts.Stdout(), ts.Stderr()
	err = cmd.Run()
	if got := strconv.Itoa(cmd.ProcessState.ExitCode()); got != args[1] {
		ts.Fatalf("%s ended with %s instead of %s: %v", strings.Join(args[2:], " "), got, args[1], err)
	}
}

// TestTwoAccountsAtOnce: two of a group work on one desk at the same moment, and neither is in the other's way, whatever their umask.
func TestTwoAccountsAtOnce(t *testing.T) {
	there, err := accounts()
	require.NoError(t, err)
	if !there {
		t.Skip("needs root and the accounts of .ci/accounts")
	}
	top, err := os.MkdirTemp("", "paletwin-shared-")
	require.NoError(t, err)
	defer os.RemoveAll(top)
	dir := filepath.Join(top, "desk")
	require.NoError(t, os.Mkdir(dir, 0o755))
	group, err := user.LookupGroup("ptw-harbour")
	require.NoError(t, err)
	gid, err := strconv.Atoi(group.Gid)
	require.NoError(t, err)
	require.NoError(t, os.Chown(dir, 0, gid))
	require.NoError(t, os.Chmod(dir, 0o770|os.ModeSetgid))
	for _, open := range []string{top, filepath.Dir(program)} {
		require.NoError(t, os.Chmod(open, 0o755))
	}
	for name, text := range map[string]string{"aids.csv": oldRegister, "edited.csv": editedCopy, "desk.yaml": "shared: ptw-harbour\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	run := func(account string, args ...string) (string, int) {
		who, err := credential(account)
		if err != nil {
			return err.Error(), -1
		}
		cmd := exec.Command("sh", append([]string{"-c", `umask 077; exec "$0" "$@"`, program}, args...)...)
		cmd.Dir, cmd.Env, cmd.SysProcAttr = dir, []string{"HOME=/nonexistent", "PATH=" + os.Getenv("PATH")}, &syscall.SysProcAttr{Credential: who}
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	const each = 12
	var wg sync.WaitGroup
	for _, account := range testAccounts[:2] {
		for i := range each {
			wg.Go(func() {
				out, code := run(account, "compare", "aids.csv", "edited.csv", "--key", "k", "--title", fmt.Sprint(account, i))
				assert.Zero(t, code, out)
			})
		}
	}
	wg.Wait()
	for n := range 2 * each {
		wg.Go(func() {
			out, code := run(testAccounts[n%2], "approve", fmt.Sprint(n+1), "--all", "--held")
			assert.Zero(t, code, out)
		})
	}
	wg.Wait()
	out, code := run(testAccounts[1], "history", "--check")
	assert.Zero(t, code, out)
	assert.Equal(t, 2*each, strings.Count(out, "whole"))
}
