package run

import (
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/target"
)

// verdict is what is to become of a step, by what the target has. One without an
// outcome is to be written: fields are those still to be written, and record and
// form what the target has.
type verdict struct {
	Ending
	fields changeset.Packed
	record record.Packed
	former *former
}

// judge compares a step's record with what the target has now, by the rule
// of the three states.
func (j *Job) judge(s *Step, now *target.State) verdict {
	v := verdict{fields: s.Fields, record: s.Record}
	if now.Form.Kept && !j.formsAgain {
		v.former = &former{form: now.Form}
	}
	over := s.over()
	if !j.Options.Overwrite {
		over = record.Packed{}
	}
	switch s.Act {
	case changeset.Amend:
		j.judgeAmend(s, now, over, &v)
	case changeset.Add:
		j.judgeAdd(s, now, &v)
	case changeset.Delete:
		j.judgeDelete(s, now, over, &v)
	}
	return v
}

// take makes the verdict the step's.
func (s *Step) take(v verdict) {
	s.Ending, s.Fields, s.Record, s.former = v.Ending, v.fields, v.record, v.former
}

func (f *Ending) conflict(format string, a ...any) {
	f.Outcome, f.Reason = Conflict, fmt.Sprintf(format, a...)
}

// decided reports whether a person saw the value and decided to write over it.
func (j *Job) decided(over record.Packed, field string, now record.Value) bool {
	v, ok := over.Get(field)
	return ok && j.schema.Equal(field, v, now)
}

func (j *Job) judgeAmend(s *Step, now *target.State, over record.Packed, v *verdict) {
	if now.Count == 0 {
		v.conflict("gone: %s no longer has the record", j.there())
		return
	}
	get := now.Record.Finder()
	if j.untouched(s.Fields, get) {
		j.write(s, now, s.Fields, v)
		return
	}
	var write []changeset.Edit
	var moved, left, torn []string
	for f := range s.Fields.All() {
		c, _ := get(f.Field)
		switch {
		case j.schema.Equal(f.Field, c, f.To):
		case j.schema.Equal(f.Field, c, f.From), j.decided(over, f.Field, c):
			f.From = c
			write = append(write, f)
		default:
			if f.Linked != "" {
				torn = append(torn, f.Linked)
			}
			moved = append(moved, fmt.Sprintf("%s is now %s (snapshot %s, wanted %s)", f.Field, c.Quoted(), f.From.Quoted(), f.To.Quoted()))
			left = append(left, f.Field)
			v.keep().Seen.Set(f.Field, c)
		}
	}
	write = slices.DeleteFunc(write, func(f changeset.Edit) bool {
		if slices.Contains(torn, f.Linked) {
			left = append(left, f.Field)
			return true
		}
		return false
	})
	switch {
	case len(moved) > 0 && (!j.Options.PerField || len(write) == 0):
		v.conflict("%s", strings.Join(moved, "; "))
	case len(write) == 0:
		v.Outcome = Settled
	default:
		if len(left) > 0 {
			v.keep().Left, v.Reason = left, "in part: "+strings.Join(moved, "; ")
		}
		j.write(s, now, changeset.Pack(write), v)
	}
}

// untouched reports whether all fields are to the letter as the edits had them, and not yet as these want them.
func (j *Job) untouched(edits changeset.Packed, get func(string) (record.Value, bool)) bool {
	for f := range edits.All() {
		if c, _ := get(f.Field); c != f.From || j.schema.Equal(f.Field, c, f.To) {
			return false
		}
	}
	return !edits.None()
}

// write makes the verdict that fields of an amend are to be written.
func (j *Job) write(s *Step, now *target.State, fields changeset.Packed, v *verdict) {
	v.fields = fields
	if len(s.Was().Parts()) > 0 {
		v.record = v.wanted(now.Record, j.compared, j.Options.System).Pack()
	}
}

// wanted is a record as an amend leaves it, in the fields that were compared. Where
// another record takes its place, what is in other fields is that one's.
func (v *verdict) wanted(now record.Record, compared, system []string) record.Record {
	r := slices.DeleteFunc(now.Clone(), func(f record.Field) bool {
		return !slices.Contains(compared, f.Name) || slices.Contains(system, f.Name)
	})
	for f := range v.fields.All() {
		r.Set(f.Field, f.To)
	}
	return r
}

