package run

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/desk"
)

// Answer says where the outcomes of handed-over steps were learnt.
type Answer struct {
	Kind   string `json:"kind"`             // "result", "export" or "count"
	Name   string `json:"name,omitempty"`   // what the file was called
	File   string `json:"file,omitempty"`   // a result as it came, in the run's folder
	SHA256 string `json:"sha256,omitempty"` // of the file
	Load   string `json:"load,omitempty"`   // the load file that was answered, if one alone
	Rows   int    `json:"rows,omitempty"`
	Other  []int  `json:"other,omitempty"` // rows that name no record of the run

	By   string    `json:"by,omitempty"` // who collected it
	When time.Time `json:"when,omitzero"`
}

// String says in words where outcomes were learnt.
func (a *Answer) String() string {
	words := map[string]string{"result": "the answer " + a.Name, "export": "the export " + a.Name, "count": fmt.Sprintf("the number %d", a.Rows)}[a.Kind]
	if a.Load != "" {
		words += ", to " + a.Load
	}
	return words
}

// Learnt is what was learnt of one handed-over record.
type Learnt struct {
	Key     record.Key
	Outcome Outcome // Done or Refused
	Reason  string
	Row     int           // of the result
	Values  record.Record // what its row has of the record, where the system gives new records their keys
}

// ErrNoHandoff says that a run was no hand-off.
var ErrNoHandoff = errors.New("the run was no hand-off")

// LastHandoff returns the dossier's last hand-off, or run n if n is not 0: or a run of which answers were lost, so that somebody has to
// say what became of it. An interrupted hand-off made no files, and is none.
func LastHandoff(t *desk.Dossier, n int) (*Record, error) {
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	for _, i := range slices.Backward(runs) {
		if n != 0 && i != n {
			continue
		}
		r, err := ReadRun(t, i)
		if err != nil {
			return nil, err
		}
		if r.Head.Handoff && len(r.Loads) > 0 || !r.Head.Handoff && r.Ended != "" && len(r.Handed()) > 0 {
			return r, nil
		}
		if n != 0 {
			return nil, fmt.Errorf("run %d of %s: %w", n, t.Meta.Number, ErrNoHandoff)
		}
	}
	if n != 0 {
		return nil, fmt.Errorf("run %d of %s: %w", n, t.Meta.Number, ErrNoRun)
	}
	return nil, refuse(NothingDone, "dossier %s has not been handed off", t.Meta.Number)
}

// answerable reports whether it is for others to say what became of the step: it stands in load files, or its answer was lost.
func (s *Step) answerable() bool { return s.handed || s.Outcome == Unknown }

// Handed returns the steps of a hand-off that stand in its load files, and of another run those whose answer was lost, by key.
func (r *Record) Handed() map[record.Key]*Step {
	m := map[record.Key]*Step{}
	for _, s := range r.Steps {
		if s.answerable() {
			m[s.Key] = s
		}
	}
	return m
}

// Refused returns the steps of a hand-off that the system refused, and of
// those it refused in part, the part.
func (r *Record) Refused() []*Step {
	var all []*Step
	for _, s := range r.Steps {
		switch {
		case s.Outcome == Refused:
			all = append(all, s)
		case s.handed && s.Partly():
			part := *s
			part.Fields = s.all().Where(func(f changeset.Edit) bool { return slices.Contains(s.rare.Left, f.Field) })
			all = append(all, &part)
		}
	}
	return all
}

// Partly counts records that were done but for some fields.
func (r *Record) Partly() int {
	n := 0
	for _, s := range r.Steps {
		if s.Outcome == Done && s.Partly() {
			n++
		}
	}
	return n
}

// FieldByField reports whether records stand in several load files, so that
// an answer has to say which one it is to.
func (r *Record) FieldByField() bool {
	forward := 0
	for _, l := range r.Loads {
		if l.Forward() {
			forward += l.Records
		}
	}
	return forward > len(r.Handed())
}

// Reply is what a system said.
type Reply struct {
	Learnt []Learnt
	// Rest, if not "", is the outcome of the records that are not named.
	Rest   Outcome
	Scope  map[record.Key]bool // the records that it is about; nil is all
	Fields []string            // of amends, the fields that it is about; nil is all
	Answer Answer
}

