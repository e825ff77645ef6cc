// Package faulty is a file system on which one operation fails, for tests:
// the N-th, in the way that is asked for. It also keeps a log of operations,
// so that their order can be proven.
package faulty

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"sync"
	"syscall"

	"paletwin/internal/disk"
)

// Mode is how an operation fails.
type Mode string

const (
	Fail  Mode = "fail"  // an input/output error, nothing done
	Short Mode = "short" // a write writes half; other operations fail
	Full  Mode = "full"  // the disk is full: this and every later write fails
	Late  Mode = "late"  // the operation is done, and then reported as failed
)

// ErrFault is the input/output error of Fail, Short and Late.
var ErrFault = errors.New("input/output error (made by the test)")

// FS fails its At-th operation. At 0 never fails. It is good for one
// goroutine at a time, and for many.
type FS struct {
	disk.FS
	At   int
	Mode Mode
	// Before, if not nil, is called before each operation with its number.
	Before func(n int, what string)

	mu  sync.Mutex
	n   int
	Log []string // "sync a/b", "rename a b", "syncdir a", "write a"
}

// Count returns how many operations there were.
func (f *FS) Count() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.n
}

// Hit reports whether the operation that is to fail was reached.
func (f *FS) Hit() bool { return f.At > 0 && f.Count() >= f.At }

// step counts an operation and says whether it fails.
func (f *FS) step(write bool, what string, names ...string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.n++
	for _, n := range names {
		what += " " + n
	}
	f.Log = append(f.Log, what)
	if f.Before != nil {
		f.Before(f.n, what)
	}
	switch {
	case f.At == 0 || f.n < f.At:
		return nil
	case f.Mode == Full && write:
		return &fs.PathError{Op: "write", Path: filepath.Join(names...), Err: syscall.ENOSPC}
	case f.n == f.At && f.Mode != Full:
		return fmt.Errorf("%s: %w", what, ErrFault)
	}
	return nil
}

// do runs an operation that may fail before or after it.
func (f *FS) do(write bool, op func() error, what string, names ...string) error {
	err := f.step(write, what, names...)
	if err != nil && f.Mode != Late {
		return err
	}
	return errors.Join(op(), err)
}

func (f *FS) open(op func() (disk.File, error), what, name string) (disk.File, error) {
	if err := f.step(what != "open", what, name); err != nil {
		return nil, err
	}
	file, err := op()
	if err != nil {
		return nil, err
	}
	return &handle{file, f, name}, nil
}

func (f *FS) Open(name string) (disk.File, error) {
	return f.open(func() (disk.File, error) { return f.FS.Open(name) }, "open", name)
}

func (f *FS) Create(name string, perm fs.FileMode) (disk.File, error) {
	return f.open(func() (disk.File, error) { return f.FS.Create(name, perm) }, "create", name)
}

func (f *FS) OpenAppend(name string) (disk.File, error) {
	return f.open(func() (disk.File, error) { return f.FS.OpenAppend(name) }, "append", name)
}

func (f *FS) Map(name string) (m *disk.Mapping, err error) {
	if err := f.step(false, "map", name); err != nil {
		return nil, err
	}
	return f.FS.Map(name)
}

func (f *FS) Rename(from, to string) error {
	return f.do(true, func() error { return f.FS.Rename(from, to) }, "rename", from, to)
}

func (f *FS) Remove(name string) error {
	return f.do(false, func() error { return f.FS.Remove(name) }, "remove", name)
}

func (f *FS) RemoveAll(name string) error {
	return f.do(false, func() error { return f.FS.RemoveAll(name) }, "removeall", name)
}

func (f *FS) Mkdir(name string) error {
	return f.do(true, func() error { return f.FS.Mkdir(name) }, "mkdir", name)
}

func (f *FS) MkdirAll(name string) error {
	return f.do(true, func() error { return f.FS.MkdirAll(name) }, "mkdirall", name)
}

func (f *FS) SyncDir(name string) error {
	return f.do(true, func() error { return f.FS.SyncDir(name) }, "syncdir", name)
}

func (f *FS) Keep(name string, like fs.FileInfo) error {
	return f.do(true, func() error { return f.FS.Keep(name, like) }, "keep", name)
}

func (f *FS) ReadDir(name string) ([]fs.DirEntry, error) {
	if err := f.step(false, "readdir", name); err != nil {
		return nil, err
	}
	return f.FS.ReadDir(name)
}

// handle is an open file whose operations count.
type handle struct {
	disk.File
	f    *FS
	name string
}

func (h *handle) Read(p []byte) (int, error) {
	if err := h.f.step(false, "read", h.name); err != nil {
		return 0, err
	}
	return h.File.Read(p)
}

func (h *handle) Write(p []byte) (int, error) {
	if err := h.f.step(true, "write", h.name); err != nil {
		if h.f.Mode == Short || h.f.Mode == Full {
			n, werr := h.File.Write(p[:len(p)/2])
			return n, errors.Join(err, werr)
		}
		if h.f.Mode != Late {
			return 0, err
		}
		n, werr := h.File.Write(p)
		return n, errors.Join(err, werr)
	}
	return h.File.Write(p)
}

func (h *handle) Sync() error { return h.f.do(true, h.File.Sync, "sync", h.name) }

func (h *handle) Truncate(n int64) error {
	return h.f.do(true, func() error { return h.File.Truncate(n) }, "truncate", h.name)
}

// Close closes the file whatever it reports.
func (h *handle) Close() error {
	err := h.f.step(false, "close", h.name)
	return errors.Join(h.File.Close(), err)
}

// NoSync is the operating system's file system without its slow promise, for laws that are about
// bytes and not about crashes.
type NoSync struct{ disk.OS }

type noSyncFile struct{ disk.File }

func (noSyncFile) Sync() error { return nil }

func (NoSync) SyncDir(string) error { return nil }

func (f NoSync) Create(name string, perm fs.FileMode) (disk.File, error) {
	file, err := f.OS.Create(name, perm)
	return noSyncFile{file}, err
}

func (f NoSync) OpenAppend(name string) (disk.File, error) {
	file, err := f.OS.OpenAppend(name)
	return noSyncFile{file}, err
}
