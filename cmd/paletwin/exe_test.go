package main

import (
	"fmt"
	"io"
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
	for again := false; ; again = true {
		out, errs, code, err := runExe()
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		if code != 0 && out+errs == "" && !again {
			continue // the program never fails without a word: Wine could not start it
		}
		fmt.Fprint(os.Stdout, withSlashes(out))
		fmt.Fprint(os.Stderr, withSlashes(errs))
		return code
	}
}

// runExe runs the program for Windows with this process's arguments and input.
func runExe() (out, errs string, code int, err error) {
	cmd := exec.Command("wine", append([]string{os.Getenv(windowsProgram)}, os.Args[1:]...)...)
	cmd.Env = append(os.Environ(), "TMPDIR="+os.Getenv(windowsTemp)) // by which a running Wine is found
	cmd.Stdin = os.Stdin
	said := make([]string, 2)
	for i, to := range []*io.Writer{&cmd.Stdout, &cmd.Stderr} {
		f, err := os.CreateTemp("", "said") // no pipes: what Wine leaves behind holds on to these
		if err != nil {
			return "", "", 0, err
		}
		defer f.Close()
		defer os.Remove(f.Name())
		*to, said[i] = f, f.Name()
	}
	if err := cmd.Run(); cmd.ProcessState == nil {
		return "", "", 0, err
	}
	for i, name := range said {
		b, err := os.ReadFile(name)
		if err != nil {
			return "", "", 0, err
		}
		said[i] = string(b)
	}
	return said[0], said[1], cmd.ProcessState.ExitCode(), nil
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
