// Package run carries dossiers out: it takes the approved part of a change
// set to a target, against the target's current state, and keeps everything
// that is needed to go back.
//
// A run is a folder, runs/1 and so on. Before the first step a backup and a
// complete rollback file are on disk and were read back; then each batch's
// intent is journaled before it, and its outcomes after it. A run that was
// interrupted is finished by the next apply, under its own number: a step
// that the journal intended and that the target has is done.
package run

import (
	"errors"
	"fmt"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/target"
)

// Outcome is what became of a step.
type Outcome string

const (
	Done     Outcome = "done"     // written, and read back
	Settled  Outcome = "settled"  // the target had it already
	Conflict Outcome = "conflict" // the target has something else; left whole
	Refused  Outcome = "refused"  // the target would not take it
	Skipped  Outcome = "skipped"  // not attempted
	Unknown  Outcome = "unknown"  // the target has not answered: it was handed over, or the answer was lost
	Undone   Outcome = "undone"   // written, and taken back at once, since something that belongs to it was not
)

// Step is one record of a run: what is written, from what the target had, and
// what became of it. A run holds all of its steps, which may be a million: what few have stands apart, what they
// write is packed, and their texts stand together (see shelf).
type Step struct {
	ID     changeset.ID
	Act    changeset.Act
	handed bool  // it stands in load files
	run    int32 // the run that it is of, once there is one
	Key    record.Key
	Fields changeset.Packed // of an amend: the fields to write
	Record record.Packed    // as a target.Step has it
	Ending
	former *former // how the target kept the record before; nil is not known
	apart  *apart
}

// apart is what few steps have.
type apart struct {
	was    record.Key
	linked string
	all    changeset.Packed // fields of which some are Fields no more
	over   record.Packed
}

// aside returns what few steps have of a step, to be written.
func (s *Step) aside() *apart {
	if s.apart == nil {
		s.apart = new(apart)
	}
	return s.apart
}

// Was is as a target.Step has it.
func (s *Step) Was() record.Key {
	if s.apart == nil {
		return record.Key{}
	}
	return s.apart.was
}

// Linked is the link of steps that go together; "" is alone.
func (s *Step) Linked() string {
	if s.apart == nil {
		return ""
	}
	return s.apart.linked
}

// all are the fields that were sent, whatever became of them.
func (s *Step) all() changeset.Packed {
	if s.apart == nil || s.apart.all.None() {
		return s.Fields
	}
	return s.apart.all
}

// over is what a person saw in the target and decided to write over.
func (s *Step) over() record.Packed {
	if s.apart == nil {
		return record.Packed{}
	}
	return s.apart.over
}

// Ending is what became of a step.
type Ending struct {
	Outcome Outcome // "" while it is not known
	Reason  string
	When    Moment
	rare    *Rare
}

// Moment is a time as steps note it, in nanoseconds since 1970; zero is none.
type Moment int64

func momentOf(t time.Time) Moment {
	if t.IsZero() {
		return 0
	}
	return Moment(t.UnixNano())
}

// Time returns the moment as a time, in UTC.
func (m Moment) Time() time.Time {
	if m == 0 {
		return time.Time{}
	}
	return time.Unix(0, int64(m)).UTC()
}

// Rare is what became of a step beyond its outcome; of most it is nothing.
type Rare struct {
	Read   record.Record      // what was read back where it is not what was written
	Before record.Record      // what was there, under its lock, in the fields in which that is not what was looked at before the run
	Along  []target.Dependent // what went along with a record that was deleted
	Left   []string           // approved fields that were left alone, of a record written in part
	Seen   record.Record      // of a conflict: what the target has in the fields that moved
	// WentBy is what a new record went by until the target gave it its key, which
	// the step has since; "" of others.
	WentBy string
	// Named are the keys that were written in the place of what new records went by.
	Named map[string]string
	// answered has, where a step was answered file by file, the fields that were, and
	// the reason where one was refused.
	answered map[string]string
}

// Rare returns what became of a step beyond its outcome, to be read.
func (e *Ending) Rare() Rare {
	if e.rare == nil {
		return Rare{}
	}
	return *e.rare
}

// keep returns the same to be written.
func (e *Ending) keep() *Rare {
	if e.rare == nil {
		e.rare = new(Rare)
	}
	return e.rare
}

// wentBy is what a new record went by until the target gave it its key, or "".
func (e *Ending) wentBy() string {
	if e.rare == nil {
		return ""
	}
	return e.rare.WentBy
}

// Partly reports whether approved fields were left alone.
func (e *Ending) Partly() bool { return e.rare != nil && len(e.rare.Left) > 0 }

