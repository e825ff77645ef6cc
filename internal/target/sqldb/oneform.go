package sqldb

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"slices"

	"github.com/zeebo/xxh3"

	"paletwin/core/record"
	"paletwin/core/schema"
)

// Where a layout says that keys which are not written alike may be one, two records of a table that are one by it may both
// be alike in the other table, byte for byte. Nobody would see them then; so all keys are looked at.

// ErrKeysTwice says that a table has two records whose keys are one by the layout.
var ErrKeysTwice = errors.New("the layout says that keys which are not written alike may be one, and a table has two of one")

const (
	buckets    = 64      // of the hashes, by their first bits
	mostHashes = 1 << 20 // that are kept in memory
)

// keyForms finds out whether a table has two keys that are one, in little memory: hashes of keys that are too many are
// kept in files. Two keys of one hash are taken for one.
type keyForms struct {
	of    *schema.Schema
	here  [buckets][]uint64
	n     int
	files [buckets]*os.File
}

// add takes a key.
func (f *keyForms) add(key record.Key) error {
	h := xxh3.HashString(f.of.Key(key).Encoding())
	p := h >> 58
	f.here[p] = append(f.here[p], h)
	if f.n++; f.n < mostHashes {
		return nil
	}
	return f.spill()
}

// spill writes what is in memory to the files.
func (f *keyForms) spill() (err error) {
	for p, all := range f.here {
		if f.files[p] == nil {
			if f.files[p], err = os.CreateTemp("", "paletwin-"); err != nil {
				return err
			}
		}
		out := bufio.NewWriter(f.files[p])
		if err := binary.Write(out, binary.LittleEndian, all); err != nil {
			return err
		}
		if err := out.Flush(); err != nil {
			return err
		}
		f.here[p] = all[:0]
	}
	f.n = 0
	return nil
}

// twice reports whether a key was added twice, and lets all go.
func (f *keyForms) twice() (bool, error) {
	defer f.close()
	for p, all := range f.here {
		if file := f.files[p]; file != nil {
			size, err := file.Seek(0, io.SeekCurrent)
			if err == nil {
				_, err = file.Seek(0, io.SeekStart)
			}
			kept := make([]uint64, size/8)
			if err == nil {
				err = binary.Read(bufio.NewReader(file), binary.LittleEndian, kept)
			}
			if err != nil {
				return false, err
			}
			all = append(kept, all...)
		}
		slices.Sort(all)
		for i := 1; i < len(all); i++ {
			if all[i] == all[i-1] {
				return true, nil
			}
		}
	}
	return false, nil
}

func (f *keyForms) close() {
	for p, file := range f.files {
		if file != nil {
			_ = file.Close() // it was only read
			_ = os.Remove(file.Name())
			f.files[p] = nil
		}
	}
}

// oneEach makes sure that no two keys of a table are one by the layout, over a connection.
func (t *Table) oneEach(ctx context.Context, s session) (err error) {
	f := &keyForms{of: t.o.Of}
	defer f.close()
	var names string
	for i, c := range t.keyColumns() {
		if i > 0 {
			names += ", "
		}
		names += t.exactly(c)
	}
	err = s.query(ctx, "SELECT "+names+" FROM "+t.table(), t.keyColumns(), nil, func(cells []record.Value) error {
		if slices.ContainsFunc(cells, record.Value.IsNull) {
			return nil // such a record differs from all
		}
		return f.add(record.NewKey(texts(cells)...))
	})
	if err != nil {
		return t.said(err)
	}
	twice, err := f.twice()
	if err == nil && twice {
		err = ErrKeysTwice
	}
	return err
}