func (j *Job) judgeAdd(s *Step, now *target.State, v *verdict) {
	if now.Count == 0 {
		return
	}
	var other []string
	for _, u := range j.schema.Unlikes(s.Record.Record(), now.Record, j.Options.System) {
		other = append(other, fmt.Sprintf("%s is %s (wanted %s)", u.Field, u.Real.Quoted(), u.Wanted.Quoted()))
	}
	if len(other) == 0 {
		v.Outcome = Settled
		return
	}
	v.conflict("%s has this record already: %s", j.there(), strings.Join(other, "; "))
}

// judgeDelete leaves a record alone that is no longer what was looked at. A
// step that goes on holds the record as the target has it, with every field.
func (j *Job) judgeDelete(s *Step, now *target.State, over record.Packed, v *verdict) {
	if now.Count == 0 {
		v.Outcome = Settled
		return
	}
	var moved []string
	had := s.Record.Record()
	for _, u := range append(j.schema.Unlikes(had, now.Record, j.Options.System), schema.Filled(had, now.Record, j.fields, j.Options.System)...) {
		if !j.decided(over, u.Field, u.Real) {
			moved = append(moved, fmt.Sprintf("%s is now %s (snapshot %s)", u.Field, u.Real.Quoted(), u.Wanted.Quoted()))
			v.keep().Seen.Set(u.Field, u.Real)
		}
	}
	if len(moved) > 0 {
		v.conflict("changed since the snapshot: %s", strings.Join(moved, "; "))
		return
	}
	v.record = now.Record.Pack()
}

// together leaves linked steps alone of which one cannot be written.
func together(steps []*Step) {
	torn := map[string]*Step{}
	for _, s := range steps {
		if s.Linked() != "" && torn[s.Linked()] == nil && (s.Outcome == Conflict || s.Outcome == Refused || s.Partly()) {
			torn[s.Linked()] = s
		}
	}
	for _, s := range steps {
		by := torn[s.Linked()]
		switch {
		case by == nil || s.Outcome != "":
		case by.Outcome == Refused:
			s.Outcome, s.Reason = Refused, fmt.Sprintf("linked with %s, which cannot be written: %s", by.Key, by.Reason)
		default:
			s.conflict("linked with %s, which cannot be written", by.Key)
		}
	}
}

// batches parts steps into batches of at least n, or all in one where n is
// not positive. A step goes with those that it is linked with, wherever these
// stand; within a batch the order stays.
func batches(steps []*Step, n int) [][]*Step {
	if n <= 0 {
		n = len(steps)
	}
	links := map[string][]int{}
	for i, s := range steps {
		if s.Linked() != "" {
			links[s.Linked()] = append(links[s.Linked()], i)
		}
	}
	if len(links) == 0 {
		return slices.Collect(slices.Chunk(steps, max(n, 1)))
	}
	var all [][]*Step
	taken := make([]bool, len(steps))
	var part []int
	for i, s := range steps {
		if taken[i] {
			continue
		}
		group := []int{i}
		if s.Linked() != "" {
			group = links[s.Linked()]
		}
		for _, k := range group {
			taken[k] = true
		}
		if part = append(part, group...); len(part) >= n {
			all, part = append(all, pick(steps, part)), nil
		}
	}
	if len(part) > 0 {
		all = append(all, pick(steps, part))
	}
	return all
}

// pick returns the steps at some places, in order.
func pick(steps []*Step, at []int) []*Step {
	slices.Sort(at)
	picked := make([]*Step, len(at))
	for i, k := range at {
		picked[i] = steps[k]
	}
	return picked
}

// stands reports whether the target has what the step wants: c = e.
func (s *Step) stands(sc *schema.Schema, system []string, now *target.State) bool {
	switch s.Act {
	case changeset.Delete:
		return now.Count == 0
	case changeset.Amend:
		if now.Count == 0 {
			return false
		}
		get := now.Record.Finder()
		for f := range s.Fields.All() {
			if c, _ := get(f.Field); !sc.Equal(f.Field, c, f.To) {
				return false
			}
		}
		return true
	}
	return now.Count > 0 && len(sc.Unlikes(s.Record.Record(), now.Record, system)) == 0
}
