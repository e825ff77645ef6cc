package main

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// onTerminal runs a command whose input and outputs are a terminal of 100 columns, and returns what it was sent.
func onTerminal(t testing.TB, bin, dir string, env []string, args ...string) (out string, code int) {
	t.Helper()
	return answering(t, bin, dir, env, nil, args...)
}

// answering is onTerminal with somebody who types answers, one at each question; then q.
func answering(t testing.TB, bin, dir string, env []string, answers func(asked string) string, args ...string) (out string, code int) {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	require.NoError(t, err)
	defer master.Close()
	var n int
	control := func(do func(fd int) error) {
		c, err := master.SyscallConn()
		require.NoError(t, err)
		require.NoError(t, c.Control(func(fd uintptr) { err = do(int(fd)) }))
		require.NoError(t, err)
	}
	control(func(fd int) error { return unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0) })
	control(func(fd int) (err error) { n, err = unix.IoctlGetInt(fd, unix.TIOCGPTN); return err })
	control(func(fd int) error { return unix.IoctlSetWinsize(fd, unix.TIOCSWINSZ, &unix.Winsize{Row: 30, Col: 100}) })
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	require.NoError(t, err)
	cmd := exec.Command(bin, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(t, cmd.Start())
	_ = slave.Close()
	said := make(chan string, 1)
	go func() {
		var b strings.Builder
		buf := make([]byte, 64<<10)
		for {
			n, err := master.Read(buf)
			b.Write(buf[:n])
			if asked := b.String(); answers != nil && (strings.HasSuffix(asked, "[q]uit ") || strings.HasSuffix(asked, "[y/N] ")) {
				_, _ = master.WriteString(answers(asked[strings.LastIndex(strings.TrimRight(asked, "\r\n"), "\n")+1:]) + "\n")
			}
			if err != nil { // the other end is closed
				said <- b.String()
				return
			}
		}
	}()
	hung := time.AfterFunc(time.Minute, func() { _ = cmd.Process.Kill() })
	err = cmd.Wait()
	require.True(t, hung.Stop(), "it waits for something: %q", args)
	if err != nil {
		require.IsType(t, &exec.ExitError{}, err)
	}
	return strings.ReplaceAll(<-said, "\r\n", "\n"), cmd.ProcessState.ExitCode()
}
