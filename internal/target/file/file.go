// Package file is a file as a target: a register that lives in a CSV file, a
// JSON or JSON Lines file, an XLSX workbook or an ODS document.
//
// All steps of a run are written at once, by writing the file anew under a
// temporary name and renaming it into place. Rows that do not change keep
// their bytes, and so do the unchanged cells of changed rows; in a workbook,
// cells that do not change keep value, type and style, and other sheets stay.
// Just before the rename the file is looked at again: if it is no longer what
// was read, nothing is written.
package file

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/zeebo/xxh3"

	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/jsonl"
	"paletwin/core/table/open"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// File is a file with the records of one record set.
type File struct {
	fsys disk.FS
	path string // absolute, links followed
	key  []string
	of   *schema.Schema // which says what keys name one record
	read table.Options
	lock *disk.Lock

	emptied bool // of a workbook: the rows of records that are deleted are emptied, and stay

	m       *disk.Mapping
	img     *table.Image
	keyCol  []int
	form    form
	sum     xxh3.Uint128   // of the bytes that were read
	summing *summing       // of these bytes, where somebody asked
	at      map[string]int // room for the places of keys that are asked for
	rows    int            // how many rows it had when they were indexed last

	// What was read of the bytes that were written last, if it was, and their sum.
	made    *table.Image
	madeSum xxh3.Uint128
}

// allAtOnce is how many records are read at a time of files that are gone through each time.
const allAtOnce = 1 << 17

// form is how a kind of file keeps records.
type form interface {
	// current reads the wanted records; at holds their places by key.
	current(ctx context.Context, at map[string]int, states []target.State) error
	// check says why steps cannot be carried out, "" where they can.
	check(ctx context.Context, steps target.Steps) ([]string, error)
	// write writes the whole file with the steps carried out. Where some are refused they are left
	// out, and the results say so; else there are none.
	write(ctx context.Context, out io.Writer, steps target.Steps) ([]target.Result, error)
	// atOnce is how many records are best read at a time.
	atOnce() int
}

// Open opens a file of records as a target and takes its lock: key names their key
// fields, of says what is known of them, and o what is known of the file. A symbolic link is followed: what changes is the file it names. Errors
// are *target.BusyError where it is in use, *table.Error where it is no table.
func Open(fsys disk.FS, name string, key []string, of *schema.Schema, o table.Options) (*File, error) {
	path := Path(name)
	if err := inSpreadsheet(fsys, path); err != nil {
		return nil, err
	}
	if _, err := fsys.Stat(path); err != nil {
		return nil, err
	}
	var err error
	o.Known.Nulls = false // a file of rows says nothing of the sort; its snapshot may have been taken elsewhere
	f := &File{fsys: fsys, path: path, key: key, of: of, read: o}
	f.lock, err = disk.Acquire(fsys, disk.LockName(path), true)
	if errors.Is(err, disk.ErrLocked) {
		return nil, &target.BusyError{Name: path, Why: disk.ErrLocked.Error()}
	}
	if errors.Is(err, fs.ErrPermission) {
		err = &fs.PathError{Op: "write", Path: filepath.Dir(path), Err: fs.ErrPermission} // the lock's own name says nobody anything
	}
	if err != nil {
		return nil, err
	}
	disk.Leftovers(fsys, path)
	if err := f.Refresh(context.Background()); err != nil {
		_ = f.Close() // the first error counts
		return nil, err
	}
	return f, nil
}

