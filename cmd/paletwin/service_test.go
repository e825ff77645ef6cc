package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/rogpeppe/go-internal/testscript"

	"paletwin/internal/standin"
	"paletwin/internal/standin/standintest"
)

// serveStandin is the story command "standin NAME FOLDER MOOD …": the folder's tables are served, in these moods, in which ? stands for a blank, and $NAME is the
// service's address. "token=TEXT" lets in whoever has that token; the command "token NAME TEXT" makes it another.
func serveStandin(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: standin NAME FOLDER [MOOD …]")
	}
	var o standin.Options
	var moods []string
	for _, text := range args[2:] {
		if token, ok := strings.CutPrefix(text, "token="); ok {
			file := filepath.Join(ts.MkAbs("."), args[0]+".tokens")
			ts.Check(os.WriteFile(file, []byte(token+"\n"), 0o600))
			var err error
			o.Tokens, err = standin.OpenTokens(file)
			ts.Check(err)
			continue
		}
		moods = append(moods, strings.ReplaceAll(text, "?", " "))
	}
	s, err := standintest.Open(ts.MkAbs(args[1]), o, moods...)
	ts.Check(err)
	server := standintest.Serve(s)
	ts.Defer(func() { server.Close(); s.Close() })
	ts.Setenv(args[0], server.URL)
}

// newToken is the story command "token NAME TEXT".
func newToken(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 2 {
		ts.Fatalf("usage: token NAME TEXT")
	}
	ts.Check(os.WriteFile(filepath.Join(ts.MkAbs("."), args[0]+".tokens"), fmt.Appendln(nil, args[1]), 0o600))
}
