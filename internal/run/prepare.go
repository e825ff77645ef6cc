package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"paletwin/core/changeset"
	"paletwin/core/forms"
	"paletwin/core/words"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// prepare makes the run's folder: backup and rollback file, both read back,
// and the journal's heading, with which the run has begun.
func (j *Job) prepare(ctx context.Context, n int, left Left, steps, write []*Step) (*Record, error) {
	if err := j.room(); err != nil {
		return nil, err
	}
	fsys, dir := j.Dossier.FS(), Dir(j.Dossier, n)
	if err := mkdirs(fsys, j.Dossier.Path("runs"), dir); err != nil {
		return nil, err
	}
	j.Progress("backing up", 0, 0)
	head := Head{Form: forms.Journal.Name, Version: 3, Dossier: j.Dossier.Meta.Number, Run: n, Target: j.Target.Name(),
		By: j.By, When: j.Now().UTC(), Steps: len(steps), Backup: backupStem + j.Target.Traits().Ext, System: j.Options.System, Read: j.Options.Read.Kept(), Found: j.found, Left: left, LeaveOpen: j.Options.LeaveOpen, Touched: j.Options.Touched, With: j.with}
	_, head.Handoff = j.Target.(target.Loader)
	if _, commits := j.Target.(target.Committer); commits {
		head.Version = promising
	}
	if j.with != nil {
		head.Version = grouped
	}
	if _, asks := j.Target.(target.Requester); asks {
		head.Version = forms.Journal.Version
	}
	if err := j.backup(ctx, dir, &head); err != nil {
		return nil, err
	}
	if err := j.definition(ctx, dir, &head); err != nil {
		return nil, err
	}
	if err := j.rollbackFile(ctx, dir, &head, write); err != nil {
		return nil, err
	}
	if !j.inGroup { // how records stood is in the file now
		for _, s := range write {
			s.former = nil
		}
	}
	if err := fsys.SyncDir(j.Dossier.Path("runs")); err != nil {
		return nil, err
	}
	r := &Record{Head: head, Dir: dir, Steps: steps, fresh: true, open: map[changeset.ID]bool{}}
	var settled []*Step
	for _, s := range steps {
		s.run = int32(n)
		if s.Outcome != "" {
			settled = append(settled, s)
		}
	}
	jr, err := beginJournal(j.Dossier, r, settled)
	if err != nil {
		return nil, err
	}
	r.size, r.last = jr.size, jr.last
	return r, nil
}

func mkdirs(fsys disk.FS, dirs ...string) error {
	for _, d := range dirs {
		if err := fsys.Mkdir(d); err != nil && !errors.Is(err, os.ErrExist) {
			return err
		}
	}
	return nil
}

// room refuses to begin where backup and rewriting do not fit on the disk.
func (j *Job) room() error {
	dir, size := j.Dossier.Dir, j.Target.Traits().Size
	if room, err := j.Dossier.FS().Free(dir); err == nil && room >= 0 && room < 2*size {
		return refuse(NoRoom, "the disk of %s has %s free, and backup and rewriting need %s", dir, words.Size(room), words.Size(2*size+1<<20))
	}
	return nil
}

// backup writes the target's whole state and reads it back.
func (j *Job) backup(ctx context.Context, dir string, head *Head) error {
	if h, ok := j.Target.(target.Loader); ok {
		if kept, sum := h.Kept(); kept != "" {
			return j.keptBackup(dir, kept, sum, head)
		}
	}
	fsys, file := j.Dossier.FS(), filepath.Join(dir, head.Backup)
	write := disk.WriteFile
	s, sums := j.Target.(target.Summer)
	if sums {
		write = disk.WriteUnsummed
	}
	w, err := write(fsys, file, 0o600, func(w io.Writer) error { return j.Target.Backup(ctx, w) })
	if err != nil {
		return err
	}
	if err := readsBack(fsys, &w, file); err != nil {
		return err
	}
	if head.SHA256 = w.SHA256; sums {
		head.SHA256, err = s.Summed(ctx)
	}
	return err
}

