package run

import (
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/target"
)

// judge compares a step's record with what the target has now, by the rule
// of the three states, and says what is to become of it. A step that is to
// be written keeps no outcome; its fields are then those still to be
// written, and what the target had stands in it.
func (j *Job) judge(s *Step, now *target.State) {
	if !j.Options.Overwrite {
		s.over = nil
	}
	switch s.Act {
	case changeset.Amend:
		j.judgeAmend(s, now)
	case changeset.Add:
		j.judgeAdd(s, now)
	case changeset.Delete:
		j.judgeDelete(s, now)
	}
	s.Form = now.Form
}

func (s *Step) conflict(format string, a ...any) {
	s.Outcome, s.Reason = Conflict, fmt.Sprintf(format, a...)
}

// decided reports whether a person saw the value and decided to write over it.
func (j *Job) decided(s *Step, field string, now record.Value) bool {
	v, ok := s.over.Get(field)
	return ok && j.layout.Equal(field, v, now)
}

func (j *Job) judgeAmend(s *Step, now *target.State) {
	if now.Count == 0 {
		s.conflict("gone: the target no longer has the record")
		return
	}
	var write []changeset.FieldChange
	var moved, left []string
	get := now.Record.Finder()
	for _, f := range s.Fields {
		c, _ := get(f.Field)
		switch {
		case j.layout.Equal(f.Field, c, f.To):
		case j.layout.Equal(f.Field, c, f.From), j.decided(s, f.Field, c):
			write = append(write, changeset.FieldChange{Field: f.Field, From: c, To: f.To})
		default:
			moved = append(moved, fmt.Sprintf("%s is now %s (snapshot %s, wanted %s)", f.Field, quote(c), quote(f.From), quote(f.To)))
			left = append(left, f.Field)
			s.Seen.Set(f.Field, c)
		}
	}
	switch {
	case len(moved) > 0 && (!j.Options.PerField || len(write) == 0):
		s.conflict("%s", strings.Join(moved, "; "))
	case len(write) == 0:
		s.Outcome = Settled
	default:
		s.Fields = write
		if s.Left = left; len(left) > 0 {
			s.Reason = "in part: " + strings.Join(moved, "; ")
		}
	}
}

func (j *Job) judgeAdd(s *Step, now *target.State) {
	if now.Count == 0 {
		return
	}
	var other []string
	get := now.Record.Finder()
	for _, f := range s.Record {
		if c, _ := get(f.Name); !j.layout.Equal(f.Name, c, f.Value) {
			other = append(other, fmt.Sprintf("%s is %s (wanted %s)", f.Name, quote(c), quote(f.Value)))
		}
	}
	if len(other) == 0 {
		s.Outcome = Settled
		return
	}
	s.conflict("the target has this record already: %s", strings.Join(other, "; "))
}

// judgeDelete leaves a record alone that is no longer what was looked at. A
// step that goes on holds the record as the target has it, with every field.
func (j *Job) judgeDelete(s *Step, now *target.State) {
	if now.Count == 0 {
		s.Outcome = Settled
		return
	}
	var moved []string
	get := now.Record.Finder()
	for _, f := range s.Record {
		if slices.Contains(j.Options.System, f.Name) {
			continue
		}
		c, there := get(f.Name)
		if there && !j.layout.Equal(f.Name, c, f.Value) && !j.decided(s, f.Name, c) {
			moved = append(moved, fmt.Sprintf("%s is now %s (snapshot %s)", f.Name, quote(c), quote(f.Value)))
			s.Seen.Set(f.Name, c)
		}
	}
	if len(moved) > 0 {
		s.conflict("changed since the snapshot: %s", strings.Join(moved, "; "))
		return
	}
	s.Record = now.Record
}

// together leaves linked steps alone of which one cannot be written.
func together(steps []*Step) {
	broken := map[string]record.Key{}
	for _, s := range steps {
		if s.Linked != "" && (s.Outcome == Conflict || len(s.Left) > 0) {
			broken[s.Linked] = s.Key
		}
	}
	for _, s := range steps {
		if k, ok := broken[s.Linked]; ok && s.Outcome == "" {
			s.conflict("linked with %s, which cannot be written", k)
		}
	}
}

// quote writes a value for a reason in words.
func quote(v record.Value) string {
	switch {
	case v.IsNull():
		return "null"
	case v.Blank():
		return "empty"
	}
	return fmt.Sprintf("%q", v.String())
}

// has reports whether the target has what the step wants: c = e.
func (j *Job) has(s *Step, now *target.State) bool {
	switch s.Act {
	case changeset.Delete:
		return now.Count == 0
	case changeset.Amend:
		if now.Count == 0 {
			return false
		}
		get := now.Record.Finder()
		for _, f := range s.Fields {
			if c, _ := get(f.Field); !j.layout.Equal(f.Field, c, f.To) {
				return false
			}
		}
		return true
	}
	if now.Count == 0 {
		return false
	}
	get := now.Record.Finder()
	for _, f := range s.Record {
		if c, _ := get(f.Name); !j.layout.Equal(f.Name, c, f.Value) {
			return false
		}
	}
	return true
}
