package run

import (
	"context"
	"fmt"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/judge"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/target"
)

// check refuses, before anything is written, what the target is known not to take, and values that would not stay
// unique; linked steps go together. It
// returns the steps that are to be written: the first of them, as many as most says, where that is not 0.
func (j *Job) check(ctx context.Context, steps []*Step, most int) ([]*Step, error) {
	if !j.Target.Traits().Assigns && j.schema.Assigned() {
		for _, s := range steps {
			if s.Outcome == "" && s.Act == changeset.Add && schema.IsNew(s.Key) {
				s.Outcome, s.Reason = Refused, "it has no key, and "+j.there()+" gives none: give it one in the copy, and compare again"
			}
		}
	}
	if err := j.checkTarget(ctx, steps); err != nil {
		return nil, err
	}
	together(steps)
	for { // what is refused keeps the values that others were to get from it
		write := first(steps, most)
		if j.layout == nil {
			return write, nil
		}
		if err := j.checkUnique(ctx, write); err != nil {
			return nil, err
		}
		if refusals(write) == 0 {
			return write, nil
		}
		together(steps)
	}
}

func (s *Step) refuse(problems []layout.Problem) {
	var said []string
	for _, p := range problems {
		if p.Level == "stop" {
			said = append(said, strings.TrimPrefix(p.Field+": "+p.Text, ": "))
		}
	}
	if len(said) > 0 {
		s.Outcome, s.Reason = Refused, "the layout: "+strings.Join(said, "; ")
	}
}

// checkLayout refuses a step that would break the layout: with approved fields only, beside what the target has now.
// What goes back to what it was no layout refuses: it stood there.
func (j *Job) checkLayout(s *Step, now *target.State) {
	l := j.layout
	if l == nil || j.Dossier.Meta.Undoes != nil || s.Outcome != "" {
		return
	}
	var problems []layout.Problem
	switch s.Act {
	case changeset.Amend:
		for f := range s.Fields.All() {
			if lf := l.Field(f.Field); lf != nil && !j.newRecords[f.To.String()] {
				problems = append(problems, lf.Check(f.To.String())...)
			}
		}
		old := now.Record.Finder()
		problems = append(problems, judge.Amended(l, s.Key, 0, s.Fields.Edits(), func(i int) string { v, _ := old(l.Fields[i].Name); return v.String() })...)
	case changeset.Add:
		for f := range s.Record.All() {
			if lf := l.Field(f.Name); lf != nil && lf.Access != schema.System && !j.newRecords[f.Value.String()] {
				problems = append(problems, lf.Check(f.Value.String())...)
			}
		}
		problems = append(problems, judge.Whole(l, s.Act, s.Key, 0, s.Record.Record())...)
	case changeset.Delete:
		problems = judge.Whole(l, s.Act, s.Key, 0, now.Record)
	}
	s.refuse(problems)
}

// checkUnique refuses values of unique fields that another record of the
// target has, or gets.
func (j *Job) checkUnique(ctx context.Context, steps []*Step) error {
	w := j.wanted(steps)
	if len(w) == 0 {
		return nil
	}
	img, release, err := j.Target.Table(ctx)
	if err != nil {
		return err
	}
	err = j.findOthers(ctx, img, w, steps)
	if rerr := release(); err == nil {
		err = rerr
	}
	return err
}

// wanted lists the values that steps give to unique fields; a step whose value
// an earlier one gives is refused.
func (j *Job) wanted(steps []*Step) map[schema.UniqueValue]*Step {
	w := map[schema.UniqueValue]*Step{}
	take := func(s *Step, name string, v record.Value) {
		at, unique := j.schema.Unique(name, v)
		if !unique || s.Outcome != "" {
			return
		}
		if w[at] != nil {
			s.refuse([]layout.Problem{{Field: name, Level: "stop", Text: fmt.Sprintf("%s gets the value %q, too", w[at].Key, v)}})
			return
		}
		w[at] = s
	}
	for _, s := range steps {
		for f := range s.Fields.All() {
			take(s, f.Field, f.To)
		}
		if s.Act == changeset.Add {
			for f := range s.Record.All() {
				take(s, f.Name, f.Value)
			}
		}
	}
	return w
}

// findOthers walks the target for records that have a value that is wanted,
// and keep it.
func (j *Job) findOthers(ctx context.Context, img *table.Image, w map[schema.UniqueValue]*Step, steps []*Step) error {
	leaves := map[record.Key]*Step{}
	for _, s := range steps {
		if s.Outcome == "" {
			leaves[j.schema.Key(s.Key)] = s
		}
	}
	cols, err := csv.KeyColumns(img, j.Dossier.Set().Key)
	if err != nil {
		return err
	}
	unique := map[int]string{}
	for _, name := range j.schema.UniqueFields() {
		if col := img.Column(name); col >= 0 {
			unique[col] = name
		}
	}
	return csv.Each(ctx, img, func(r *csv.Line) error {
		for col, name := range unique {
			v, _ := r.Value(col)
			at, _ := j.schema.Unique(name, v)
			s := w[at]
			if s == nil {
				continue
			}
			key := r.Key(cols)
			if one := j.schema.Key(key); one == j.schema.Key(s.Key) || gives(leaves[one], name) {
				continue
			}
			s.refuse([]layout.Problem{{Field: name, Level: "stop", Text: fmt.Sprintf("%s has the value %q already", key, v)}})
		}
		return nil
	})
}

// gives reports whether a step takes the field's value from its record.
func gives(s *Step, field string) bool {
	if s == nil || s.Outcome != "" {
		return false
	}
	_, gives := s.Fields.Of(field)
	return gives || s.Act == changeset.Delete
}
