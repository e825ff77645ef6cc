//go:build faults

package cli

import (
	"os"
	"strconv"

	"paletwin/internal/disk"
	"paletwin/internal/disk/faulty"
)

// fileSystem is one that kills the process before its N-th operation, where
// PALETWIN_KILL_AT says N. It is built into the program for tests alone.
func fileSystem() disk.FS {
	at, err := strconv.Atoi(os.Getenv("PALETWIN_KILL_AT"))
	if err != nil {
		return disk.OS{}
	}
	return &faulty.FS{FS: disk.OS{}, Before: func(n int, _ string) {
		if n == at {
			if p, err := os.FindProcess(os.Getpid()); err == nil {
				_ = p.Kill()
			}
			select {}
		}
	}}
}
