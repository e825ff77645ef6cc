// Package disk is the one way in which Pale Twin touches files that must not
// be lost: a small interface over the operating system, so that tests can
// make every single operation fail, and the few idioms built on it (write
// whole or not at all, append, lock).
package disk

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/zeebo/xxh3"
)

// FS is what desk, run and the file target ask of the operating system. Each
// method is one operation that may fail.
type FS interface {
	Open(name string) (File, error)                     // for reading
	Create(name string, perm fs.FileMode) (File, error) // must not exist
	OpenAppend(name string) (File, error)               // created with 0600 where missing
	Map(name string) (*Mapping, error)                  // all bytes, for reading
	Rename(from, to string) error                       // replaces
	Remove(name string) error
	RemoveAll(name string) error
	Mkdir(name string) error    // 0700
	MkdirAll(name string) error // 0755: folders above what is ours
	Stat(name string) (fs.FileInfo, error)
	Lstat(name string) (fs.FileInfo, error)
	ReadDir(name string) ([]fs.DirEntry, error)
	SyncDir(name string) error
	Keep(name string, like fs.FileInfo) error // gives name the mode and owner of like
	Free(dir string) (int64, error)           // bytes free for this user; -1 unknown
}

// File is an open file.
type File interface {
	io.ReadWriteCloser
	io.Seeker
	Sync() error
	Truncate(size int64) error
	Stat() (fs.FileInfo, error)
}

// Mapping is a file's bytes. They must not be used after Close, and may go
// away under the reader where another program shortens the file: see
// table.Guard.
type Mapping struct {
	Data  []byte
	Info  fs.FileInfo
	Links int // how many names the file has
	unmap func() error
}

// Close gives the bytes back.
func (m *Mapping) Close() error {
	if m == nil || m.unmap == nil {
		return nil
	}
	f := m.unmap
	m.unmap, m.Data = nil, nil
	return f()
}

// OS is the operating system's own file system.
type OS struct{}

func (OS) Open(name string) (File, error) {
	if err := plain(name); err != nil {
		return nil, err
	}
	return openFile(name, os.O_RDONLY, 0)
}

// ErrPipe and ErrDevice say that a name is that of no file. A pipe would be waited
// for, and a device may never end.
var (
	ErrPipe   = errors.New("is a pipe, not a file")
	ErrDevice = errors.New("is a device, not a file")
)

// ErrInUse says that another program has a file open, and lets nobody else do what was to be done with it.
var ErrInUse = errors.New("it is open in another program, which lets nobody else at it; close it there")

// plain refuses what is no file before it is opened.
func plain(name string) error {
	info, err := os.Stat(name)
	switch {
	case err != nil: // opening it says why
		return nil
	case info.Mode()&fs.ModeNamedPipe != 0:
		return &fs.PathError{Op: "read", Path: name, Err: ErrPipe}
	case info.Mode()&(fs.ModeDevice|fs.ModeCharDevice|fs.ModeSocket) != 0:
		return &fs.PathError{Op: "read", Path: name, Err: ErrDevice}
	}
	return nil
}

func (OS) Create(name string, perm fs.FileMode) (File, error) {
	return openFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, perm)
}

func (OS) OpenAppend(name string) (File, error) {
	return openFile(name, os.O_RDWR|os.O_CREATE, 0o600)
}

// openFile keeps a nil *os.File from becoming a non-nil File.
func openFile(name string, flag int, perm fs.FileMode) (File, error) {
	f, err := os.OpenFile(name, flag, perm)
	if err != nil {
		return nil, inWords("open", name, err)
	}
	return f, nil
}

