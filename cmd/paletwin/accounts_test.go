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
	"syscall"

	"github.com/rogpeppe/go-internal/testscript"
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

// as is the story command "as ACCOUNT CODE COMMAND …": an account runs a command, which ends with a code. Its home is $WORK/home-ACCOUNT.
func as(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 3 {
		ts.Fatalf("usage: as ACCOUNT CODE COMMAND …")
	}
	u, err := user.Lookup(args[0])
	ts.Check(err)
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	ts.Check(err)
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	ts.Check(err)
	ids, err := u.GroupIds()
	ts.Check(err)
	var groups []uint32
	for _, id := range ids {
		n, err := strconv.ParseUint(id, 10, 32)
		ts.Check(err)
		groups = append(groups, uint32(n))
	}
	work := ts.Getenv("WORK")
	for _, dir := range []string{work, filepath.Dir(work), filepath.Dir(program)} { // which were this process's alone
		ts.Check(os.Chmod(dir, 0o755))
	}
	home := filepath.Join(work, "home-"+args[0])
	ts.Check(os.MkdirAll(home, 0o700))
	ts.Check(os.Chown(home, int(uid), int(gid)))
	name, err := exec.LookPath(args[2])
	if args[2] == "paletwin" {
		name, err = program, nil
	}
	ts.Check(err)
	cmd := exec.Command(name, args[3:]...)
	cmd.Dir = ts.MkAbs(".")
	cmd.Env = []string{"HOME=" + home, "PATH=" + ts.Getenv("PATH"), "NO_COLOR=1", "USER=root", "LOGNAME=root"}
	cmd.Env = append(cmd.Env, strings.Fields(ts.Getenv("WITH"))...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid), Groups: groups}}
	cmd.Stdout, cmd.Stderr = ts.Stdout(), ts.Stderr()
	err = cmd.Run()
	if got := strconv.Itoa(cmd.ProcessState.ExitCode()); got != args[1] {
		ts.Fatalf("%s ended with %s instead of %s: %v", strings.Join(args[2:], " "), got, args[1], err)
	}
}