// forTarget is the step as a target takes it, with how the record is to look; room is for its fields.
func (s *Step) forTarget(before former, room []changeset.Edit) target.Step {
	return target.Step{ID: s.ID, Act: s.Act, Key: s.Key, Was: s.Was(), Linked: s.Linked(), Fields: s.Fields.Append(room), Record: s.Record.Record(), Form: before.form, Bring: before.along}
}

// copied is the step, to be given an outcome that may not be its last one.
func (s *Step) copied() *Step {
	c := *s
	if s.rare != nil {
		rare := *s.rare
		c.rare = &rare
	}
	if s.apart != nil {
		apart := *s.apart
		c.apart = &apart
	}
	return &c
}

// Steps counts outcomes.
type Steps struct {
	Done     int `json:"done"`
	Settled  int `json:"settled"`
	Conflict int `json:"conflict"`
	Refused  int `json:"refused"`
	Skipped  int `json:"skipped"`
	Unknown  int `json:"unknown,omitempty"`
	Undone   int `json:"undone,omitempty"`
}

// String writes the counts that are not zero: "5 done, 2 in conflict".
func (n Steps) String() string {
	words := fmt.Sprintf("%d done", n.Done)
	for _, x := range []struct {
		n    int
		word string
	}{{n.Settled, "settled"}, {n.Conflict, "in conflict"}, {n.Refused, "refused"}, {n.Skipped, "skipped"}, {n.Unknown, "not answered yet"}, {n.Undone, "undone"}} {
		if x.n > 0 {
			words += fmt.Sprintf(", %d %s", x.n, x.word)
		}
	}
	return words
}

func (n *Steps) count(o Outcome) {
	switch o {
	case Done:
		n.Done++
	case Settled:
		n.Settled++
	case Conflict:
		n.Conflict++
	case Refused:
		n.Refused++
	case Unknown:
		n.Unknown++
	case Undone:
		n.Undone++
	default:
		n.Skipped++
	}
}

// Left counts changes that no run has carried out.
type Left struct {
	Open     int `json:"open"`
	Held     int `json:"held"`
	Approved int `json:"approved"` // approved and not attempted
	// Unknown are new records of which somebody has to say whether the target has them.
	Unknown int `json:"unknown,omitempty"`
}

// Refusal is why nothing was written at all.
type Refusal struct {
	Code  string
	Text  string
	Place string // a file and row, where there is one
}

func (r *Refusal) Error() string { return r.Text }

// Codes of refusals.
const (
	NothingApproved = "nothing-approved"
	IsInput         = "is-input"         // the target is the snapshot or the edited copy
	OtherTarget     = "other-target"     // another target than the last run's
	UnknownKeys     = "unknown-keys"     // fewer than half of the keys are there
	OtherRecords    = "other-records"    // fewer than half of the keys are among newer records
	MissingColumn   = "missing-column"   // a field to be written has no column
	TwiceThere      = "key-twice"        // a record stands twice in the target
	WholeOnly       = "whole-only"       // the target cannot be asked for some of its records
	NotKept         = "not-kept"         // the backup has not all of the target's records
	NoRoom          = "no-room"          // the disk has no room for the backup
	NothingDone     = "nothing-done"     // no run has done anything
	NoTarget        = "no-target"        // no target was named and none is known
	Closed          = "closed"           // the dossier was put away
	SecondLook      = "second-look"      // somebody else has to approve, too
	WasHanded       = "handed-off"       // the dossier was handed off, and has no target
	NoDefinition    = "no-definition"    // the run kept no definition of a table
	Unfinished      = "unfinished-run"   // an interrupted run has to be finished first
	UnfinishedThere = "unfinished-there" // an interrupted run is finished on its own target
)

// ErrNoRun says that a dossier has no such run.
var ErrNoRun = errors.New("no such run")

// ErrBackup says that a backup is not what was read.
var ErrBackup = errors.New("the backup does not read back as it was written")

// TableError is a target, or an export that stands for it, of which nothing
// could be proven; nothing was written.
type TableError struct{ Err error }

func (e *TableError) Error() string { return e.Err.Error() }
func (e *TableError) Unwrap() error { return e.Err }

// Broken is a run that did not come to its end. What it had done by then is
// done; it is finished, or where it ended the rest carried out, by the next
// apply.
type Broken struct {
	Run     int
	Done    int  // records of which it is known that they were written
	Of      int  // records it was about
	Unknown int  // records of the batch that was being written, where it is not known what became of them
	Written bool // all was written, and what failed came after
	Err     error
}

func (e *Broken) Error() string { return e.Err.Error() }
func (e *Broken) Unwrap() error { return e.Err }

func refuse(code, format string, args ...any) error {
	return &Refusal{Code: code, Text: fmt.Sprintf(format, args...)}
}
