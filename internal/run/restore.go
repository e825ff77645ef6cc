package run

import (
	"bytes"
	"context"
	"path/filepath"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/target"
)

// Return says to which backup to return.
type Return struct {
	Run  int // whose backup; 0 means the first run's, the state before the dossier
	By   string
	Now  func() time.Time
	Tool string
}

// Restore makes a new dossier that takes the target from its current state
// back to a backup. What no run of t wrote was changed by others since, and
// is held.
func Restore(ctx context.Context, t *desk.Dossier, tgt target.Target, b Return) (*desk.Dossier, *compare.Result, error) {
	runs, err := Runs(t)
	if err != nil {
		return nil, nil, err
	}
	if len(runs) == 0 {
		return nil, nil, refuse(NothingDone, "dossier %s has not been carried out", t.Meta.Number)
	}
	if b.Run == 0 {
		b.Run = runs[0]
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
	done, err := standing(t)
	if err == nil {
		err = observe(ctx, t, tgt, done, b.By, b.Now)
	}
	if err != nil {
		return nil, nil, err
	}
	wrote, err := written(t)
	if err != nil {
		return nil, nil, err
	}
	l, err := t.Layout()
	if err != nil {
		return nil, nil, err
	}
	read := r.Head.Read
	read.Password, read.Known, read.Rename = t.Desk().Password, r.Head.Found, func(m *table.Image) { l.Rename(m) }
	var now bytes.Buffer
	if err := tgt.Backup(ctx, &now); err != nil {
		return nil, nil, err
	}
	c := &desk.Comparison{Title: "restore of " + t.Meta.Number, By: b.By, Tool: b.Tool, Now: b.Now(),
		Snapshot: desk.Source{Name: nameOf(tgt), Stream: &now, Options: read},
		Edited:   &desk.Source{Path: filepath.Join(r.Dir, r.Head.Backup), Name: filepath.Base(r.Head.Backup), Options: read},
		Undoes:   &desk.Undoes{Dossier: t.Meta.Number, Runs: []int{b.Run}, Restore: true},
		Options: compare.Options{RecordSet: t.Set().Name, Key: t.Set().Key, Layout: l, SameOnly: true, Missing: compare.Asked, AllMissing: true, Blank: compare.Clear, OtherRegister: true,
			Judge: func(ch *changeset.Change) { holdOthers(ch, wrote) }}}
	return t.Desk().Compare(ctx, c)
}

// written returns the records that a dossier's runs wrote, with the fields.
func written(t *desk.Dossier) (map[record.Key]map[string]bool, error) {
	done, err := everDone(t)
	if err != nil {
		return nil, err
	}
	wrote := map[record.Key]map[string]bool{}
	for u, d := range done {
		if wrote[d.step.Key] == nil {
			wrote[d.step.Key] = map[string]bool{}
		}
		wrote[d.step.Key][u.field] = true
	}
	return wrote, nil
}

// holdOthers holds what others changed: a record that no run wrote, or a
// field of one that no run wrote.
func holdOthers(ch *changeset.Change, wrote map[record.Key]map[string]bool) {
	code := changeset.ByOthers.Name
	fields, ours := wrote[ch.Key]
	if !ours {
		ch.Held = append(ch.Held, code)
		return
	}
	for i := range ch.Fields {
		if f := &ch.Fields[i]; !fields[f.Field] && !fields[""] {
			f.Held = append(f.Held, code)
		}
	}
}
