package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/table/officetest"
)

// inTmux runs a command in a terminal of 100 by 30 in a folder, and returns what gives tmux orders.
func inTmux(t *testing.T, dir, command string) func(args ...string) string {
	socket := filepath.Join(dir, "tmux")
	tmux := func(args ...string) string {
		out, err := exec.Command("tmux", append([]string{"-S", socket, "-f", "/dev/null"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	tmux("new-session", "-d", "-x", "100", "-y", "30", "-c", dir, "env TERM=screen-256color "+command+"; sleep 60")
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", socket, "kill-server").Run() }) // it may have ended
	return tmux
}

// The review in a real terminal: keys are typed, the screen is read, and what
// was decided is on disk although the window is killed.
func TestReviewInATerminal(t *testing.T) {
	officetest.Tool(t, "tmux", "tmux")
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../../internal/demo/data")))
	run := func(args ...string) string {
		cmd := exec.Command(program, args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	run("compare", "aids.csv", "autumn-round.csv")
	tmux := inTmux(t, dir, program+" review 0001")
	until := func(text string) string {
		var screen string
		for range 100 {
			if screen = tmux("capture-pane", "-p"); strings.Contains(screen, text) {
				return screen
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Fatalf("%q is not on the screen:\n%s", text, screen)
		return ""
	}
	screen := until("87 open · 0 approved · 6 held · 0 rejected = 93")
	assert.Contains(t, screen, "by finding")
	tmux("send-keys", "Right", "a")
	until("86 open · 1 approved")
	tmux("send-keys", "f")
	until("and so did row 55, which had D05")
	tmux("send-keys", "r")
	until("86 open · 1 approved · 5 held · 1 rejected = 93")
	tmux("resize-window", "-x", "80", "-y", "24")
	until("= 93")
	tmux("kill-server")
	assert.Contains(t, run("show", "0001", "--decision", "approve"), "1 approved")
	assert.Contains(t, run("show", "0001", "--decision", "reject"), "00265")
}