// Path returns the name of the file that a name stands for: absolute, links
// followed, with slashes, on Windows too, since it is kept. It is a target's Name.
func Path(name string) string {
	path, err := filepath.Abs(name)
	if err != nil {
		return name
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	return filepath.ToSlash(path)
}

// inSpreadsheet refuses a file beside which a spreadsheet program has put
// its lock file.
func inSpreadsheet(fsys disk.FS, path string) error {
	dir, base := filepath.Split(path)
	for _, name := range []string{".~lock." + base + "#", "~$" + base} {
		if _, err := fsys.Lstat(filepath.Join(dir, name)); err == nil {
			return &target.BusyError{Name: path, Why: "it is open in a spreadsheet (" + name + " stands beside it)"}
		}
	}
	return nil
}

// KeepRows has a workbook keep the rows of records that are deleted: they are emptied, and filled again when the records come back. Files
// of other kinds have no rows that could be kept.
func (f *File) KeepRows() { f.emptied = true }

func (f *File) Name() string     { return f.path }
func (f *File) Fields() []string { return f.img.Heading }

// Traits of a file: all of a run is written at once.
func (f *File) Traits() target.Traits {
	return target.Traits{Ext: "." + f.img.Found.Format, Size: int64(len(f.m.Data)), Reread: f.form.atOnce(), Links: f.m.Links, Owner: disk.Owner(f.m.Info)}
}

// Refresh reads the file again.
func (f *File) Refresh(ctx context.Context) error {
	if err := f.unmap(); err != nil {
		return err
	}
	m, err := f.fsys.Map(f.path)
	if err != nil {
		return f.busy(err)
	}
	f.m = m
	err = table.Guard(func() (err error) {
		was := f.sum
		f.sum = xxh3.Hash128(m.Data)
		switch { // a workbook's table does not stand in its bytes, and is the same where these are
		case f.made != nil && f.sum == f.madeSum:
			f.img = f.made
		case f.img != nil && slices.Contains([]string{"xlsx", "ods"}, f.img.Found.Format) && f.sum == was:
		default:
			if err = f.readTable(m.Data); err != nil {
				return err
			}
		}
		f.made = nil
		f.form, err = f.formOf()
		return err
	})
	if err != nil {
		return err
	}
	f.keyCol = f.keyCol[:0]
	for _, k := range f.key {
		c := f.img.Column(k)
		if c < 0 {
			return &target.MissingColumn{Target: f.path, Column: k}
		}
		f.keyCol = append(f.keyCol, c)
	}
	return nil
}

// readTable reads the file's bytes as a table.
func (f *File) readTable(data []byte) (err error) {
	o := f.read
	o.Rename = nil
	if f.img, err = open.Open(filepath.Base(f.path), data, o); err == nil && f.read.Rename != nil {
		f.read.Rename(f.img)
	}
	return err
}

func (f *File) unmap() error {
	f.endSumming()
	m := f.m
	f.m = nil
	return m.Close()
}

// Close lets go of the file and its lock.
func (f *File) Close() error {
	err := f.unmap()
	if lerr := f.lock.Unlock(); err == nil {
		err = lerr
	}
	return err
}

// formOf returns how the file is read and written.
func (f *File) formOf() (form, error) {
	switch f.img.Found.Format {
	case "csv":
		rows := &csvRows{File: f, encoder: csv.Encoder(f.img.Found)}
		return &lines{f: f, rows: rows}, rows.check()
	case "jsonl":
		rows := &jsonRows{File: f, types: jsonl.Types{}}
		return &lines{f: f, rows: rows}, rows.learn()
	case "json":
		return f.openArray()
	case "xlsx":
		return f.openBook()
	case "ods":
		return f.openDocument()
	}
	return nil, &table.Error{Code: table.NoTarget, File: f.img.Name, Text: "the file is " + strings.ToUpper(f.img.Found.Format) + ", which is read and not written"}
}

// table walks the records of the image; row is called with each record's
// normalised key, encoded, and its row.
func (f *File) table(ctx context.Context, img *table.Image, row func(key []byte, r *csv.Line) error) error {
	var key []byte
	return csv.Each(ctx, img, func(r *csv.Line) error {
		key = r.AppendKey(key[:0], f.keyCol)
		if !f.of.OneForm() {
			key = append(key[:0], f.of.Key(record.KeyOf(key)).Encoding()...)
		}
		return row(key, r)
	})
}

// Current reads the wanted records in one pass over the file.
func (f *File) Current(ctx context.Context, keys []record.Key) ([]target.State, error) {
	return f.Refill(ctx, keys, nil)
}

// Refill is Current in the room of other states.
func (f *File) Refill(ctx context.Context, keys []record.Key, room []target.State) ([]target.State, error) {
	if f.at == nil {
		f.at = make(map[string]int, len(keys))
	}
	clear(f.at)
	for i, k := range keys {
		f.at[f.of.Key(k).Encoding()] = i
	}
	states := slices.Grow(room[:0], len(keys))[:len(keys)]
	for i := range states {
		states[i] = target.State{Record: states[i].Record[:0]}
	}
	err := f.form.current(ctx, f.at, states)
	for i := range states {
		if states[i].Count == 0 {
			states[i].Record = nil
		}
	}
	return states, err
}

// LetGo lets go of where the rows stand.
func (f *File) LetGo() {
	if l, ok := f.form.(interface{ letGo() }); ok {
		l.letGo()
	}
}

// Backup writes the file's bytes, those that were read; or target.ErrMoved.
func (f *File) Backup(ctx context.Context, w io.Writer) error {
	return copyOf(ctx, f.m.Data, f.sum, w)
}

// copyOf writes the bytes of a file with a sum; or says target.ErrMoved.
func copyOf(ctx context.Context, data []byte, want xxh3.Uint128, w io.Writer) error {
	return table.Guard(func() error {
		sum := xxh3.New128()
		for len(data) > 0 {
			if err := ctx.Err(); err != nil {
				return err
			}
			n := min(len(data), 4<<20)
			if _, err := w.Write(data[:n]); err != nil {
				return err
			}
			_, _ = sum.Write(data[:n]) // a hash never fails
			data = data[n:]
		}
		if sum.Sum128() != want {
			return target.ErrMoved // in place, under our eyes
		}
		return nil
	})
}

// summing is the SHA-256 of a file's bytes in the making.
type summing struct {
	of   xxh3.Uint128 // the bytes' sum
	end  context.CancelFunc
	done chan bool
	sha  string
	err  error
}

// Summing begins to make the SHA-256 of the bytes that were read.
func (f *File) Summing() {
	f.endSumming()
	ctx, end := context.WithCancel(context.Background())
	s := &summing{of: f.sum, end: end, done: make(chan bool)}
	f.summing = s
	data := f.m.Data
	go func() {
		defer close(s.done)
		h := sha256.New()
		if s.err = copyOf(ctx, data, s.of, h); s.err == nil { // a fault may have broken the hash off
			s.sha = hex.EncodeToString(h.Sum(nil))
		}
	}()
}

// Summed returns the SHA-256 of the bytes that were read.
func (f *File) Summed(ctx context.Context) (string, error) {
	if f.summing == nil || f.summing.of != f.sum {
		f.Summing()
	}
	select {
	case <-f.summing.done:
		return f.summing.sha, f.summing.err
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

// endSumming waits until nothing reads the file's bytes any more.
func (f *File) endSumming() {
	if f.summing != nil {
		f.summing.end()
		<-f.summing.done
		f.summing = nil
	}
}

// Table gives the file as it was read last.
func (f *File) Table(context.Context) (*table.Image, func() error, error) {
	return f.img, func() error { return nil }, nil
}

// Check says which steps the file cannot hold.
func (f *File) Check(ctx context.Context, steps []target.Step) ([]string, error) {
	reasons, err := f.CheckAll(ctx, target.List(steps))
	if reasons == nil {
		reasons = make([]string, len(steps))
	}
	return reasons, err
}

// CheckAll says which steps the file cannot hold.
func (f *File) CheckAll(ctx context.Context, steps target.Steps) ([]string, error) {
	return f.form.check(ctx, f.normalised(steps))
}

// normalised are steps whose keys are written as table gives keys.
func (f *File) normalised(steps target.Steps) target.Steps {
	if f.of.OneForm() {
		return steps
	}
	return &normal{steps, f.of, target.Step{}}
}

// normal are steps whose keys have one form.
type normal struct {
	target.Steps
	of *schema.Schema
	s  target.Step
}

func (n *normal) At(i int) *target.Step {
	n.s = *n.Steps.At(i)
	n.s.Key = n.of.Key(n.s.Key)
	return &n.s
}

func (n *normal) Form(i int) target.Form {
	f := n.Steps.Form(i)
	f.After = n.of.Key(f.After)
	return f
}

// refused are the results of steps of which some are refused, with those that
// are linked with them; none where none is.
func refused(steps target.Steps, reasons []string) []target.Result {
	if !slices.ContainsFunc(reasons, func(why string) bool { return why != "" }) {
		return nil
	}
	results := make([]target.Result, steps.Len())
	for i, why := range reasons {
		if why != "" {
			results[i] = target.Result{Fate: target.Refused, Reason: why}
		}
	}
	target.Together(target.All(steps), results)
	return results
}

// left reports whether a step is left out.
func left(results []target.Result, i int) bool {
	return results != nil && results[i].Fate == target.Refused
}

// Write writes the file anew with the steps carried out.
func (f *File) Write(ctx context.Context, steps []target.Step) ([]target.Result, error) {
	results, err := f.WriteAll(ctx, target.List(steps))
	if err == nil && results == nil {
		results = make([]target.Result, len(steps))
	}
	return results, err
}

// WriteAll writes the file anew with the steps carried out.
func (f *File) WriteAll(ctx context.Context, steps target.Steps) ([]target.Result, error) {
	tmp := disk.TempName(f.path)
	results, err := f.draft(ctx, tmp, f.normalised(steps))
	if err != nil {
		return nil, &target.Unwritten{Err: err}
	}
	if err := disk.Replace(f.fsys, tmp, f.path); err != nil {
		if errors.Is(err, disk.ErrInUse) { // of other failures it is not known whether the name is the new file's
			err = &target.Unwritten{Err: f.busy(err)}
		}
		return nil, err
	}
	return results, f.Refresh(ctx)
}

// draft writes the file anew beside it, and makes sure that it is still what was
// read.
func (f *File) draft(ctx context.Context, tmp string, steps target.Steps) (results []target.Result, err error) {
	err = disk.WriteTemp(f.fsys, tmp, f.m.Info.Mode().Perm(), func(out io.Writer) error {
		return table.Guard(func() (err error) {
			buffered := bufio.NewWriterSize(out, 1<<18)
			if results, err = f.form.write(ctx, buffered, steps); err != nil {
				return err
			}
			return buffered.Flush()
		})
	})
	if err != nil {
		if moved := f.unmoved(); moved != nil { // which is why it could not be read
			err = moved
		}
		return nil, err
	}
	if err = f.fsys.Keep(tmp, f.m.Info); err == nil {
		err = f.unmoved()
	}
	if err != nil {
		_ = f.fsys.Remove(tmp) // the first error counts
	}
	return results, err
}

// unmoved checks that the file is still what was read: its identity, size,
// time and bytes.
func (f *File) unmoved() error {
	if err := inSpreadsheet(f.fsys, f.path); err != nil {
		return fmt.Errorf("%w: %w", target.ErrMoved, err)
	}
	now, err := f.fsys.Map(f.path)
	if errors.Is(err, fs.ErrNotExist) {
		return target.ErrMoved
	}
	if err != nil {
		return err
	}
	defer now.Close()
	moved := !os.SameFile(now.Info, f.m.Info) || now.Info.Size() != f.m.Info.Size() || !now.Info.ModTime().Equal(f.m.Info.ModTime())
	if err := table.Guard(func() error { moved = moved || xxh3.Hash128(now.Data) != f.sum; return nil }); err != nil || moved {
		return target.ErrMoved
	}
	return nil
}

// Writable checks that the file is not read-only, and that no other program keeps it from being replaced.
func (f *File) Writable(context.Context) error {
	if f.m.Info.Mode().Perm()&0o222 == 0 {
		return &fs.PathError{Op: "write", Path: f.path, Err: errors.New("the file is read-only")}
	}
	return f.busy(disk.InUse(f.path))
}

// busy says of an error that another program has the file open, where that is what it is.
func (f *File) busy(err error) error {
	if errors.Is(err, disk.ErrInUse) {
		return &target.BusyError{Name: f.path, Why: disk.ErrInUse.Error()}
	}
	return err
}
