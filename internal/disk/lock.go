package disk

import (
	"errors"
	"fmt"
	"os"

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
// is not ours.
func Acquire(name string, remove bool) (*Lock, error) {
	for range 100 {
		l := flock.New(name, flock.SetPermissions(0o600))
		ok, err := l.TryLock()
		if err != nil {
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

// standing reports whether the locked file still stands under its name.
func standing(l *flock.Flock, name string) bool {
	mine, err := l.Stat()
	if err != nil {
		return false
	}
	there, err := os.Stat(name)
	return err == nil && os.SameFile(mine, there)
}

// Unlock lets go. The lock's file is removed while it is still held, so that
// nobody can lock a file that is about to go; where a system cannot remove a
// file in use, it stays and does no harm.
func (l *Lock) Unlock() error {
	if l == nil {
		return nil
	}
	if l.remove {
		_ = os.Remove(l.l.Path())
	}
	return l.l.Close()
}

// LockName returns the name of the lock file beside a target file.
func LockName(target string) string {
	return beside(target, ".paletwin-lock")
}
