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
}

// Misuse is a request that cannot be carried out as it stands.
type Misuse struct{ Text string }

func (e *Misuse) Error() string { return e.Text }

func misuse(format string, args ...any) error { return &Misuse{fmt.Sprintf(format, args...)} }

// NothingDone says that a dossier has not been carried out.
func NothingDone(t *desk.Dossier) error {
	return &run.Refusal{Code: run.NothingDone, Text: fmt.Sprintf("dossier %s has not been carried out", t.Meta.Number)}
}
