// Package update is what can be asked for of a dossier: apply, hand off, collect,
// verify, roll back, restore. A request is a struct and its answer is one; nothing
// here reads flags, prints or asks. Comparing, deriving and deciding are asked of a
// desk (desk.Comparison, desk.Order).
package update

import (
	"fmt"
	"time"

	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/run"
)

// Office is who asks, and with what.
type Office struct {
	FS       disk.FS
	By       string
	Now      func() time.Time
	Tool     string // the program's version, which dossiers keep
	Password string // of workbooks
	Env      func(string) string
	// Secret asks for the password of a database, where one is asked for and none is known;
	// nil is nobody.
	Secret func(who string) (string, error)
}

// Misuse is a request that cannot be carried out as it stands.
type Misuse struct {
	Code string
	Args []any // what the code is about, as it says
}

func (e *Misuse) Error() string { return fmt.Sprint(append([]any{e.Code}, e.Args...)...) }

// Codes of a Misuse.
const (
	NotHanded   = "not-handed"   // a fresh export was named for what is read directly
	OutThere    = "out-there"    // the folder for the files is there already: its path
	Negative    = "negative"     // a number of records is negative
	WhichFile   = "which-file"   // files were sent field by field, and which one was answered is not said: the run
	TooMany     = "too-many"     // more records are said to be done than were handed over: how many were, how many are said
	WholeFile   = "whole-file"   // a file is carried out as a whole, and was named alone: its name
	NoKeyThere  = "no-key-said"  // the table has no key of its own, and none was said: its name
	NotCompared = "not-compared" // the dossier undoes another, or compares nothing: its number
	WhereNow    = "where-now"    // where the records of a copy live is not known: its name
	MadeOf      = "made-of"      // what a copy was made from is not known: its name
	NoSuchFile  = "no-such-file" // no load file has the name: the run, and those that there are
)

// NothingDone says that a dossier has not been carried out.
func NothingDone(t *desk.Dossier) error {
	return &run.Refusal{Code: run.NothingDone, Text: fmt.Sprintf("dossier %s has not been carried out", t.Meta.Number)}
}
