package update

import (
	"context"
	"errors"
	"path/filepath"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/handoff"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

// Verify asks whether what was meant to change did, and nothing else.
type Verify struct {
	Dossier *desk.Dossier
	Fresh   *desk.Source // a fresh export; nil is the target itself
	Name    string       // what the export is called in the proof
	To      string       // which target is proven; "" is the last run's
	Expect  []Expect     // counts that must add up
}

// Expect is a count that must add up: how many records an expression holds of.
type Expect struct {
	Source string
	Count  int
}

// Verify holds a fresh state against what was meant, and keeps the proof, unless
// somebody else works on the dossier.
func (o *Office) Verify(ctx context.Context, r *Verify) (*run.Verification, error) {
	t := r.Dossier
	last, err := LastAt(t, r.To)
	if err != nil {
		return nil, err
	}
	lock, lerr := t.Lock() // the proof, and what an export shows to be done, are written down
	defer lock.Unlock()
	if last != nil && last.Handoff {
		if r.Fresh == nil {
			return nil, &handoff.Error{Code: handoff.NeedsFresh, Text: "dossier " + t.Meta.Number + " was handed off, and what the system has now only a fresh export tells"}
		}
		if lerr != nil {
			return nil, lerr
		}
	}
	var only []record.Key // what a proof looks at; counts are of everything
	if last != nil && r.Fresh == nil && len(r.Expect) == 0 {
		if only, err = run.Looked(t, last); err != nil {
			return nil, err
		}
	}
	img, release, err := o.fresh(ctx, t, last, r.Fresh, only)
	if err != nil {
		return nil, err
	}
	defer release()
	p := run.Proof{Fresh: img, Name: r.Name, By: o.By, Now: o.Now, Unkept: lerr != nil}
	if r.To != "" {
		p.At = new(last.At())
	}
	for _, x := range r.Expect {
		e, err := run.NewExpect(t, img.Heading, x.Source, x.Count)
		if err != nil {
			return nil, err
		}
		p.Expect = append(p.Expect, e)
	}
	return run.Verify(ctx, t, p)
}

// fresh reads the file that was named, or the last run's target, of which only some records
// may be asked for. A file is read without its lock, since nothing is written.
func (o *Office) fresh(ctx context.Context, t *desk.Dossier, last *run.Head, s *desk.Source, only []record.Key) (*table.Image, func() error, error) {
	var f *desk.Table
	var err error
	switch {
	case s != nil:
		l, lerr := t.Layout()
		if lerr != nil {
			return nil, nil, lerr
		}
		named := *s
		named.Options.Password, named.Options.Rename = o.Password, func(m *table.Image) { l.Rename(m) }
		f, err = desk.OpenSource(o.FS, &named)
	case last == nil:
		return nil, nil, NothingDone(t)
	case target.Scheme(last.Target) == "":
		read := last.Read
		read.Known = last.Found
		f, err = t.OpenTable(last.Target, filepath.Base(last.Target), read)
	default:
		return o.table(ctx, t, last.Target, only)
	}
	if err != nil {
		return nil, nil, err
	}
	return f.Image, f.Close, nil
}

// table reads a target that is no file: all of it, or some records where it can be asked
// for these.
func (o *Office) table(ctx context.Context, t *desk.Dossier, name string, only []record.Key) (*table.Image, func() error, error) {
	tgt, _, err := o.Target(ctx, t, Where{To: name})
	if err != nil {
		return nil, nil, err
	}
	if n, ok := tgt.(target.Narrower); ok {
		if err := n.Only(only); err != nil {
			return nil, nil, errors.Join(err, tgt.Close())
		}
	}
	img, release, err := tgt.Table(ctx)
	if err != nil {
		return nil, nil, errors.Join(err, tgt.Close())
	}
	return img, func() error { return errors.Join(release(), tgt.Close()) }, nil
}