// Collected is what an answer came to.
type Collected struct {
	Steps   Steps // of the whole hand-off, as they are now
	Learnt  int   // records whose outcome was learnt
	Other   []int // rows that name no record of the run
	Twice   []int // rows that contradict one before
	Missing int   // records of the run that the answer does not name
}

// Collect takes in what a system answered to a hand-off. The caller holds the
// dossier's lock.
func Collect(t *desk.Dossier, r *Record, p Reply, now func() time.Time) (*Collected, error) {
	c := &Collected{}
	if err := r.recognise(t, p.Learnt); err != nil {
		return nil, err
	}
	steps := r.Handed()
	said := map[record.Key]Learnt{}
	twice := map[record.Key]bool{}
	for _, l := range p.Learnt {
		s := steps[l.Key]
		if s == nil || p.Scope != nil && !p.Scope[l.Key] {
			c.Other = append(c.Other, l.Row)
			continue
		}
		if before, again := said[l.Key]; again && before.Outcome != l.Outcome {
			c.Twice = append(c.Twice, l.Row)
			twice[l.Key] = true
		}
		said[l.Key] = l
	}
	var touched []*Step
	for _, s := range r.Steps {
		if !s.answerable() || twice[s.Key] || p.Scope != nil && !p.Scope[s.Key] {
			continue
		}
		l, named := said[s.Key]
		if !named {
			c.Missing++
			if l = (Learnt{Outcome: p.Rest}); p.Rest == "" {
				continue
			}
		}
		s.learn(l, p.Fields)
		s.When = momentOf(now())
		touched = append(touched, s)
	}
	p.Answer.Other, p.Answer.When = c.Other, now().UTC()
	c.Learnt = len(touched)
	if err := r.learn(t, touched, &p.Answer); err != nil {
		return nil, err
	}
	c.Steps = r.Counts()
	return c, nil
}

// learn gives a step its outcome; fields, if any, are those that the answer
// is about. A record is done if all its fields are, refused if all are
// refused, and done in part if some are.
func (s *Step) learn(l Learnt, fields []string) {
	if s.Act != changeset.Amend || len(fields) == 0 {
		s.Outcome, s.Reason = l.Outcome, l.Reason
		if s.rare != nil {
			s.rare.answered, s.rare.Left = nil, nil
		}
		return
	}
	rare := s.keep()
	if rare.answered == nil {
		rare.answered = map[string]string{}
	}
	for _, f := range fields {
		if _, sent := s.all().Of(f); sent {
			rare.answered[f] = l.Reason
			if l.Outcome == Refused && l.Reason == "" {
				rare.answered[f] = "refused"
			}
		}
	}
	s.weigh()
}

// weigh makes a step's outcome of what its fields were answered.
func (s *Step) weigh() {
	rare := s.keep()
	rare.Left = nil
	var reasons []string
	for f := range s.all().All() {
		switch why, known := rare.answered[f.Field]; {
		case !known:
			s.Outcome, s.Reason, rare.Left = Unknown, "", nil
			return
		case why != "":
			rare.Left = append(rare.Left, f.Field)
			reasons = append(reasons, f.Field+": "+why)
		}
	}
	s.Outcome, s.Reason = Done, ""
	switch len(rare.Left) {
	case 0:
	case s.all().Len():
		s.Outcome, s.Reason, rare.Left = Refused, strings.Join(reasons, "; "), nil
	default:
		s.Reason = "in part: " + strings.Join(reasons, "; ")
	}
}

// learn appends outcomes to a run that has ended, and writes its outcome.csv
// anew.
func (r *Record) learn(t *desk.Dossier, steps []*Step, a *Answer) error {
	line, err := answered(r.batch, steps, a)
	if err := r.append(t, line, err); err != nil {
		return err
	}
	r.Heard = append(r.Heard, *a)
	for _, s := range steps {
		s.settleFields()
	}
	return writeOutcome(t, filepath.Join(r.Dir, outcomeName), r.Steps)
}

// settleFields leaves, of a step done in part, the fields that were done.
func (s *Step) settleFields() {
	all := s.all()
	switch {
	case s.Outcome == Done && s.Partly():
		s.aside().all, s.Fields = all, s.without(all)
	case s.handed:
		s.Fields = all
	}
}
