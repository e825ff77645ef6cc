package disk

import "golang.org/x/sys/unix"

// foreign are file systems on which owners and modes are made up, or another machine's, by their names.
var foreign = map[string]string{
	"smbfs": "a Windows share", "nfs": "a network mount", "afpfs": "a network mount", "webdav": "a network mount",
	"msdos": "a disk without owners", "exfat": "a disk without owners", "ntfs": "a disk without owners",
	"macfuse": "a foreign mount", "osxfuse": "a foreign mount", "fusefs": "a foreign mount",
}

// Foreign says what kind of a file system a folder is on where owners and modes mean nothing there; "" where they do.
func Foreign(dir string) string {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return ""
	}
	return foreign[unix.ByteSliceToString(st.Fstypename[:])]
}
