package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/windows"
)

// mapFile is left to reading the file whole: a mapped file cannot be
// replaced here.
func mapFile(*os.File, int64) ([]byte, func() error, error) {
	return nil, nil, errors.ErrUnsupported
}

// mapShared gives plain memory: files are not mapped here.
func mapShared(_ *os.File, size int64) ([]byte, func() error, error) {
	return make([]byte, size), func() error { return nil }, nil
}

// syncDir has nothing to do: a folder cannot be synced here. rename writes through instead.
func syncDir(string) error { return nil }

// aGlance is how long a file is waited for that another program has open: virus scanners and indexers look at what is new.
const aGlance = 2 * time.Second

// rename replaces a file and does not return before that is on the disk.
func rename(from, to string) error {
	a, err := wide(from)
	if err != nil {
		return err
	}
	b, err := wide(to)
	if err != nil {
		return err
	}
	return soon("rename", to, func() error {
		return windows.MoveFileEx(a, b, windows.MOVEFILE_REPLACE_EXISTING|windows.MOVEFILE_WRITE_THROUGH)
	})
}

// soon does something to a file, and waits for a moment where another program has it open.
func soon(op, name string, do func() error) error {
	for began := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		err := do()
		if err == nil || !busy(err, name) || time.Since(began) > aGlance {
			return inWords(op, name, err)
		}
	}
}

// busy reports whether something could not be done to a file since another program has it open. That a file may not be
// replaced is said in two ways.
func busy(err error, name string) bool {
	return errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_LOCK_VIOLATION) ||
		errors.Is(err, windows.ERROR_ACCESS_DENIED) && errors.Is(InUse(name), ErrInUse)
}

// inWords is an error of the system with a file's name, and in words where another program has it open.
func inWords(op, name string, err error) error {
	if err == nil {
		return nil
	}
	if busy(err, name) {
		err = ErrInUse
	} else if p := new(fs.PathError); errors.As(err, &p) {
		return err
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}

// InUse says whether another program has a file open so that it could not be replaced.
func InUse(name string) error {
	p, err := wide(name)
	if err != nil {
		return err
	}
	h, err := windows.CreateFile(p, windows.DELETE, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil, windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS, 0)
	if err == nil {
		return windows.CloseHandle(h)
	}
	if errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_LOCK_VIOLATION) {
		err = ErrInUse
	}
	return &fs.PathError{Op: "write", Path: name, Err: err}
}

// wide is a name as the system's own functions take it, of whatever length.
func wide(name string) (*uint16, error) {
	const most = 240 // from here on only names in the long form are understood everywhere
	if full, err := filepath.Abs(name); err == nil && len(full) > most {
		name = full
		if len(name) > 2 && name[0] == '\\' && name[1] == '\\' {
			if name[2] != '?' && name[2] != '.' {
				name = `\\?\UNC` + name[1:]
			}
		} else {
			name = `\\?\` + name
		}
	}
	return windows.UTF16PtrFromString(name)
}

// remove removes a file that another program may look at for a moment.
func remove(name string) error {
	return soon("remove", name, func() error { return os.Remove(name) })
}

// removeAll removes a folder with all that is in it. Where a file system does not know how to do that at once, it is done file by file.
func removeAll(name string) error {
	if os.RemoveAll(name) == nil {
		return nil
	}
	info, err := os.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && info.IsDir() {
		var entries []fs.DirEntry
		entries, err = os.ReadDir(name)
		for _, e := range entries {
			err = errors.Join(err, removeAll(filepath.Join(name, e.Name())))
		}
	}
	if err != nil {
		return err
	}
	return remove(name)
}

// keep gives name the read-only mark of like. Who may do what with it comes from its folder.
func keep(name string, like fs.FileInfo) error { return os.Chmod(name, like.Mode().Perm()) }

// Owner returns whose a file is that would become ours if it was written anew; it
// is not known here.
func Owner(fs.FileInfo) string { return "" }

// OthersCanRead says nothing where access is not told by a file's mode.
func OthersCanRead(fs.FileInfo) bool { return false }

// links returns how many names an open file has.
func links(f *os.File, _ fs.FileInfo) int {
	var info windows.ByHandleFileInformation
	if windows.GetFileInformationByHandle(windows.Handle(f.Fd()), &info) != nil {
		return 1
	}
	return int(info.NumberOfLinks)
}

func free(dir string) (int64, error) {
	p, err := wide(dir)
	if err != nil {
		return -1, err
	}
	var room uint64
	if err := windows.GetDiskFreeSpaceEx(p, &room, nil, nil); err != nil {
		return -1, err
	}
	return int64(min(room, 1<<62)), nil
}

// LetGo lets go of a lock whose file stands in a folder that is about to get another name, where no file in it may be open then, and
// reports whether it did.
func (l *Lock) LetGo() bool {
	if l == nil {
		return false
	}
	_ = l.l.Close() // what is not let go of shows when the folder gets its name
	return true
}

// unlock closes a lock and then removes its file: a file that is open cannot be removed here, so that nobody's lock
// can be taken away.
func (l *Lock) unlock() error {
	err := l.l.Close()
	if l.remove {
		_ = os.Remove(l.l.Path()) // another may hold it already
	}
	return err
}
