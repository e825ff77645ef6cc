//go:build unix

package cli

import (
	"os/exec"
	"syscall"
)

// setApart gives a process a session of its own, so that it outlives the
// terminal it was started from.
func setApart(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }
