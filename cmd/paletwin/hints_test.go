package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every hint that a command of a story prints is run where it stands, and put back: it leads somewhere, and ends neither with 1 nor with
// 2. What is not there yet (a file that comes back, a name) stands behind words: "when it is back: paletwin …".

// failedHint is a hint that leads nowhere.
type failedHint struct{ Story, After, Hint, Said string }

// The variables by which a test binary that is called paletwin knows what to do.
const (
	hintsOf  = "PALETWIN_TEST_HINTS"   // the file of what failed
	hintsRun = "PALETWIN_TEST_PROGRAM" // the program itself
)

func TestHintsOfStories(t *testing.T) {
	if testing.Short() {
		t.Skip("runs every story again, with all of its hints")
	}
	self, err := os.Executable()
	require.NoError(t, err)
	bin := t.TempDir()
	require.NoError(t, os.Symlink(self, filepath.Join(bin, "paletwin")))
	failed := filepath.Join(t.TempDir(), "failed")
	stories, err := filepath.Glob("testdata/stories/*.txtar")
	require.NoError(t, err)
	var still []string // where nothing runs beside the story, and nobody else works in its folder
	for _, s := range stories {
		b, err := os.ReadFile(s)
		require.NoError(t, err)
		if !regexp.MustCompile(`(?m)^(standin|as|elsewhere) |\[accounts\]|^!? ?exec .*&(\w+&)?$`).Match(b) {
			still = append(still, s)
		}
	}
	require.Greater(t, len(still), 40)
	p := storyParams(t, bin)
	p.Dir, p.Files = "", still
	setup := p.Setup
	p.Setup = func(e *testscript.Env) error {
		e.Setenv(hintsOf, failed)
		e.Setenv(hintsRun, program)
		return setup(e)
	}
	t.Run("stories", func(t *testing.T) { testscript.Run(t, p) })
	b, err := os.ReadFile(failed)
	if !errors.Is(err, os.ErrNotExist) {
		require.NoError(t, err)
	}
	for line := range bytes.Lines(b) {
		var f failedHint
		require.NoError(t, json.Unmarshal(line, &f))
		assert.Fail(t, f.Hint, "%s, after %s:\n%s", f.Story, f.After, f.Said)
	}
}

// asHinted is the program as the stories of TestHintsOfStories call it: itself, and then every hint that it printed.
func asHinted() int {
	var said bytes.Buffer
	wd, err := os.Getwd()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	cmd := exec.Command(os.Getenv(hintsRun), os.Args[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, io.MultiWriter(os.Stderr, &said)
	if err := cmd.Run(); cmd.ProcessState == nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	for _, h := range hintsIn(said.String()) {
		if err := tryHint(wd, h); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 99
		}
	}
	return cmd.ProcessState.ExitCode()
}

var hintLine = regexp.MustCompile(`(?m)^(?:next|  or)  (paletwin .*)$`)

// hintsIn are the commands that are hinted at, without what is said about them.
func hintsIn(said string) (all []string) {
	for _, m := range hintLine.FindAllStringSubmatch(said, -1) {
		h, _, _ := strings.Cut(m[1], "   (")
		all = append(all, h)
	}
	return all
}

var digits = regexp.MustCompile(`[0-9a-f]{6,}|[0-9]+`)

// tryHint runs a hint in the story's folder, which is put back as it was. One that is like another of the story is not run again.
func tryHint(wd, hint string) error {
	work := os.Getenv("WORK")
	tried := work + ".hints"
	like := digits.ReplaceAllString(hint, "N")
	if f, err := os.Open(tried); err == nil {
		lines := bufio.NewScanner(f)
		for lines.Scan() {
			if lines.Text() == like {
				return f.Close()
			}
		}
		if err := f.Close(); err != nil {
			return err
		}
	}
	if err := appendTo(tried, like+"\n"); err != nil {
		return err
	}
	if out, err := exec.Command("cp", "-a", work, work+".kept").CombinedOutput(); err != nil {
		return fmt.Errorf("cp: %s", out)
	}
	typed := strings.ReplaceAll(hint, "paletwin ", os.Getenv(hintsRun)+" ")
	if strings.Contains(typed, " apply ") && !strings.Contains(typed, "--rehearse") {
		typed += " --yes" // who is at a terminal is asked
	}
	cmd := exec.Command("sh", "-c", typed)
	cmd.Dir = wd
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return err
	}
	if code := cmd.ProcessState.ExitCode(); code == 1 || code == 2 || code < 0 || code > 4 {
		b, err := json.Marshal(failedHint{filepath.Base(work), strings.Join(os.Args, " "), hint, fmt.Sprintf("%d: %s", code, out)})
		if err != nil {
			return err
		}
		if err := appendTo(os.Getenv(hintsOf), string(b)+"\n"); err != nil {
			return err
		}
	}
	if out, err := exec.Command("sh", "-c", `rm -rf "$1" && mv "$1.kept" "$1"`, "sh", work).CombinedOutput(); err != nil {
		return fmt.Errorf("putting back: %s", out)
	}
	return nil
}

func appendTo(file, text string) error {
	f, err := os.OpenFile(file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}
