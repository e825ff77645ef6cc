package run

import (
	"bytes"
	"cmp"
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
	files []formerFile // those of the first run first
	lines []formerLine // in the order of the ids, and of the files
	along map[changeset.ID]wentAlong
	d     stepReader
}

// formerFile is a run's rollback file.
type formerFile struct {
	*disk.Mapping
	run int
}

// formerLine is where a record stands in a rollback file.
type formerLine struct {
	id    changeset.ID
	start int64
	file  int32
	kept  bool // it says how the record looked
}

// wentAlong is what went along with a record, by a file.
type wentAlong struct {
	file int32
	with []target.Dependent
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
	f := &formers{along: map[changeset.ID]wentAlong{}}
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
	slices.SortFunc(f.lines, func(a, b formerLine) int { return cmp.Or(bytes.Compare(a.id[:], b.id[:]), cmp.Compare(a.file, b.file)) })
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
				d.done[l.ID] = l.Outcome == Done
				if went := l.Rare().Along; len(went) > 0 {
					d.along[l.ID] = went
				} else if len(d.along) > 0 {
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
		file := int32(len(f.files))
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
					f.lines = append(f.lines, formerLine{back, int64(start), file, kept})
					if _, earlier := f.along[back]; !earlier && len(d.along[s.ID]) > 0 {
						f.along[back] = wentAlong{file, d.along[s.ID]}
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

// first returns where the record of a rollback's change stands in the first run's file that has it.
func (f *formers) first(id changeset.ID) (line formerLine, there bool) {
	if f == nil {
		return line, false
	}
	i, there := slices.BinarySearchFunc(f.lines, id, func(l formerLine, id changeset.ID) int { return bytes.Compare(l.id[:], id[:]) })
	if there {
		line = f.lines[i]
	}
	return line, there
}

// alongOf returns what went along with the record of a rollback's change.
func (f *formers) alongOf(id changeset.ID) []target.Dependent {
	if f == nil || len(f.along) == 0 {
		return nil
	}
	went := f.along[id]
	if line, _ := f.first(id); line.file != went.file {
		return nil
	}
	return went.with
}

// formOf returns how the record of a rollback's change looked. It reads a mapped file, which may be shortened meanwhile: under table.Guard.
func (f *formers) formOf(id changeset.ID) (form target.Form) {
	at, there := f.first(id)
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
