//go:build unix

package main

import (
	"syscall"
	"time"
)

// used is the processor time of this process.
func used() time.Duration {
	var u syscall.Rusage
	must(syscall.Getrusage(syscall.RUSAGE_SELF, &u))
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
