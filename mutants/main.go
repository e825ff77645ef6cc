// Mutants breaks the rules of the program on purpose, one line at a time, and has
// the tests of a package run that must notice. list.txt says what is broken; the
// files themselves are left alone: the go command is given the broken one in their
// place.
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// mutant is one rule, broken.
type mutant struct {
	rule      string // what is broken
	file      string
	old, new  string
	pkg, test string // whose tests must fail, and which of them; "" is all
}

// patience is how long the tests may take to notice.
const patience = 90 * time.Second

func main() {
	changed := flag.String("changed", "", "only the rules in files that differ from this commit, and some more")
	more := flag.Int("more", 0, "with -changed: so many others, by date")
	match := flag.String("rule", "", "only rules that have this in their name")
	at := flag.Int("at", 2, "how many at once")
	flag.Parse()
	all, err := read("mutants/list.txt")
	if err == nil {
		all, err = choose(all, *changed, *more, *match)
	}
	if err == nil {
		err = run(all, *at)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

// read reads the list: blocks of lines "word: text" with an empty line between.
func read(name string) ([]mutant, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	all := []mutant{{}}
	for lines, n := bufio.NewScanner(f), 1; lines.Scan(); n++ {
		line := lines.Text()
		word, text, ok := strings.Cut(line, ": ")
		m := &all[len(all)-1]
		to := map[string]*string{"rule": &m.rule, "file": &m.file, "old": &m.old, "new": &m.new, "fails": &m.pkg, "test": &m.test}[word]
		switch {
		case strings.HasPrefix(line, "#"):
		case strings.TrimSpace(line) == "":
			if m.rule != "" {
				all = append(all, mutant{})
			}
		case !ok || to == nil:
			return nil, fmt.Errorf("%s:%d: %q is no line of a mutant", name, n, line)
		default:
			*to = text
		}
	}
	if all[len(all)-1].rule == "" {
		all = all[:len(all)-1]
	}
	return all, nil
}

// choose takes the mutants that are asked for.
func choose(all []mutant, changed string, more int, match string) ([]mutant, error) {
	var some, others []mutant
	touched := map[string]bool{}
	if changed != "" {
		out, err := exec.Command("git", "diff", "--name-only", changed).Output()
		if err != nil {
			return nil, fmt.Errorf("git diff: %w", err)
		}
		for name := range strings.Lines(string(out)) {
			touched[strings.TrimSpace(name)] = true
		}
	}
	for _, m := range all {
		switch {
		case !strings.Contains(m.rule, match):
		case changed == "" || touched[m.file]:
			some = append(some, m)
		default:
			others = append(others, m)
		}
	}
	day := int(time.Now().Unix() / 86_400)
	for k := range min(more, len(others)) {
		some = append(some, others[(day*more+k)%len(others)])
	}
	return some, nil
}

// run runs the tests of each mutant, several at once, and says which was not noticed.
func run(all []mutant, at int) error {
	dir, err := os.MkdirTemp("", "mutants")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	var wg sync.WaitGroup
	var mu sync.Mutex
	var wrong []error
	queue := make(chan int)
	for range at {
		wg.Go(func() {
			for n := range queue {
				start := time.Now()
				err := all[n].noticed(filepath.Join(dir, fmt.Sprint(n)))
				mu.Lock()
				fmt.Printf("%5.1f s  %-60s %s\n", time.Since(start).Seconds(), all[n].rule, word(err))
				if err != nil {
					wrong = append(wrong, fmt.Errorf("%s: %w", all[n].rule, err))
				}
				mu.Unlock()
			}
		})
	}
	for n := range all {
		queue <- n
	}
	close(queue)
	wg.Wait()
	fmt.Printf("%d mutants, %d of them noticed\n", len(all), len(all)-len(wrong))
	return errors.Join(wrong...)
}

func word(err error) string {
	if err != nil {
		return "NOT NOTICED"
	}
	return "noticed"
}

// noticed breaks the rule and returns nil if the tests fail.
func (m *mutant) noticed(dir string) error {
	source, err := os.ReadFile(m.file)
	if err != nil {
		return err
	}
	if n := bytes.Count(source, []byte(m.old)); n != 1 {
		return fmt.Errorf("%q stands %d times in %s", m.old, n, m.file)
	}
	broken, overlay := dir+".go", dir+".json"
	if err := os.WriteFile(broken, bytes.Replace(source, []byte(m.old), []byte(m.new), 1), 0o600); err != nil {
		return err
	}
	path, err := filepath.Abs(m.file)
	if err != nil {
		return err
	}
	b, err := json.Marshal(map[string]any{"Replace": map[string]string{path: broken}})
	if err != nil {
		return err
	}
	if err := os.WriteFile(overlay, b, 0o600); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	args := []string{"test", "-count=1", "-failfast", "-vet=off", m.pkg}
	if m.test != "" {
		args = append(args, "-run", m.test)
	}
	if m.draws() {
		args = append(args, "-rapid.nofailfile")
	}
	cmd := exec.CommandContext(ctx, "go", args...)
	cmd.Env = append(os.Environ(), "GOFLAGS=-overlay="+overlay) // for programs that tests build, too
	out, err := cmd.CombinedOutput()
	switch {
	case ctx.Err() != nil:
		return fmt.Errorf("the tests took more than %s", patience)
	case err == nil:
		return fmt.Errorf("%q in the place of %q in %s: the tests of %s pass", m.new, m.old, m.file, m.pkg)
	case !bytes.Contains(out, []byte("--- FAIL")) && !bytes.Contains(out, []byte("panic: ")):
		return fmt.Errorf("the tests do not run: %s", out)
	}
	return nil
}

// draws reports whether the tests draw cases, and would keep those that fail.
func (m *mutant) draws() bool {
	tests, _ := filepath.Glob(filepath.Join(m.pkg, "*_test.go"))
	for _, name := range tests {
		if b, err := os.ReadFile(name); err == nil && bytes.Contains(b, []byte("pgregory.net/rapid")) {
			return true
		}
	}
	return false
}
