package main

import (
	"archive/zip"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/target/sqldb/lite"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/xuri/excelize/v2"
)

// program is the built program that the stories drive.
var program string

func TestMain(m *testing.M) {
	if os.Getenv(hintsOf) != "" && filepath.Base(os.Args[0]) == "paletwin" {
		os.Exit(asHinted())
	}
	if os.Getenv(windowsProgram) != "" && filepath.Base(os.Args[0]) == "paletwin" {
		os.Exit(asWindows())
	}
	dir, err := os.MkdirTemp("", "paletwin-story-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	program = filepath.Join(dir, "paletwin")
	build := exec.Command("go", "build", "-o", program, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "go build: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	if err := os.RemoveAll(dir); err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
	os.Exit(code)
}

// TestStories runs the stories in testdata/stories: what an administrator
// types, and what comes back. $DEMO is the folder with the demo's files.
func TestStories(t *testing.T) {
	testscript.Run(t, storyParams(t, filepath.Dir(program)))
}

// storyParams are how stories run, with the program in a folder.
func storyParams(t *testing.T, bin string) testscript.Params {
	demo, err := filepath.Abs("../../internal/demo/data")
	if err != nil {
		t.Fatal(err)
	}
	return testscript.Params{
		Dir:                 "testdata/stories",
		RequireExplicitExec: true,
		RequireUniqueNames:  true,
		Setup: func(e *testscript.Env) error {
			e.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
			e.Setenv("DEMO", demo)
			e.Setenv("NO_COLOR", "1")
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"code": exitCode, "load": load, "sqlite": sqlite, "old": old, "sheets": sheets, "part": part, "standin": serveStandin, "token": newToken, "as": as, "elsewhere": elsewhere},
		Condition: func(c string) (bool, error) {
			switch c {
			case "accounts":
				return accounts()
			case "posix": // links, modes, pipes and devices
				return true, nil
			}
			return false, fmt.Errorf("no condition is called %s", c)
		},
	}
}

// elsewhere is the story command "elsewhere BOOK HOST": the lines of a desk's book are as if they had been written on another machine, a
// moment ago.
func elsewhere(ts *testscript.TestScript, _ bool, args []string) {
	var out []byte
	for line := range strings.Lines(ts.ReadFile(args[0])) {
		var e desk.Entry
		ts.Check(json.Unmarshal([]byte(line), &e))
		e.By, e.Account, e.Host, e.System, e.Digest = "mairead", "1000@3f9c1b7d20aa4e55", args[1], "1b7d20aa", ""
		b, err := json.Marshal(&e)
		ts.Check(err)
		e.Digest = changeset.Checksum(b)
		b, err = json.Marshal(&e)
		ts.Check(err)
		out = append(append(out, b...), '\n')
	}
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), out, 0o600))
}

// part is the story command "part FILE NAME OUT": a part of an archive becomes a file.
func part(ts *testscript.TestScript, _ bool, args []string) {
	z, err := zip.OpenReader(ts.MkAbs(args[0]))
	ts.Check(err)
	defer z.Close()
	f, err := z.Open(args[1])
	ts.Check(err)
	text, err := io.ReadAll(f)
	ts.Check(err)
	ts.Check(os.WriteFile(ts.MkAbs(args[2]), text, 0o600))
}

// sheets is the story command "sheets [-typed] FILE NAME=CSV …": a workbook with these sheets; typed, what looks like a number is one, and what begins
// with = is a formula.
func sheets(ts *testscript.TestScript, _ bool, args []string) {
	x := excelize.NewFile()
	typed := args[0] == "-typed"
	if typed {
		args = args[1:]
	}
	for n, arg := range args[1:] {
		name, from, _ := strings.Cut(arg, "=")
		if n == 0 {
			ts.Check(x.SetSheetName("Sheet1", name))
		} else {
			_, err := x.NewSheet(name)
			ts.Check(err)
		}
		rows, err := csv.NewReader(strings.NewReader(ts.ReadFile(from))).ReadAll()
		ts.Check(err)
		for i, row := range rows {
			ts.Check(x.SetSheetRow(name, fmt.Sprintf("A%d", i+1), &row))
			for j, text := range row {
				at, err := excelize.CoordinatesToCellName(j+1, i+1)
				ts.Check(err)
				if formula, is := strings.CutPrefix(text, "="); typed && is {
					ts.Check(x.SetCellDefault(name, at, ""))
					ts.Check(x.SetCellFormula(name, at, formula))
				} else if _, err := strconv.ParseFloat(text, 64); typed && err == nil && !strings.HasPrefix(text, "0") {
					ts.Check(x.SetCellDefault(name, at, text))
				}
			}
		}
	}
	ts.Check(x.SaveAs(ts.MkAbs(args[0])))
}

// old is the story command "old FILE DAYS": the file was written so many days ago.
func old(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 2 {
		ts.Fatalf("usage: old FILE DAYS")
	}
	days, err := strconv.Atoi(args[1])
	ts.Check(err)
	when := time.Now().AddDate(0, 0, -days).Add(-time.Hour)
	ts.Check(os.Chtimes(ts.MkAbs(args[0]), when, when))
}

// exitCode is the story command "code N COMMAND …": the command must end
// with the exit code N. Its output is there for stdout and stderr.
func exitCode(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: code N COMMAND [ARG …]")
	}
	err := ts.Exec(args[1], args[2:]...)
	got := "0"
	if exit, ok := err.(*exec.ExitError); ok {
		got = fmt.Sprint(exit.ExitCode())
	} else if err != nil {
		ts.Fatalf("%v", err)
	}
	if got != args[0] {
		ts.Fatalf("exit code %s, want %s", got, args[0])
	}
}

// sqlite is the story command "sqlite FILE SQL": what somebody else does to a database.
// Rows that come back are its output.
func sqlite(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 2 {
		ts.Fatalf("usage: sqlite FILE SQL")
	}
	path := ts.MkAbs(args[0])
	if _, err := os.Stat(path); err != nil {
		ts.Check(os.WriteFile(path, nil, 0o600))
	}
	db, err := lite.Open(path, 1000)
	ts.Check(err)
	defer db.Close()
	ts.Check(db.Query(context.Background(), args[1], nil, func(row []lite.Value) error {
		for _, v := range row {
			fmt.Fprintf(ts.Stdout(), "%s%d|", v.Bytes, v.Int)
		}
		_, err := fmt.Fprintln(ts.Stdout())
		return err
	}))
}

// command runs the program in a folder and returns its output and exit code.
func command(t testing.TB, bin, dir string, env []string, args ...string) (string, int) {
	cmd := exec.Command(bin, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	if _, ended := err.(*exec.ExitError); err != nil && !ended {
		t.Fatal(err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}
