//go:build unix && !linux

package main

import "testing"

// onTerminal runs a command without a terminal, where none is made.
func onTerminal(t testing.TB, bin, dir string, env []string, args ...string) (out string, code int) {
	return command(t, bin, dir, env, args...)
}