// definition keeps what the records of a backup stand in.
func (j *Job) definition(ctx context.Context, dir string, head *Head) error {
	d, ok := j.Target.(target.Definer)
	if !ok {
		return nil
	}
	sql, _, err := d.Definition(ctx)
	if err != nil {
		return err
	}
	fsys, file := j.Dossier.FS(), filepath.Join(dir, DefinitionName)
	w, err := disk.WriteFile(fsys, file, 0o600, func(w io.Writer) error { _, err := w.Write(sql); return err })
	if err != nil {
		return err
	}
	head.Definition = w.SHA256
	return readsBack(fsys, &w, file)
}

// Definition reads what makes the table of a run's backup anew, and checks its digest.
func Definition(t *desk.Dossier, r *Record) ([]byte, error) {
	file := filepath.Join(r.Dir, DefinitionName)
	if r.Head.Definition == "" {
		return nil, refuse(NoDefinition, "run %d of dossier %s kept no definition of a table", r.Head.Run, t.Meta.Number)
	}
	if err := r.Head.keptAll(); err != nil {
		return nil, err
	}
	if err := checkSum(t, file, r.Head.Definition); err != nil {
		return nil, err
	}
	return disk.ReadFile(t.FS(), file)
}

// keptBackup takes a file for the backup that is there already, and stays.
func (j *Job) keptBackup(dir, kept, sum string, head *Head) (err error) {
	if head.Backup, err = filepath.Rel(dir, kept); err != nil {
		return err
	}
	head.Backup, head.SHA256 = filepath.ToSlash(head.Backup), sum
	now, err := disk.Sum(j.Dossier.FS(), kept)
	if err == nil && now != sum {
		err = desk.ErrAltered
	}
	if err != nil {
		return &desk.DamageError{File: kept, Err: err}
	}
	return nil
}

// readsBack makes sure that what was written is what is there.
func readsBack(fsys disk.FS, w *disk.Written, file string) error {
	ok, err := w.ReadsBack(fsys, file)
	if err == nil && !ok {
		err = fmt.Errorf("%s: %w", file, ErrBackup)
	}
	return err
}

// rollbackFile writes what every step's record was, and reads it back.
func (j *Job) rollbackFile(ctx context.Context, dir string, head *Head, write []*Step) error {
	set := j.Dossier.Set()
	each := func(take func(s *Step) error) error {
		if !j.formsAgain {
			for _, s := range write {
				if err := take(s); err != nil {
					return err
				}
			}
			return nil
		}
		var as former // of the step that is written
		return j.eachState(ctx, write, func(s *Step, now *target.State) error {
			if s.former = nil; now.Form.Kept {
				as.form, s.former = now.Form, &as
			}
			err := take(s)
			s.former = nil
			return err
		})
	}
	w, err := writeRollback(j.Dossier.FS(), dir, map[string]any{"paletwin": forms.Rollback.Name, "version": forms.Rollback.Version, "dossier": head.Dossier, "run": head.Run,
		"record_set": set.Name, "key": set.Key, "target": head.Target}, len(write), each)
	if err != nil {
		return err
	}
	head.Rollback = w.SHA256
	return readsBack(j.Dossier.FS(), &w, filepath.Join(dir, rollbackName))
}

// OpenBackup opens a run's backup and checks its digest, unless this process
// has written it and read it back just now.
func OpenBackup(t *desk.Dossier, r *Record) (*desk.Table, error) {
	file := filepath.Join(r.Dir, r.Head.Backup)
	o := r.Head.Read
	o.Known = r.Head.Found
	b, err := t.OpenTable(file, filepath.Base(r.Head.Backup), o)
	if err != nil {
		return nil, &desk.DamageError{File: file, Err: err}
	}
	if r.fresh {
		return b, nil
	}
	sum, err := b.SHA256()
	if err == nil && sum != r.Head.SHA256 {
		err = &desk.DamageError{File: file, Err: desk.ErrAltered}
	}
	if err != nil {
		_ = b.Close() // the first error counts
		return nil, err
	}
	return b, nil
}
