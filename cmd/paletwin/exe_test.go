package main

import (
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"strings"
)

// The variables by which a test binary that is called paletwin knows that it is to run the program for Windows.
const (
	windowsProgram = "PALETWIN_TEST_EXE"
	windowsTemp    = "PALETWIN_TEST_TEMP" // the folder for temporary files outside of stories
)

// asWindows is the program for Windows as stories call it: what it prints has slashes where it says places, so that the same stories hold.
func asWindows() int {
	exe := os.Getenv(windowsProgram)
	cmd := exec.Command("wine", append([]string{exe}, os.Args[1:]...)...)
	cmd.Env = append(os.Environ(), "TMPDIR="+os.Getenv(windowsTemp)) // by which a running Wine is found
	// Files and no pipes: what the runner leaves behind it holds on to these.
	out, err := os.CreateTemp("", "out")
	if err == nil {
		cmd.Stdin, cmd.Stdout = os.Stdin, out
		cmd.Stderr, err = os.CreateTemp("", "err")
	}
	if err == nil {
		err = cmd.Run()
	}
	if cmd.ProcessState == nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	for to, from := range map[*os.File]*os.File{os.Stdout: out, os.Stderr: cmd.Stderr.(*os.File)} {
		b, err := os.ReadFile(from.Name())
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
		_, _ = to.WriteString(withSlashes(string(b)))
		_ = os.Remove(from.Name())
	}
	return cmd.ProcessState.ExitCode()
}

// A place, as opposed to what is quoted: \u and four digits, \" and the like.
var placed = regexp.MustCompile(`(?:Z:)?[\w.-]*(?:\\{1,2}[\w.-]+)+`)

// withSlashes gives places slashes.
func withSlashes(text string) string {
	return placed.ReplaceAllStringFunc(text, func(s string) string {
		if quoted.MatchString(s) {
			return s
		}
		return strings.ReplaceAll(strings.ReplaceAll(strings.TrimPrefix(s, "Z:"), `\\`, "/"), `\`, "/")
	})
}

var quoted = regexp.MustCompile(`\\(?:_|u[0-9a-f]{4}|[nrt]\b|x[0-9a-f]{2}|[dwsS]\b)`)
