package run

import (
	"bytes"
	"path/filepath"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/table"
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
	files []*disk.Mapping
	lines map[changeset.ID]formerLine
	along map[changeset.ID][]target.Dependent
	d     stepReader
}

// formerLine is where a record stands in a run's rollback file.
type formerLine struct {
	file, run, start int // start is -1 where it does not say how the record looked
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
		r, err := ReadRun(from, n)
		if err == nil {
			err = f.take(t.FS(), t.Set().Name, r)
		}
		if err != nil {
			f.Close()
			return nil, err
		}
	}
	return f, nil
}

// take takes in what a run did.
func (f *formers) take(fsys disk.FS, set string, r *Record) error {
	done := make(map[changeset.ID]changeset.ID, len(r.Steps)) // the ways back
	along := map[changeset.ID][]target.Dependent{}
	for _, s := range r.Steps {
		if s.Outcome == Done {
			done[s.ID] = changeset.MakeID(set, s.Key, s.Act.Inverse())
			if went := s.Rare().Along; len(went) > 0 {
				along[s.ID] = went
			}
		}
	}
	name := filepath.Join(r.Dir, rollbackName)
	m, err := fsys.Map(name)
	if err == nil {
		f.files = append(f.files, m)
		err = table.Guard(func() error {
			start := 0
			for line := range bytes.Lines(m.Data) {
				id, kept, err := f.d.keptForm(line)
				if err != nil {
					return err
				}
				back, did := done[id]
				if _, earlier := f.lines[back]; did && !earlier && (kept || len(along[id]) > 0) {
					at := formerLine{len(f.files) - 1, r.Head.Run, start}
					if !kept {
						at.start = -1
					}
					if f.lines[back] = at; len(along[id]) > 0 {
						f.along[back] = along[id]
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
	if form.Age = at.run; at.start < 0 {
		return form
	}
	line := f.files[at.file].Data[at.start:]
	if err := f.d.formOf(line[:bytes.IndexByte(line, '\n')+1], &form); err != nil { // it was read when the file was gone through
		return target.Form{Age: at.run}
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
