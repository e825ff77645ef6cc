package update

import (
	"cmp"
	"context"
	"fmt"

	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/handoff"
	"paletwin/internal/run"
	"paletwin/internal/target"
	"paletwin/internal/target/open"
)

// Where names a target, and says what is known of it.
type Where struct {
	To        string // an absolute path, a URL, or a name on the desk; "" is where the last run went, or the snapshot was taken
	Sheet     string // of a workbook
	Encoding  string // of a CSV file
	Delimiter string
	Current   string // of what was handed off: a fresh export, by its absolute path
	Withdraw  bool   // of a service: what it is at behind its answer is dropped where the request is given up
}

// Place is the name of the place that a name stands for, which may be one of the
// desk's.
func Place(t *desk.Dossier, to string) string {
	if named, ok := t.Desk().Settings.Targets[to]; ok {
		to = named.To
	}
	return open.Name(to)
}

// Known is the target that a dossier knows without being told: that of its last run, whose heading is given, or where its snapshot
// was taken; "" is none. What was handed over has none.
func Known(t *desk.Dossier, last *run.Head) string {
	switch {
	case last != nil && last.Handoff:
		return ""
	case last != nil:
		return last.Target
	}
	if k := t.Taken(); k != nil && k.Where == "" {
		return k.Target
	}
	return ""
}

// Target opens the target that is named, or the last run's, and says how it was
// said to be.
func (o *Office) Target(ctx context.Context, t *desk.Dossier, w Where) (target.Target, table.Options, error) {
	read := table.Options{Sheet: w.Sheet, Encoding: w.Encoding, Delimiter: w.Delimiter}
	last, err := run.LastTarget(t)
	if err != nil {
		return nil, read, err
	}
	if w.To == "" {
		if w.To = Known(t, last); w.To == "" && last == nil {
			return nil, read, &run.Refusal{Code: run.NoTarget, Text: fmt.Sprintf("dossier %s has no target yet", t.Meta.Number)}
		}
		if w.To == "" {
			return nil, read, &run.Refusal{Code: run.WasHanded, Text: fmt.Sprintf("dossier %s goes to a system that takes files", t.Meta.Number)}
		}
	}
	place := Place(t, w.To)
	if there, err := run.LastRunAt(t, place); err != nil {
		return nil, read, err
	} else if there != nil {
		last = there
	}
	if last != nil && last.Target == place {
		read.Sheet, read.Encoding, read.Delimiter = cmp.Or(read.Sheet, last.Read.Sheet), cmp.Or(read.Encoding, last.Read.Encoding), cmp.Or(read.Delimiter, last.Read.Delimiter)
	}
	if read.Known, err = run.KnownOf(t, last, place); err != nil {
		return nil, read, err
	}
	l, err := t.Layout()
	if err != nil {
		return nil, read, err
	}
	of, err := t.Schema()
	if err != nil {
		return nil, read, err
	}
	read.Password, read.Rename = o.Password, func(m *table.Image) { l.Rename(m) }
	f, err := open.Open(ctx, o.FS, open.Place{Name: place, Key: t.Set().Key, Of: of, Read: read,
		Dir: t.Dir, Env: o.Env, Secret: o.Secret, KeepRows: t.Desk().Settings.KeepRows(place), NoTickets: t.Desk().Settings.NoTickets(place), Service: asked(t.Desk(), place, w.Withdraw)})
	return f, read, err
}

// state opens what is to be undone, or returned to a backup: the target, with
// the sheet that was named, or for a hand-off the fresh export that tells what
// the system has.
func (o *Office) state(ctx context.Context, t *desk.Dossier, w Where) (_ target.Target, sheet string, err error) {
	last, err := run.LastTarget(t)
	if err != nil {
		return nil, "", err
	}
	if w.To != "" || last == nil || !last.Handoff {
		if w.Current != "" {
			return nil, "", &Misuse{NotHanded, nil}
		}
		f, read, err := o.Target(ctx, t, w)
		return f, read.Sheet, err
	}
	if w.Current == "" {
		return nil, "", &handoff.Error{Code: handoff.NeedsCurrent, Text: "dossier " + t.Meta.Number + " was handed off, and what the system has now only a fresh export tells"}
	}
	s, err := o.system(t, handoff.Options{Form: handoff.CSV}, w.Current)
	return s, "", err
}

// LastAt returns the heading of the dossier's last run, or of the last that went
// to the target that is named; nil if it has no run.
func LastAt(t *desk.Dossier, to string) (*run.Head, error) {
	if to == "" {
		return run.LastTarget(t)
	}
	place := Place(t, to)
	h, err := run.LastRunAt(t, place)
	if err == nil && h == nil {
		return nil, &run.Refusal{Code: run.NothingDone, Text: fmt.Sprintf("no run of dossier %s went to %s", t.Meta.Number, place)}
	}
	return h, err
}

// asked is how the desk wants a service to be asked.
func asked(d *desk.Desk, name string, withdraw bool) (s open.Service) {
	s.Withdraw = withdraw
	s.Batch, s.Requests, s.Form = d.Settings.Requests(name)
	return s
}