func (OS) Map(name string) (*Mapping, error) {
	if err := plain(name); err != nil {
		return nil, err
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, inWords("read", name, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return nil, &fs.PathError{Op: "read", Path: name, Err: ErrFolder}
	}
	m := &Mapping{Info: info, Links: links(f, info)}
	if info.Mode().IsRegular() && info.Size() > 0 {
		m.Data, m.unmap, err = mapFile(f, info.Size())
		if err == nil {
			return m, nil
		}
	}
	m.Data, err = io.ReadAll(f)
	return m, err
}

func (OS) Rename(from, to string) error               { return rename(from, to) }
func (OS) Remove(name string) error                   { return remove(name) }
func (OS) RemoveAll(name string) error                { return removeAll(name) }
func (OS) Mkdir(name string) error                    { return os.Mkdir(name, 0o700) }
func (OS) MkdirAll(name string) error                 { return os.MkdirAll(name, 0o755) }
func (OS) Stat(name string) (fs.FileInfo, error)      { return os.Stat(name) }
func (OS) Lstat(name string) (fs.FileInfo, error)     { return os.Lstat(name) }
func (OS) ReadDir(name string) ([]fs.DirEntry, error) { return os.ReadDir(name) }
func (OS) SyncDir(name string) error                  { return syncDir(name) }
func (OS) Keep(name string, like fs.FileInfo) error   { return keep(name, like) }
func (OS) Free(dir string) (int64, error)             { return free(dir) }

// ErrFolder says that a folder stands where a file was expected.
var ErrFolder = errors.New("is a folder")

// Written is what WriteFile wrote.
type Written struct {
	SHA256 string // 64 hex digits
	Size   int64
	quick  xxh3.Uint128 // for ReadsBack
}

// WriteFile writes a file whole or not at all: to a temporary name beside
// it, synced, renamed, the folder synced. Whoever calls it holds the lock
// under which nobody else writes the same name; what a crash left of it
// is removed.
func WriteFile(fsys FS, name string, perm fs.FileMode, write func(io.Writer) error) (Written, error) {
	return writeFile(fsys, name, perm, true, write)
}

// WriteUnsummed is WriteFile where nobody asks for the SHA-256, which takes longer than all else: Written has none.
func WriteUnsummed(fsys FS, name string, perm fs.FileMode, write func(io.Writer) error) (Written, error) {
	return writeFile(fsys, name, perm, false, write)
}

func writeFile(fsys FS, name string, perm fs.FileMode, sum bool, write func(io.Writer) error) (Written, error) {
	Leftovers(fsys, name)
	tmp := TempName(name)
	w, err := writeTemp(fsys, tmp, perm, sum, write)
	if err != nil {
		return w, err
	}
	return w, Replace(fsys, tmp, name)
}

// TempName returns the name under which name is written before it is whole: for a process another one, which nobody can tell beforehand.
func TempName(name string) string { return beside(name, "."+mark()+tempExt) }

const tempExt = ".paletwin-new"

// mark is what a process's temporary names have: 8 hexadecimal digits.
var mark = sync.OnceValue(func() string {
	var b [4]byte
	_, _ = rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
})

// Leftovers removes what killed commands left of a name before it was whole. What cannot be removed stays, and does no harm.
func Leftovers(fsys FS, name string) {
	entries, _ := os.ReadDir(filepath.Dir(name)) // whoever writes there says what is wrong with it
	start := strings.TrimSuffix(filepath.Base(TempName(name)), mark()+tempExt)
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), start) && leftover(e.Name()[len(start):]) {
			_ = fsys.RemoveAll(filepath.Join(filepath.Dir(name), e.Name()))
		}
	}
}

// leftover reports whether a temporary name ends as they do; those of before they had marks, too.
func leftover(end string) bool {
	left, is := strings.CutSuffix("."+end, tempExt)
	return is && (left == "" || len(left) == 1+len(mark()) && strings.Trim(left[1:], "0123456789abcdef") == "")
}

// beside returns a hidden name in the folder of a file, made of the file's own
// and an ending, within what file systems take.
func beside(name, ext string) string {
	const most = 255 // bytes
	base := filepath.Base(name)
	if len(base) > most-1-len(ext) {
		base = fmt.Sprintf("%.16x", xxh3.HashString(base))
	}
	return filepath.Join(filepath.Dir(name), "."+base+ext)
}

