package update

import (
	"errors"
	"path/filepath"
	"strconv"

	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/handoff"
)

// system is a target of a hand-off, its export, and how that was said to be.
type system struct {
	*handoff.System
	read   table.Options
	export *desk.Table
}

// Close lets go of the export.
func (s *system) Close() error { return s.export.Close() }

// system makes the target of a hand-off: what it has is in the export that
// is named, or in the dossier's snapshot.
func (o *Office) system(t *desk.Dossier, options handoff.Options, current string) (*system, error) {
	l, err := t.OutwardLayout()
	if err != nil {
		return nil, err
	}
	s := &system{System: &handoff.System{Options: options, FS: o.FS, Dossier: t.Meta.Number, Title: t.Meta.Title, Set: t.Set().Name, Key: t.Set().Key, Layout: l,
		Dir: func(n int) string { return t.Path("load", strconv.Itoa(n)) }}}
	if current == "" && t.Meta.Snapshot.Partial() {
		return nil, &handoff.Error{Code: handoff.NeedsCurrent, Text: "dossier " + t.Meta.Number + " was compared where its tables are, and has the records alone that differ"}
	}
	if current == "" {
		in := t.Meta.Snapshot
		if s.export, err = t.OpenInput(in); err != nil {
			return nil, err
		}
		s.read = in.Options
		s.Export = &handoff.Export{File: t.Path(in.File), SHA256: in.SHA256, Ext: filepath.Ext(in.File), Fresh: t.Meta.Undoes != nil}
	} else {
		if s.export, err = t.OpenTable(current, filepath.Base(current), table.Options{}); err != nil {
			return nil, err
		}
		s.Export = &handoff.Export{Ext: filepath.Ext(current), Fresh: true}
		snapshot, err := t.OpenInput(t.Meta.Snapshot)
		if err != nil {
			return nil, errors.Join(err, s.Close())
		}
		s.Whole = snapshot.Heading
		if err := snapshot.Close(); err != nil {
			return nil, errors.Join(err, s.Close())
		}
	}
	s.Export.Image, s.Export.Raw = s.export.Image, s.export.Bytes()
	if err := s.Open(); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// copyFolder copies the files of a hand-off to a new folder, which appears
// when it is whole.
func copyFolder(fsys disk.FS, from, to string) error {
	if err := fsys.MkdirAll(filepath.Dir(to)); err != nil {
		return err
	}
	disk.Leftovers(fsys, to)
	stage := disk.TempName(to)
	if err := copyInto(fsys, from, stage); err != nil {
		_ = fsys.RemoveAll(stage) // the first error counts
		return err
	}
	return disk.Replace(fsys, stage, to)
}

func copyInto(fsys disk.FS, from, to string) error {
	if err := fsys.Mkdir(to); err != nil {
		return err
	}
	entries, err := fsys.ReadDir(from)
	if err != nil {
		return err
	}
	for _, e := range entries {
		source, dest := filepath.Join(from, e.Name()), filepath.Join(to, e.Name())
		if e.IsDir() {
			err = copyInto(fsys, source, dest)
		} else {
			err = disk.Copy(fsys, source, dest)
		}
		if err != nil {
			return err
		}
	}
	return fsys.SyncDir(to)
}
