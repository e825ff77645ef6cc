package run

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// Status is what a dossier's runs came to, for the history.
type Status struct {
	Runs    []*Record
	Steps   Steps    // what became of each record at last, summed over the targets; done stays done
	Targets []Reach  // by target, in the order in which they were first gone to
	Undone  []string // the dossiers that undid some of it
	Running bool     // a process is working on it
	Closed  bool     // somebody put it away
}

// Reach is what became of records at one target.
type Reach struct {
	At
	Steps    Steps
	Standing int // steps done and not undone
}

// ReadStatus reads a dossier's runs.
func ReadStatus(t *desk.Dossier) (*Status, error) {
	s := new(Status)
	closed, err := t.Closed()
	if err != nil {
		return nil, err
	}
	s.Closed = closed != nil
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	last := map[At]map[changeset.ID]Outcome{}
	for _, n := range runs {
		r, err := ReadRun(t, n)
		if err != nil {
			return nil, err
		}
		s.Runs = append(s.Runs, r)
		at := r.Head.At()
		if last[at] == nil {
			last[at] = map[changeset.ID]Outcome{}
			s.Targets = append(s.Targets, Reach{At: at})
		}
		for _, x := range r.Steps {
			if last[at][x.ID] != Done {
				last[at][x.ID] = x.Outcome
			}
		}
	}
	for i := range s.Targets {
		x := &s.Targets[i]
		for _, o := range last[x.At] {
			x.Steps.count(o)
			s.Steps.count(o)
		}
		if x.Steps.Done > 0 {
			if x.Standing, err = standingSteps(t, s.Runs, x.At); err != nil {
				return nil, err
			}
		}
	}
	s.Running = Working(t)
	if s.Steps.Done == 0 {
		return s, nil
	}
	backs, err := t.Desk().Undoing(t.Meta.Number)
	if err != nil {
		return nil, err
	}
	for _, b := range backs {
		if stands, err := standingAnywhere(b); err == nil && !stands.none() { // else it was undone itself
			s.Undone = append(s.Undone, b.Meta.Number)
		}
	}
	return s, nil
}

// Open reports whether something of a dossier still waits for somebody: it was not carried out, or not to its end, or what it left was not to be left.
func (s *Status) Open(t *desk.Dossier) bool {
	if t.Set().Changes.Changes() == 0 || len(s.Undone) > 0 || s.Closed {
		return false
	}
	if len(s.Runs) == 0 {
		return !rejected(t)
	}
	last := s.Runs[len(s.Runs)-1]
	left := last.Head.Left.Approved > 0 || last.Head.Left.Open+last.Head.Left.Held > 0 && !last.Head.LeaveOpen
	return last.Ended == "" || left || s.Steps.Conflict+s.Steps.Refused+s.Steps.Unknown+s.Steps.Skipped > 0
}

// rejected reports whether all of a dossier was rejected.
func rejected(t *desk.Dossier) bool {
	c, err := t.Changes()
	if err != nil {
		return false
	}
	defer c.Close()
	if len(c.Ledger.Acts()) == 0 {
		return false
	}
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		if err != nil || slices.ContainsFunc(c.Ledger.States(line, ch), func(s changeset.State) bool { return s.Decision != changeset.Reject }) {
			return false
		}
	}
	return true
}

// ReportOf is what the apply that made a run had to report at its end.
func ReportOf(t *desk.Dossier, r *Record) (*Report, error) {
	rep := &Report{Run: r.Head.Run, Target: r.Head.Target, Handed: r.Head.Handoff, Stopped: r.Ended == "stopped", Steps: r.Counts(), Left: r.Head.Left, Attempted: r.Steps}
	for _, s := range r.Steps {
		rep.partly(s)
	}
	b, err := disk.ReadFile(t.FS(), filepath.Join(r.Dir, verifyName))
	if errors.Is(err, fs.ErrNotExist) {
		return rep, nil
	}
	if err == nil {
		rep.Verify = new(Verification)
		err = json.Unmarshal(b, rep.Verify)
	}
	return rep, err
}

// Working reports whether a process holds the dossier's lock. A run without
// an end on which nobody works is dead.
func Working(t *desk.Dossier) bool {
	lock, err := t.Lock()
	if err != nil {
		return errors.Is(err, disk.ErrLocked)
	}
	_ = lock.Unlock() // it was taken only to see whether it is free
	return false
}

// String says in a few words how far a dossier is.
func (s *Status) String() string {
	words := s.came()
	if s.Closed {
		words += "; closed"
	}
	return words
}

// came says what the runs came to.
func (s *Status) came() string {
	if len(s.Runs) == 0 {
		return "not carried out"
	}
	if s.Runs[len(s.Runs)-1].Ended == "" {
		if s.Running {
			return "running"
		}
		return "interrupted"
	}
	var parts []string
	standing := 0
	for i := range s.Targets {
		x := &s.Targets[i]
		standing += x.Standing
		words := x.Steps.String()
		if len(s.Targets) > 1 {
			words += " at " + filepath.Base(x.Target)
		}
		parts = append(parts, words)
	}
	words := strings.Join(parts, ", ")
	if len(s.Undone) > 0 {
		what := "in part"
		if standing == 0 {
			what = "whole"
		}
		words += fmt.Sprintf("; undone %s by %s", what, strings.Join(s.Undone, ", "))
	}
	return words
}

// Conflicts returns what the target had, field by field, in the records that
// the last run left alone because they had moved.
func Conflicts(t *desk.Dossier) (map[changeset.ID]record.Record, error) {
	runs, err := Runs(t)
	if err != nil || len(runs) == 0 {
		return nil, err
	}
	r, err := ReadRun(t, runs[len(runs)-1])
	if err != nil {
		return nil, err
	}
	seen := map[changeset.ID]record.Record{}
	for _, s := range r.Steps {
		if now := s.Rare().Seen; len(now) > 0 {
			seen[s.ID] = now
		}
	}
	return seen, nil
}
