//go:build unix

package disk

import (
	"io/fs"
	"os"
	"os/user"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// mapFile maps a file's bytes for reading.
func mapFile(f *os.File, size int64) ([]byte, func() error, error) {
	b, err := unix.Mmap(int(f.Fd()), 0, int(size), unix.PROT_READ, unix.MAP_SHARED)
	if err != nil {
		return nil, nil, err
	}
	return b, func() error { return unix.Munmap(b) }, nil
}

// mapShared maps a file for reading and writing.
func mapShared(f *os.File, size int64) ([]byte, func() error, error) {
	b, err := unix.Mmap(int(f.Fd()), 0, int(size), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return nil, nil, err
	}
	return b, func() error { return unix.Munmap(b) }, nil
}

// syncDir makes a rename in a folder last.
func syncDir(name string) error {
	d, err := os.Open(name)
	if err != nil {
		return err
	}
	err = d.Sync()
	if cerr := d.Close(); err == nil {
		err = cerr
	}
	return err
}

// keep gives name the mode and owner of like. Only root may give files away;
// a file of our own keeps its group where we belong to it.
func keep(name string, like fs.FileInfo) error {
	if st, ok := like.Sys().(*syscall.Stat_t); ok {
		if err := os.Lchown(name, int(st.Uid), int(st.Gid)); err != nil && !os.IsPermission(err) {
			return err
		}
	}
	return os.Chmod(name, like.Mode().Perm())
}

// Owner returns whose a file is that would become ours if it was written anew; ""
// if it stays whose it is.
func Owner(info fs.FileInfo) string {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok || int(st.Uid) == os.Geteuid() || os.Geteuid() == 0 {
		return ""
	}
	id := strconv.Itoa(int(st.Uid))
	if u, err := user.LookupId(id); err == nil {
		return u.Username
	}
	return "user " + id
}

// links returns how many names a file has.
func links(_ *os.File, info fs.FileInfo) int {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(st.Nlink)
	}
	return 1
}

func rename(from, to string) error { return os.Rename(from, to) }
func remove(name string) error     { return os.Remove(name) }
func removeAll(name string) error  { return os.RemoveAll(name) }

func inWords(_, _ string, err error) error { return err }

// InUse says whether another program has a file open so that it could not be replaced: here it always can.
func InUse(string) error { return nil }

// LetGo lets go of a lock whose file stands in a folder that is about to get another name, where no file in it may be open then, and
// reports whether it did: here it need not.
func (l *Lock) LetGo() bool { return false }

// unlock removes the lock's file while it is still held, so that nobody can lock a file that is about to go.
func (l *Lock) unlock() error {
	if l.remove {
		_ = os.Remove(l.l.Path())
	}
	return l.l.Close()
}

// OthersCanRead reports whether others than its owner may read a file.
func OthersCanRead(info fs.FileInfo) bool { return info.Mode().Perm()&0o077 != 0 }
