package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"github.com/gofrs/flock"
)

// ErrLocked says that another process works on the same thing.
var ErrLocked = errors.New("another paletwin process is working on it")

// Lock is held until Unlock.
type Lock struct {
	l *flock.Flock
	// remove says that the lock's file goes with the lock.
	remove bool
}

// Acquire takes the lock whose file is name, at once or not at all. With
// remove, the file is taken away on Unlock; it then stands in a folder that
// is not ours. In a desk's own folders it belongs to those whose the desk is.
func Acquire(fsys FS, name string, remove bool) (*Lock, error) {
	fence, _ := fsys.(*Fence) // without one nothing is fenced
	if err := fence.enter(name, true); err != nil {
		return nil, err
	}
	perm := fs.FileMode(0o600)
	if remove {
		perm = 0o644 // so that others who may write in the folder see that it is held
	}
	for range 100 {
		_, missing := os.Lstat(name)
		l := flock.New(name, flock.SetPermissions(perm))
		ok := false
		err := fence.soon(name, func() (err error) { ok, err = l.TryLock(); return err })
		if err == nil && missing != nil { // it may be ours, whoever has locked it
			if err = fence.adopt(name); errors.Is(err, fs.ErrPermission) || errors.Is(err, fs.ErrNotExist) { // another made it, or took it away
				err = nil
			}
		}
		if err != nil {
			_ = l.Close() // the first error counts
			return nil, err
		}
		if !ok {
			_ = l.Close()
			return nil, fmt.Errorf("%s: %w", name, ErrLocked)
		}
		// Between opening and locking, the holder before us may have taken
		// the file away: then the lock is on nothing, and we try again.
		if standing(l, name) {
			return &Lock{l, remove}, nil
		}
		_ = l.Close()
	}
	return nil, fmt.Errorf("%s: %w", name, ErrLocked)
}

// patience is how long a lock is waited for that is held for a moment only.
const patience = 20 * time.Second

// AcquireSoon takes a lock that others hold for a moment only, and waits for it.
func AcquireSoon(fsys FS, name string) (*Lock, error) {
	for began := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		l, err := Acquire(fsys, name, false)
		if err == nil || !errors.Is(err, ErrLocked) || time.Since(began) > patience {
			return l, err
		}
	}
}

// standing reports whether the locked file still stands under its name.
func standing(l *flock.Flock, name string) bool {
	mine, err := l.Stat()
	if err != nil {
		return false
	}
	there, err := os.Stat(name)
	return err == nil && os.SameFile(mine, there)
}

// Unlock lets go.
func (l *Lock) Unlock() error {
	if l == nil {
		return nil
	}
	return l.unlock()
}

// LockName returns the name of the lock file beside a target file.
func LockName(target string) string {
	return beside(target, ".paletwin-lock")
}
