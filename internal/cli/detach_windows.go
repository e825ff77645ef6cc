package cli

import (
	"os/exec"
	"syscall"
)

// setApart gives a process a group of its own without a console, so that it
// outlives the one it was started from. The flags are DETACHED_PROCESS and
// CREATE_NEW_PROCESS_GROUP.
func setApart(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: 0x8 | 0x200} }
