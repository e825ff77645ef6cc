package run

import (
	"context"
	"slices"

	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
	"paletwin/internal/target"
)

// This file is about runs that read, keep and prove the records alone that they touch,
// since their target's others are many.

// touched are the keys under which steps' records stand, stood or are to stand.
func touched(steps []*Step) []record.Key {
	k := make([]record.Key, 0, len(steps))
	for _, s := range steps {
		if k = append(k, s.Key); !s.Was().IsZero() {
			k = append(k, s.Was())
		}
	}
	return k
}

// narrow has the target look at the records with some keys alone, where the run is to, and
// at all where it is not.
func (j *Job) narrow(keys []record.Key) error {
	n, ok := j.Target.(target.Narrower)
	switch {
	case ok && !j.Options.Touched:
		return n.Only(nil)
	case !j.Options.Touched:
		return nil
	case !ok:
		return refuse(WholeOnly, "%s is read and written whole, and so is its backup: --with touched is for tables of databases", j.Target.Name())
	}
	return n.Only(keys)
}

// narrowTo is narrow to the records that steps touch.
func (j *Job) narrowTo(steps []*Step) error {
	if !j.Options.Touched {
		return j.narrow(nil)
	}
	return j.narrow(touched(steps))
}

// keys are those of the records that runs wrote, or may have written.
func (p *past) keys() []record.Key {
	var steps []*Step
	for _, units := range []units{p.done, p.unknown} {
		for d := range units.shares() {
			steps = append(steps, d)
		}
	}
	return touched(steps)
}

// only has a target look at the records with some keys alone, if it can and a run of the
// dossier did.
func only(t *desk.Dossier, tgt target.Target, at At, keys func() []record.Key) error {
	n, ok := tgt.(target.Narrower)
	if !ok {
		return nil
	}
	h, _, err := newestHead(t, func(h *Head) bool { return h.At() == at && h.Touched })
	if err != nil || h == nil {
		return err
	}
	return n.Only(keys())
}

// Looked returns the keys of the records that a proof of what a dossier's runs did at a
// target looks at; nil where it looks at all, since the last of them did.
func Looked(t *desk.Dossier, last *Head) ([]record.Key, error) {
	if !last.Touched {
		return nil, nil
	}
	keys := []record.Key{}
	for r, err := range allRuns(t) {
		if err != nil {
			return nil, err
		}
		if r.Head.At() == last.At() {
			keys = append(keys, touched(r.Steps)...)
		}
	}
	return keys, nil
}

// keptAll refuses a backup that has not all of the target's records.
func (h *Head) keptAll() error {
	if !h.Touched {
		return nil
	}
	return refuse(NotKept, "run %d of dossier %s kept the records alone that it touched, %d at most: no other record stands in its backup", h.Run, h.Dossier, h.Steps)
}

// narrow has a target look at the records alone that the run's backup has; whole says that
// all of the target's are to come back.
func (r *Record) narrow(tgt target.Target, whole bool) error {
	n, ok := tgt.(target.Narrower)
	if r.Head.Touched && ok && !whole {
		return n.Only(touched(r.Steps))
	}
	return r.Head.keptAll()
}

// rowsOf is the part of a table that has the records with some keys.
func rowsOf(ctx context.Context, img *table.Image, key []string, keys []record.Key, sc *schema.Schema) (*table.Image, error) {
	cols, err := csv.KeyColumns(img, key)
	if err != nil {
		return nil, err
	}
	wanted := make(map[record.Key]bool, len(keys))
	for _, k := range keys {
		wanted[sc.Key(k)] = true
	}
	part := &table.Image{Name: img.Name, Comma: img.Comma, Heading: img.Heading, HeadingRow: img.HeadingRow, Body: img.Body, BodyLine: img.BodyLine,
		Found: img.Found, Nulls: img.Nulls, Renamed: img.Renamed, Shown: img.Shown}
	err = table.Guard(func() error {
		part.Data = slices.Clone(img.Data[:img.Body])
		return csv.Each(ctx, img, func(r *csv.Line) error {
			if wanted[sc.Key(r.Key(cols))] {
				part.Data = append(append(part.Data, r.Raw()...), '\n')
			}
			return nil
		})
	})
	return part, err
}
