package run

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"

	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

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
	note(t.CheckKept())
	if t.IsPart() {
		note(t.Whole().CheckKept())
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

// Uncovered says what of a dossier nothing is held against, since it is older
// than that; "" where all is.
func Uncovered(t *desk.Dossier) string {
	if t.Damage != nil || t.Covered() {
		return ""
	}
	return "not covered before version 2: the ends of its decisions and journals, outcome.csv, verify.json, and its copy of the layout"
}

func checkRun(t *desk.Dossier, n int) error {
	r, err := ReadRun(t, n)
	if err != nil {
		return err
	}
	for _, f := range []struct{ name, sum string }{{r.Head.Backup, r.Head.SHA256}, {rollbackName, r.Head.Rollback}} {
		if err := checkSum(t, filepath.Join(r.Dir, f.name), f.sum); err != nil {
			return err
		}
	}
	if r.Head.Definition != "" {
		if err := checkSum(t, filepath.Join(r.Dir, DefinitionName), r.Head.Definition); err != nil {
			return err
		}
	}
	for _, l := range slices.Concat(r.Loads, r.Beside) {
		if err := checkSum(t, t.Path("load", strconv.Itoa(n), filepath.FromSlash(l.Name)), l.SHA256); err != nil {
			return err
		}
	}
	for _, a := range r.Heard {
		if a.File != "" {
			if err := checkSum(t, filepath.Join(r.Dir, a.File), a.SHA256); err != nil {
				return err
			}
		}
	}
	if r.Ended == "" {
		return nil
	}
	if err := r.checkOutcome(t); err != nil {
		return err
	}
	return r.checkProof(t)
}

func checkSum(t *desk.Dossier, file, want string) error {
	sum, err := disk.Sum(t.FS(), file)
	if err == nil && sum != want {
		err = desk.ErrAltered
	}
	if err != nil {
		return &desk.DamageError{File: file, Err: err}
	}
	return nil
}

// checkOutcome compares outcome.csv with what the journal makes of it: the same
// rows, in whatever order.
func (r *Record) checkOutcome(t *desk.Dossier) error {
	file := filepath.Join(r.Dir, outcomeName)
	have, err := disk.ReadFile(t.FS(), file)
	if errors.Is(err, fs.ErrNotExist) {
		err = desk.ErrMissing
	}
	if err == nil && r.Head.Version >= 3 {
		var want bytes.Buffer
		if err := appendOutcomes(&want, t.Set().Key, r.Steps); err != nil {
			return err
		}
		if !slices.Equal(sortedLines(have), sortedLines(want.Bytes())) {
			err = desk.ErrAltered
		}
	}
	if err != nil {
		return &desk.DamageError{File: file, Err: err}
	}
	return nil
}

func sortedLines(b []byte) []string {
	var all []string
	for line := range bytes.Lines(b) {
		all = append(all, string(line))
	}
	slices.Sort(all)
	return all
}

// checkProof compares verify.json with the digest that the journal has of it.
// A proof that a kill kept from being written leaves the one before, or none.
func (r *Record) checkProof(t *desk.Dossier) error {
	file := filepath.Join(r.Dir, verifyName)
	b, err := disk.ReadFile(t.FS(), file)
	if errors.Is(err, fs.ErrNotExist) || r.Head.Version < 3 {
		return nil
	}
	sum := sha256.Sum256(b)
	last := r.Proofs[max(0, len(r.Proofs)-2):]
	if err == nil && !slices.Contains(last, hex.EncodeToString(sum[:])) {
		err = desk.ErrAltered
	}
	if err != nil {
		return &desk.DamageError{File: file, Err: err}
	}
	return nil
}
