package update

import (
	"context"
	"path/filepath"

	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/handoff"
	"paletwin/internal/run"
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
	f, err := o.fresh(t, last, r.Fresh)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	p := run.Proof{Fresh: f.Image, Name: r.Name, By: o.By, Now: o.Now, Unkept: lerr != nil}
	if r.To != "" {
		p.At = new(last.At())
	}
	for _, x := range r.Expect {
		e, err := run.NewExpect(t, f.Heading, x.Source, x.Count)
		if err != nil {
			return nil, err
		}
		p.Expect = append(p.Expect, e)
	}
	return run.Verify(ctx, t, p)
}

// fresh reads the file that was named, or the last run's target.
func (o *Office) fresh(t *desk.Dossier, last *run.Head, s *desk.Source) (*desk.Table, error) {
	if s != nil {
		l, err := t.Layout()
		if err != nil {
			return nil, err
		}
		named := *s
		named.Options.Password, named.Options.Rename = o.Password, func(m *table.Image) { l.Rename(m) }
		return desk.OpenSource(o.FS, &named)
	}
	if last == nil {
		return nil, NothingDone(t)
	}
	read := last.Read
	read.Known = last.Found
	return t.OpenTable(last.Target, filepath.Base(last.Target), read)
}
