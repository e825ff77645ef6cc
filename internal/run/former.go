package run

import (
	"bytes"
	"path/filepath"
	"slices"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// former is what was there of a record before runs, beyond its values: how it looked, and
// what went along with it.
type former struct {
	form  target.Form
	along []target.Dependent
}

// formers say how the records that a rollback brings back stood before the runs it undoes, by the rollback's change ids. How they looked is
// read of the runs' rollback files when it is asked for. A nil *formers says nothing.
type formers struct {
	files []formerFile
	lines map[changeset.ID]formerLine
	along map[changeset.ID][]target.Dependent
	d     stepReader
}

// formerFile is a run's rollback file.
type formerFile struct {
	*disk.Mapping
	run int
}

// formerLine is where a record stands in a rollback file.
type formerLine struct {
	start int64
	file  int32
	kept  bool // it says how the record looked
}

// formerly returns how records stood before the runs that a dossier undoes, nil where it undoes none.
func formerly(t *desk.Dossier) (*formers, error) {
	u := t.Meta.Undoes
	if u == nil || u.Restore {
		return nil, nil
	}
	from, err := t.Desk().Dossier(u.Dossier, "")
	if err != nil {
		return nil, err
	}
	f := &formers{lines: map[changeset.ID]formerLine{}, along: map[changeset.ID][]target.Dependent{}}
	for _, n := range slices.Sorted(slices.Values(u.Runs)) { // how a record looked before the first of them counts
		d, err := deedsOf(from, n)
		if err == nil {
			err = f.take(t.FS(), t.Set().Name, filepath.Join(Dir(from, n), rollbackName), n, d)
		}
		if err != nil {
			f.Close()
			return nil, err
		}
	}
	return f, nil
}

// deeds is what a run did, by its journal: the steps that are done, and what went along with them.
type deeds struct {
	done  map[changeset.ID]bool
	along map[changeset.ID][]target.Dependent
}

// deedsOf reads what a run did, and nothing else of it.
func deedsOf(t *desk.Dossier, n int) (*deeds, error) {
	d := &deeds{map[changeset.ID]bool{}, map[changeset.ID][]target.Dependent{}}
	err := withJournal(t, n, func(journal []byte) error {
		r := &Record{open: map[changeset.ID]bool{}}
		return r.walk(journal, func(e *entry) error {
			return r.takeTold(e, func(l *Step) {
				d.done[l.ID], d.along[l.ID] = l.Outcome == Done, l.Rare().Along
				if len(d.along[l.ID]) == 0 {
					delete(d.along, l.ID)
				}
			})
		})
	})
	return d, err
}

// take takes in what a run did, by its rollback file.
func (f *formers) take(fsys disk.FS, set, name string, run int, d *deeds) error {
	m, err := fsys.Map(name)
	if err == nil {
		f.files = append(f.files, formerFile{m, run})
		asked := func(id changeset.ID) bool { return d.done[id] }
		err = sealed(m.Data, func(int) error {
			start := 0
			for line := range bytes.Lines(m.Data) {
				s, kept, err := f.d.keptForm(line, asked)
				if err != nil {
					return err
				}
				if asked(s.ID) && (kept || len(d.along[s.ID]) > 0) {
					back := changeset.MakeID(set, s.Key, s.Act.Inverse())
					if _, earlier := f.lines[back]; !earlier {
						f.lines[back] = formerLine{int64(start), int32(len(f.files) - 1), kept}
						if went := d.along[s.ID]; len(went) > 0 {
							f.along[back] = went
						}
					}
				}
				start += len(line)
			}
			return nil
		})
	}
	if err != nil {
		return &desk.DamageError{File: name, Err: err}
	}
	return nil
}

// alongOf returns what went along with the record of a rollback's change.
func (f *formers) alongOf(id changeset.ID) []target.Dependent {
	if f == nil {
		return nil
	}
	return f.along[id]
}

// formOf returns how the record of a rollback's change looked. It reads a mapped file, which may be shortened meanwhile: under table.Guard.
func (f *formers) formOf(id changeset.ID) (form target.Form) {
	if f == nil {
		return form
	}
	at, there := f.lines[id]
	if !there {
		return form
	}
	file := f.files[at.file]
	if form.Age = file.run; !at.kept {
		return form
	}
	line := file.Data[at.start:]
	if err := f.d.formOf(line[:bytes.IndexByte(line, '\n')+1], &form); err != nil { // it was read when the file was gone through
		return target.Form{Age: file.run}
	}
	return form
}

// Close lets go of the files.
func (f *formers) Close() {
	if f == nil {
		return
	}
	for _, m := range f.files {
		_ = m.Close() // nothing was written
	}
	*f = formers{}
}
