package run

import (
	"bytes"
	"context"
	"path/filepath"
	"slices"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/target"
)

// Return says to which backup to return.
type Restoration struct {
	Run   int // whose backup; 0 means the first run's at the target, the state before the dossier
	Sheet string
	// Whole says that all fields are brought back, also those that the target writes
	// itself: of a table that was made anew.
	Whole bool
	// OtherTarget says that the target is the last run's under another name.
	OtherTarget bool
	By          string
	Now         func() time.Time
	Tool        string
}

// Restore makes a new dossier that takes the target from its current state
// back to a backup. What no run of t wrote was changed by others since, and
// is held.
func Restore(ctx context.Context, t *desk.Dossier, tgt target.Target, b Restoration) (*desk.Dossier, *compare.Result, error) {
	runs, err := Runs(t)
	if err != nil {
		return nil, nil, err
	}
	if len(runs) == 0 {
		return nil, nil, refuse(NothingDone, "dossier %s has not been carried out", t.Meta.Number)
	}
	at, err := (&wayBack{t, b.Sheet, b.OtherTarget}).at(tgt)
	if err != nil {
		return nil, nil, err
	}
	if b.Run == 0 {
		if b.Run, err = firstAt(t, runs, at); err != nil {
			return nil, nil, err
		}
	}
	r, err := ReadRun(t, b.Run)
	if err != nil {
		return nil, nil, err
	}
	backup, err := OpenBackup(t, r)
	if err != nil {
		return nil, nil, err
	}
	if err := backup.Close(); err != nil {
		return nil, nil, err
	}
	done, err := standing(t, at)
	if err == nil {
		err = observe(ctx, t, tgt, at, done, b.By, b.Now)
	}
	if err != nil {
		return nil, nil, err
	}
	l, err := t.Layout()
	if err != nil {
		return nil, nil, err
	}
	known := &names{set: t.Set().Name, of: l.Schema()}
	wrote, err := written(t, at, known)
	if err != nil {
		return nil, nil, err
	}
	system := r.Head.System
	if len(system) == 0 {
		system = l.Schema().System()
	}
	if b.Whole {
		system = nil
	}
	read := r.Head.Read
	read.Password, read.Known, read.Rename = t.Desk().Password, r.Head.Found, func(m *table.Image) { l.Rename(m) }
	if err := r.narrow(tgt, b.Whole); err != nil {
		return nil, nil, err
	}
	var now bytes.Buffer
	if err := tgt.Backup(ctx, &now); err != nil {
		return nil, nil, err
	}
	c := &desk.Comparison{Title: "restore of " + t.Meta.Number, By: b.By, Tool: b.Tool, Now: b.Now(),
		Snapshot: desk.Source{Name: nameOf(tgt), Stream: &now, Options: read},
		Edited:   &desk.Source{Path: filepath.Join(r.Dir, r.Head.Backup), Name: filepath.Base(r.Head.Backup), Options: read},
		Undoes:   &desk.Undoes{Dossier: t.Meta.Number, Runs: []int{b.Run}, Restore: true},
		Options: compare.Options{RecordSet: t.Set().Name, Key: t.Set().Key, Layout: l, SameOnly: true, Proposals: compare.Proposals{Missing: compare.Asked, AllMissing: true, Blank: compare.Clear, Untouched: system}, OtherRegister: true, Judge: func(ch *changeset.Change) {
			known.rename(ch)
			holdOthers(ch, wrote, l.Schema(), system)
		}}}
	return t.Desk().Compare(ctx, c)
}

// firstAt returns the first run that went to a target; where none did, the
// first of all.
func firstAt(t *desk.Dossier, runs []int, at At) (int, error) {
	for _, n := range runs {
		h, err := ReadHead(t, n)
		if err != nil {
			return 0, err
		}
		if h.At() == at {
			return n, nil
		}
	}
	return runs[0], nil
}

// written returns what a dossier's runs left in the records that they wrote,
// by key and field; the field "" is whether the record was left there. Their keys
// are known then.
func written(t *desk.Dossier, at At, known *names) (map[record.Key]map[string]string, error) {
	done, err := everDone(t, at)
	if err != nil {
		return nil, err
	}
	wrote := map[record.Key]map[string]string{}
	for u, d := range done.all() {
		known.know(d.Key)
		w := wrote[d.Key]
		if w == nil {
			w = map[string]string{}
			wrote[d.Key] = w
		}
		switch d.Act {
		case changeset.Delete:
			w[""] = goneWord
		case changeset.Add:
			w[""] = thereWord
			for f := range d.Record.All() {
				w[f.Name] = d.left(f.Name, f.Value)
			}
		default:
			for f := range d.Fields.All() {
				if f.Field == u.field {
					w[f.Field] = d.left(f.Field, f.To)
				}
			}
		}
	}
	return wrote, nil
}

// holdOthers holds what no run wrote: what others changed, added or took away,
// and what they wrote over a run's values since.
func holdOthers(ch *changeset.Change, wrote map[record.Key]map[string]string, sc *schema.Schema, system []string) {
	code := changeset.ByOthers.Name
	w := wrote[ch.Key]
	ours := func(field string, now record.Value) bool {
		left, ok := w[field]
		return ok && sc.Equal(field, record.Text(left), now)
	}
	switch ch.Act {
	case changeset.Amend:
		for i := range ch.Fields {
			if f := &ch.Fields[i]; !ours(f.Field, f.From) {
				f.Held = append(f.Held, code)
			}
		}
	case changeset.Add:
		if w[""] != goneWord {
			ch.Held = append(ch.Held, code)
		}
	case changeset.Delete:
		others := slices.ContainsFunc(ch.Record, func(f record.Field) bool {
			return !ours(f.Name, f.Value) && !slices.Contains(system, f.Name) && (!f.Value.Blank() || w[f.Name] != "")
		})
		if w[""] != thereWord || others {
			ch.Held = append(ch.Held, code)
		}
	}
}
