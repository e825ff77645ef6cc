package desk

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"

	"paletwin/internal/disk"
)

// attempted starts the name of the mark of somebody's attempt to make a dossier.
// It stands from the beginning of the attempt until it has made one, so that a
// failure and a kill leave it alike.
const attempted = ".attempt-"

// AttemptError says that "-" would not be what the user just meant to make,
// since that failed.
type AttemptError struct {
	Command string // as it was typed
	Number  string // of the dossier that "-" would be
	Title   string
}

func (e *AttemptError) Error() string {
	return fmt.Sprintf("the last attempt to make a dossier made none (%s), and - would be the older dossier %s, %s", e.Command, e.Number, e.Title)
}

func (d *Desk) attemptFile(by string) string {
	return filepath.Join(d.dossiers(), attempted+Slug(by))
}

// Attempt marks that somebody is about to make a dossier, or failed to, where
// there are older ones that "-" could be taken for. It is no error where the mark
// cannot be written: then nothing else can.
func (d *Desk) Attempt(by string) {
	if names, err := d.names(); err != nil || len(names) == 0 {
		return
	}
	_ = disk.WriteBytes(d.FS, d.attemptFile(by), []byte(d.Command))
}

// Named takes back the mark of an attempt: somebody named a dossier or made one.
func (d *Desk) Named(by string) { _ = d.FS.Remove(d.attemptFile(by)) }

// newest opens the newest dossier that somebody made, unless a later attempt
// failed.
func (d *Desk) newest(names []string, by string) (*Dossier, error) {
	for _, n := range slices.Backward(names) {
		t, err := d.open(n)
		if err != nil && d.empty(n) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if t.Meta.By != by || t.copyOf(names) {
			continue
		}
		if c, err := t.Closed(); err == nil && c != nil {
			continue
		}
		b, err := disk.ReadFile(d.FS, d.attemptFile(by))
		if errors.Is(err, fs.ErrNotExist) {
			return t, nil
		}
		if err == nil {
			err = &AttemptError{string(b), t.Meta.Number, t.Meta.Title}
		}
		return nil, err
	}
	return nil, &NotFound{"-", names, d.Dir}
}
