// Package spool keeps one state of a target that has to be asked, a table of a database or a set of a service, in a
// file while the target is in use: memory does not hold it, and what is read twice is read the same.
package spool

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"path/filepath"
	"slices"

	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// Spool is the file, and the table in it.
type Spool struct {
	Image *table.Image

	fsys disk.FS
	path string
	m    *disk.Mapping
}

// New makes a file in a folder, under a name that no other has; called is what the table is called. fill writes CSV with a heading, read as table.Taken says;
// fields are what its columns are called. Where there is an error, there is no file.
func New(fsys disk.FS, dir, called string, fields []string, fill func(w io.Writer) error) (*Spool, error) {
	var mark [9]byte
	_, _ = rand.Read(mark[:]) // which never fails
	s := &Spool{fsys: fsys, path: disk.TempName(filepath.Join(dir, hex.EncodeToString(mark[:])))}
	if err := s.write(fill); err != nil {
		return nil, err
	}
	var err error
	if s.m, err = fsys.Map(s.path); err == nil {
		s.Image, err = csv.OpenWith(called, s.m.Data, table.Taken)
	}
	if err != nil {
		return nil, errors.Join(err, fsys.Remove(s.path))
	}
	s.Image.Heading = slices.Clone(fields)
	return s, nil
}

// write writes the file, which nobody needs once this process has ended: it is not synced.
func (s *Spool) write(fill func(w io.Writer) error) error {
	if err := s.fsys.Remove(s.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := s.fsys.Create(s.path, 0o600)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(f, 1<<18)
	if err = fill(out); err == nil {
		err = out.Flush()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return errors.Join(err, s.fsys.Remove(s.path))
	}
	return nil
}

// Size is how many bytes the table has.
func (s *Spool) Size() int64 { return int64(len(s.m.Data)) }

// WriteTo writes the table as it stands.
func (s *Spool) WriteTo(w io.Writer) (n int64, err error) {
	err = table.Guard(func() error {
		k, err := w.Write(s.m.Data)
		n = int64(k)
		return err
	})
	return n, err
}

// Current reads records in one pass. key are the key's columns; found is told of each the key as it
// stands there, the number of its row, from 0, and the row's cells, which are good until Close.
func (s *Spool) Current(ctx context.Context, of *schema.Schema, key []int, keys []record.Key, found func(i int, exact record.Key, row int, cells []byte)) ([]target.State, error) {
	at := make(map[string]int, len(keys))
	for i, k := range keys {
		at[of.Key(k).Encoding()] = i
	}
	states := make([]target.State, len(keys))
	var enc []byte
	row := -1
	err := table.Guard(func() error {
		return csv.Each(ctx, s.Image, func(r *csv.Line) error {
			row++
			enc = r.AppendKey(enc[:0], key)
			form := enc
			if !of.OneForm() {
				form = []byte(of.Key(record.KeyOf(enc)).Encoding())
			}
			i, ok := at[string(form)]
			if !ok {
				return nil
			}
			if states[i].Count++; states[i].Count == 1 {
				states[i].Record = r.Record()
				found(i, record.KeyOf(slices.Clone(enc)), row, r.Raw())
			}
			return nil
		})
	})
	return states, err
}

// AppendCell appends a text as a cell that tells the empty text from null, of which the cell is empty.
func AppendCell(line, text []byte) []byte {
	quoted := len(text) == 0 || text[0] == ' ' || text[len(text)-1] == ' '
	for _, b := range text {
		if b == ',' || b == '"' || b == '\n' || b == '\r' {
			quoted = true
			break
		}
	}
	if !quoted {
		return append(line, text...)
	}
	return csv.AppendCell(line, string(text), ',', true)
}

// Close removes the file. A nil *Spool has none.
func (s *Spool) Close() error {
	if s == nil {
		return nil
	}
	return errors.Join(s.m.Close(), s.fsys.Remove(s.path))
}
