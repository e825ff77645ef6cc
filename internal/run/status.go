package run

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// Status is what a dossier's runs came to, for the history.
type Status struct {
	Runs     []*Record
	Steps    Steps    // of all runs together
	Standing int      // steps done and not undone
	Undone   []string // the dossiers that undid some of it
}

// ReadStatus reads a dossier's runs.
func ReadStatus(t *desk.Dossier) (*Status, error) {
	s := new(Status)
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	for _, n := range runs {
		r, err := ReadRun(t, n)
		if err != nil {
			return nil, err
		}
		s.Runs = append(s.Runs, r)
		for _, x := range r.Steps {
			s.Steps.count(x.Outcome)
		}
	}
	if s.Steps.Done == 0 {
		return s, nil
	}
	done, err := standing(t)
	if err != nil {
		return nil, err
	}
	steps := map[*Step]bool{}
	for _, d := range done {
		steps[d.step] = true
	}
	s.Standing = len(steps)
	backs, err := Rollbacks(t)
	if err != nil {
		return nil, err
	}
	for _, b := range backs {
		if n, err := Runs(b); err == nil && len(n) > 0 {
			s.Undone = append(s.Undone, b.Meta.Number)
		}
	}
	return s, nil
}

// String says in a few words how far a dossier is.
func (s *Status) String() string {
	if len(s.Runs) == 0 {
		return "not carried out"
	}
	if s.Runs[len(s.Runs)-1].Ended == "" {
		return "interrupted"
	}
	words := fmt.Sprintf("%d done", s.Steps.Done)
	for _, x := range []struct {
		n    int
		word string
	}{{s.Steps.Settled, "settled"}, {s.Steps.Conflict, "in conflict"}, {s.Steps.Refused, "refused"}} {
		if x.n > 0 {
			words += fmt.Sprintf(", %d %s", x.n, x.word)
		}
	}
	if len(s.Undone) > 0 {
		what := "in part"
		if s.Standing == 0 {
			what = "whole"
		}
		words += fmt.Sprintf("; undone %s by %s", what, strings.Join(s.Undone, ", "))
	}
	return words
}

// Check reads everything of a dossier again and compares it with its
// digests, seals and chains. All damage that was found comes back.
func Check(t *desk.Dossier) []error {
	if t.Damage != nil {
		return []error{t.Damage}
	}
	var bad []error
	note := func(err error) {
		if err != nil {
			bad = append(bad, err)
		}
	}
	for _, in := range t.Inputs() {
		note(t.CheckInput(in))
	}
	c, err := t.Changes()
	note(err)
	if err == nil {
		note(c.Close())
	}
	_, err = t.Findings()
	note(err)
	runs, err := Runs(t)
	note(err)
	for _, n := range runs {
		note(checkRun(t, n))
	}
	return bad
}

func checkRun(t *desk.Dossier, n int) error {
	r, err := ReadRun(t, n)
	if err != nil {
		return err
	}
	for _, f := range []struct{ name, sum string }{{r.Head.Backup, r.Head.SHA256}, {rollbackName, r.Head.Rollback}} {
		file := filepath.Join(r.Dir, f.name)
		sum, err := disk.Sum(t.FS(), file)
		if err == nil && sum != f.sum {
			err = desk.ErrAltered
		}
		if err != nil {
			return &desk.DamageError{File: file, Err: err}
		}
	}
	if r.Ended == "" {
		return nil
	}
	if _, err := t.FS().Stat(filepath.Join(r.Dir, outcomeName)); err != nil {
		return &desk.DamageError{File: filepath.Join(r.Dir, outcomeName), Err: errors.New("the file is missing")}
	}
	return nil
}
