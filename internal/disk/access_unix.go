//go:build unix

package disk

import (
	"io/fs"
	"os"
	"syscall"
)

// Access says whose a file is and who may write it.
type Access struct {
	UID, GID int
	Group    bool // its group may write it
	Others   bool // anybody may; of folders in which everybody may make, and nobody take away what is another's, it is false
}

// AccessOf is the access of a file; false where the system does not tell it by a file's owner and mode.
func AccessOf(info fs.FileInfo) (Access, bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return Access{}, false
	}
	mode := info.Mode()
	kept := info.IsDir() && mode&fs.ModeSticky != 0
	return Access{UID: int(st.Uid), GID: int(st.Gid), Group: mode&0o020 != 0 && !kept, Others: mode&0o002 != 0 && !kept}, true
}

// Give gives a file or folder of this user's, or for root anybody's, to those whose it is to be.
func Give(name string, to Owners) error {
	info, err := os.Lstat(name)
	if err != nil {
		return err
	}
	uid := to.UID
	if os.Geteuid() != 0 {
		uid = -1
	}
	if err := os.Lchown(name, uid, to.GID); err != nil {
		return err
	}
	switch {
	case !to.Group:
		return nil
	case info.IsDir():
		return os.Chmod(name, 0o770|fs.ModeSetgid)
	}
	return os.Chmod(name, 0o660)
}

// lack reports whether a file is not theirs to whom it is to be given, and can be given by this user.
func (to Owners) lack(info fs.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok || int(st.Uid) != os.Geteuid() && os.Geteuid() != 0 {
		return false
	}
	want := fs.FileMode(0o660)
	if info.IsDir() {
		want = 0o770
	}
	return int(st.Gid) != to.GID || info.Mode().Perm() != want || info.IsDir() && info.Mode()&fs.ModeSetgid == 0
}
