package main

import (
	"flag"
	"io"
	"os"
	"strings"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"paletwin/internal/handoff/handofftest"
)

// load is the story command "load [FLAGS] REGISTER FOLDER": a system that only
// takes files loads those of FOLDER into its register, and answers in
// result.csv. Its blank cells keep what is there, unless -blank clears.
func load(ts *testscript.TestScript, neg bool, args []string) {
	fs := flag.NewFlagSet("load", flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	blank := fs.String("blank", "keeps", "")
	clear := fs.String("clear", "", "")
	date := fs.String("date", "", "the form of dates, as Go writes it")
	refuse := fs.String("refuse", "", "KEY=REASON,…")
	cut := fs.Int("cut", 0, "texts are cut to so many characters")
	if err := fs.Parse(args); err != nil || neg || fs.NArg() != 2 {
		ts.Fatalf("usage: load [FLAGS] REGISTER FOLDER")
	}
	register, err := os.ReadFile(ts.MkAbs(fs.Arg(0)))
	ts.Check(err)
	sys := handofftest.New(tester{ts}, register)
	sys.BlankClears, sys.Clear = *blank == "clears", *clear
	sys.Inward = func(_, v string) string {
		if d, err := time.Parse(*date, v); *date != "" && err == nil {
			return d.Format(time.DateOnly)
		}
		if r := []rune(v); *cut > 0 && len(r) > *cut {
			return string(r[:*cut])
		}
		return v
	}
	reasons := map[string]string{}
	for _, x := range strings.Split(*refuse, ",") {
		key, reason, _ := strings.Cut(x, "=")
		reasons[key] = reason
	}
	sys.Refuse = func(_, key string) string { return reasons[key] }
	sys.Load(ts.MkAbs(fs.Arg(1)))
	ts.Check(os.WriteFile(ts.MkAbs(fs.Arg(0)), sys.Export(), 0o600))
	ts.Check(os.WriteFile(ts.MkAbs("result.csv"), sys.Result(), 0o600))
}

// tester ends a story where the helper's checks fail.
type tester struct{ ts *testscript.TestScript }

func (t tester) Errorf(format string, args ...any) { t.ts.Logf(format, args...) }
func (t tester) FailNow()                          { t.ts.Fatalf("load failed") }
