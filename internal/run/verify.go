package run

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// Verification says whether what was meant to change did, and nothing else.
type Verification struct {
	AsMeant     int                    `json:"as_meant"`      // steps whose values are all there
	NotDone     int                    `json:"not_done"`      // steps whose record is as before
	NotTried    int                    `json:"not_attempted"` // steps that the last run did not come to
	Other       int                    `json:"other"`         // steps whose record is something else again
	Besides     int                    `json:"besides"`       // differences nobody meant: fields, records come or gone
	Differently int                    `json:"differently"`   // steps of whose values the system made something else
	Since       int                    `json:"since"`         // steps whose values a later dossier changed
	Later       int                    `json:"later"`         // differences elsewhere that later dossiers made
	Made        []Made                 `json:"made"`          // what the system made of values, by field
	Fields      []changeset.FieldCount `json:"besides_by_field"`
	System      []changeset.FieldCount `json:"system"` // what the target wrote itself, by field
	Expected    []Expected             `json:"expected"`
	Differences []Difference           `json:"differences"`
	Totals      []compare.Total        `json:"totals"`            // from the backup to now
	Touched     bool                   `json:"touched,omitempty"` // the records alone were looked at that runs touched
	Fresh       string                 `json:"fresh,omitempty"`   // the export that it was held against
	When        time.Time              `json:"when"`

	set    string   // the record set's name
	system []string // fields that the target writes itself
	layout *layout.Layout
	schema *schema.Schema // the layout's
	later  *later
}

// Holds reports whether everything is as meant.
func (v *Verification) Holds() bool {
	for _, e := range v.Expected {
		if !e.Holds() {
			return false
		}
	}
	return v.NotDone+v.NotTried+v.Differently+v.Since+v.Other+v.Besides == 0
}

// Difference is one value that is not as meant.
type Difference struct {
	Kind     string `json:"kind"` // one of the kinds below
	Key      string `json:"key"`
	Field    string `json:"field,omitempty"` // "" for a record come or gone
	Expected string `json:"expected"`
	Found    string `json:"found"`
	How      string `json:"how,omitempty"` // what the system made of the value
	By       string `json:"by,omitempty"`  // the later dossier that changed it
}

// Kinds of differences.
const (
	NotDone     = "not done"
	NotTried    = "not attempted"
	Differently = "done differently"
	Since       = "changed since"
	Other       = "other"
	Besides     = "besides"
)

// Made is what a system made of the values of a field.
type Made struct {
	Field    string `json:"field"`
	How      string `json:"how"`
	Count    int    `json:"count"`
	Expected string `json:"expected"` // of the first
	Found    string `json:"found"`
}

// Words for a record in a Difference.
const (
	thereWord = "(the record)"
	goneWord  = "(no record)"
)

// Proof is a verification to be made.
type Proof struct {
	Fresh  *table.Image // what is there now
	Name   string       // what it is called; "" is the target itself
	Expect []*Expect    // counts that must add up
	By     string       // who asks
	At     *At          // which target is proven; nil is the last run's
	Unkept bool         // nothing is written down, since somebody else works on the dossier
	Now    func() time.Time
}

// Verify holds a fresh state against what a dossier's runs meant: what the
// last run read, with its steps done. The result is kept as verify.json. Of a
// hand-off it also learns which steps were done; the caller holds the
// dossier's lock then.
func Verify(ctx context.Context, t *desk.Dossier, p Proof) (*Verification, error) {
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	if len(runs) == 0 {
		return nil, refuse(NothingDone, "dossier %s has not been carried out", t.Meta.Number)
	}
	last, err := newest(t, func(h *Head) bool { return p.At == nil || h.At() == *p.At })
	if err != nil {
		return nil, err
	}
	if last == nil {
		return nil, refuse(NothingDone, "no run of dossier %s went to %s", t.Meta.Number, p.At.Target)
	}
	return verify(ctx, t, last, p)
}

// verify is Verify with the last run at hand.
func verify(ctx context.Context, t *desk.Dossier, last *Record, p Proof) (*Verification, error) {
	v := &Verification{Differences: []Difference{}, System: []changeset.FieldCount{}, Made: []Made{}, Fields: []changeset.FieldCount{}, Expected: []Expected{},
		Fresh: p.Name, When: p.Now().UTC(), set: t.Set().Name, system: last.Head.System, later: &later{t: t, at: last.Head.At()}}
	var err error
	if v.layout, err = t.Layout(); err != nil {
		return nil, err
	}
	if v.schema, err = t.Schema(); err != nil {
		return nil, err
	}
	base, err := lastRead(t, last)
	if err != nil {
		return nil, err
	}
	backup, err := OpenBackup(t, base)
	if err != nil {
		return nil, err
	}
	defer backup.Close()
	now := p.Fresh
	if v.Touched = base.Head.Touched; v.Touched {
		if now, err = rowsOf(ctx, p.Fresh, t.Set().Key, touched(base.Steps), v.schema); err != nil {
			return nil, err
		}
	}
	if err := v.compare(ctx, t, last, backup.Image, now, p); err != nil {
		return nil, err
	}
	for _, e := range p.Expect {
		found, err := e.count(p.Fresh)
		if err != nil {
			return nil, err
		}
		v.Expected = append(v.Expected, Expected{e.Source, e.Want, found})
	}
	if p.Unkept {
		return v, nil
	}
	return v, v.keep(t, last)
}

// keep writes verify.json, once the run's journal has its digest.
func (v *Verification) keep(t *desk.Dossier, r *Record) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	if r.Head.Handoff { // what was learnt stands behind what was read of it
		var err error
		if r, err = ReadRun(t, r.Head.Run); err != nil {
			return err
		}
	}
	if r.Head.Version >= 3 {
		sum := sha256.Sum256(b.Bytes())
		if err := r.append(t, fmt.Appendf(nil, "{\"proof\":%q}\n", hex.EncodeToString(sum[:])), nil); err != nil {
			return err
		}
	}
	return disk.WriteBytes(t.FS(), filepath.Join(r.Dir, verifyName), b.Bytes())
}

// lastRead returns the run whose backup is the target as it was read last. A
// hand-off without a fresh export read nothing, and its backup is the snapshot.
func lastRead(t *desk.Dossier, last *Record) (*Record, error) {
	if !last.Head.Handoff {
		return last, nil
	}
	for n := last.Head.Run; n > 0; n-- {
		r, err := ReadRun(t, n)
		if errors.Is(err, ErrNoRun) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if !strings.HasPrefix(r.Head.Backup, "..") {
			return r, nil
		}
	}
	return last, nil
}
