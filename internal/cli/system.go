package cli

import (
	"errors"
	"path/filepath"
	"strconv"

	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/handoff"
)

// system is a target of a hand-off, and how its export was said to be.
type system struct {
	*handoff.System
	read table.Options
}

// system makes the target of a hand-off: what it has is in the export that
// was named, or in the dossier's snapshot.
func (a *app) system(t *desk.Dossier, o handoff.Options, current string) (*system, func(), error) {
	l, err := t.Layout()
	if err != nil {
		return nil, nil, err
	}
	s := &system{System: &handoff.System{Options: o, FS: a.fs, Dossier: t.Meta.Number, Title: t.Meta.Title, Set: t.Set().Name, Key: t.Set().Key, Layout: l,
		Dir: func(n int) string { return t.Path("load", strconv.Itoa(n)) }}}
	var file *desk.Table
	if current == "" {
		in := t.Meta.Snapshot
		if file, err = t.OpenInput(in); err != nil {
			return nil, nil, err
		}
		s.read = in.Options
		s.Export = &handoff.Export{File: t.Path(in.File), SHA256: in.SHA256, Ext: filepath.Ext(in.File), Fresh: t.Meta.Undoes != nil}
	} else {
		if file, err = t.OpenTable(a.path(current), filepath.Base(current), table.Options{}); err != nil {
			return nil, nil, err
		}
		s.Export = &handoff.Export{Ext: filepath.Ext(current), Fresh: true}
		snapshot, err := t.OpenInput(t.Meta.Snapshot)
		if err != nil {
			return nil, nil, errors.Join(err, file.Close())
		}
		s.Whole = snapshot.Heading
		if err := snapshot.Close(); err != nil {
			return nil, nil, errors.Join(err, file.Close())
		}
	}
	s.Export.Image, s.Export.Raw = file.Image, file.Bytes()
	done := func() { _ = file.Close() } // only read
	if err := s.Open(); err != nil {
		done()
		return nil, nil, err
	}
	return s, done, nil
}

// copyFolder copies the files of a hand-off to a new folder, which appears
// when it is whole.
func copyFolder(fsys disk.FS, from, to string) error {
	if err := fsys.MkdirAll(filepath.Dir(to)); err != nil {
		return err
	}
	stage := disk.TempName(to)
	if err := fsys.RemoveAll(stage); err != nil {
		return err
	}
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
