//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"paletwin/core/table/officetest"
)

// TestHostileTextsInTheReview goes through a dossier of hostile texts in a real terminal: nothing on its screens is obeyed or hidden, the
// window's title is the program's, and the dossier's title is seen in it.
func TestHostileTextsInTheReview(t *testing.T) {
	officetest.Tool(t, "tmux", "tmux")
	dir := t.TempDir()
	var s, e strings.Builder
	s.WriteString("k,name,\"h\x1b[31m\u202eh\"\n")
	e.WriteString("k,name,\"h\x1b[31m\u202eh\"\n")
	for i, text := range hostile {
		cell := `"` + strings.ReplaceAll(strings.ReplaceAll(text, "\x00", "0"), `"`, `""`) + `"`
		fmt.Fprintf(&s, "%d,%s,x\n", i, cell)
		fmt.Fprintf(&e, "%d,%s,%s\n", i, cell, cell)
	}
	for name, text := range map[string]string{"s.csv": s.String(), "e.csv": e.String()} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(strings.ToValidUTF8(text, "?")), 0o600))
	}
	out, code := command(t, program, dir, nil, "compare", "s.csv", "e.csv", "--key", "k", "--title", "round \x1b]0;taken\a\u202e", "--with", "slips=off")
	require.Zero(t, code, out)
	tmux := inTmux(t, dir, program+" review 0001")
	screen := ""
	for range 100 {
		if screen = tmux("capture-pane", "-p"); strings.Contains(screen, "= ") && strings.Contains(screen, "open") {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.Contains(t, screen, "open")
	look := func(after string) {
		screen := tmux("capture-pane", "-p")
		require.Empty(t, hidden(screen), "after %s:\n%q", after, screen)
		title := tmux("display-message", "-p", "#{pane_title}")
		require.NotContains(t, title, "taken\n", "the dossier's title took the window's")
		require.Empty(t, hidden(title), "%q", title)
	}
	look("the start")
	for _, keys := range []string{"Right", "Enter", "Down", "Down", "a", "PageDown", "Right", "Tab", "/", "x", "Enter", "Escape", "?", "Escape", "Left", "n", "Escape"} {
		tmux("send-keys", keys)
		time.Sleep(120 * time.Millisecond)
		look(keys)
	}
	tmux("send-keys", "Right")
	for i := range len(hostile) {
		tmux("send-keys", "Down")
		if i%3 == 0 {
			time.Sleep(60 * time.Millisecond)
			look(fmt.Sprint("Down ", i))
		}
	}
}