// Sweep removes from a folder what commands that were killed left under
// temporary names. Whoever calls it holds the lock under which the folder is
// written. What cannot be removed stays, and does no harm.
func Sweep(fsys FS, dir string) {
	entries, _ := fsys.ReadDir(dir)
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".") && strings.HasSuffix(e.Name(), tempExt) {
			_ = fsys.RemoveAll(filepath.Join(dir, e.Name()))
		}
	}
}

// WriteTemp writes and syncs a file that Replace will put in its place. On
// an error nothing is left.
func WriteTemp(fsys FS, tmp string, perm fs.FileMode, write func(io.Writer) error) error {
	_, err := writeTemp(fsys, tmp, perm, false, write)
	return err
}

func writeTemp(fsys FS, tmp string, perm fs.FileMode, full bool, write func(io.Writer) error) (w Written, err error) {
	f, err := fsys.Create(tmp, perm)
	if err != nil {
		return w, err
	}
	defer func() {
		if err != nil {
			_ = fsys.Remove(tmp) // the first error counts
		}
	}()
	s := newSums(f, full)
	if err = write(s); err == nil {
		err = f.Sync()
	}
	w = s.close()
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return w, err
}

// Replace renames tmp to name and syncs the folder.
func Replace(fsys FS, tmp, name string) error {
	if err := fsys.Rename(tmp, name); err != nil {
		_ = fsys.Remove(tmp) // the first error counts
		return err
	}
	return fsys.SyncDir(filepath.Dir(name))
}

// ReadFile reads a whole small file.
func ReadFile(fsys FS, name string) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var b bytes.Buffer
	if info, err := f.Stat(); err == nil {
		b.Grow(int(min(info.Size(), mostAhead)) + bytes.MinRead)
	}
	_, err = b.ReadFrom(f)
	return b.Bytes(), err
}

// mostAhead is how much room is made for a file before it is read: a file may say that it is larger than any memory.
const mostAhead = 256 << 20

// Append writes b at the offset size, cutting off what a crash left behind
// it, and syncs.
func Append(fsys FS, name string, size int64, b []byte) error {
	f, err := fsys.OpenAppend(name)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil && info.Size() != size {
		err = f.Truncate(size)
	}
	if err == nil {
		_, err = f.Seek(size, io.SeekStart)
	}
	if err == nil {
		_, err = f.Write(b)
	}
	if err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil && size == 0 {
		err = fsys.SyncDir(filepath.Dir(name))
	}
	return err
}

// Sum returns the SHA-256 of a file as hex digits.
func Sum(fsys FS, name string) (string, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Copy copies a file under a new name, as a clone where the file system can.
// The copy is synced. It reports an error if the file changed meanwhile.
func Copy(fsys FS, from, to string) error {
	src, err := fsys.Open(from)
	if err != nil {
		return err
	}
	defer src.Close()
	before, err := src.Stat()
	if err != nil {
		return err
	}
	if before.IsDir() {
		return &fs.PathError{Op: "read", Path: from, Err: ErrFolder}
	}
	dst, err := fsys.Create(to, 0o600)
	if err != nil {
		return err
	}
	// *os.File copies inside the kernel, and clones where that can be done.
	if _, err = io.Copy(dst, src); err == nil {
		err = dst.Sync()
	}
	if cerr := dst.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return err
	}
	after, err := fsys.Stat(from)
	if err == nil && before.Mode().IsRegular() && !Same(before, after) {
		err = fmt.Errorf("%s: %w", from, ErrChanged)
	}
	return err
}

// ErrChanged says that a file became another one while it was worked on.
var ErrChanged = errors.New("the file changed while it was read")

// Same reports whether two looks at a file saw the same file unchanged.
func Same(a, b fs.FileInfo) bool {
	return os.SameFile(a, b) && a.Size() == b.Size() && a.ModTime().Equal(b.ModTime())
}

// SameFile reports whether two names are those of one file that is there.
func SameFile(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	return err == nil && os.SameFile(x, y)
}

// WriteBytes writes a file of the user's own, whole or not at all, as WriteFile
// does.
func WriteBytes(fsys FS, file string, b []byte) error {
	_, err := WriteUnsummed(fsys, file, 0o600, func(w io.Writer) error { _, err := w.Write(b); return err })
	return err
}
