package disk

import "golang.org/x/sys/unix"

// foreign are file systems on which owners and modes are made up, or another machine's. The numbers are those of linux/magic.h, and of the
// drivers that are not in it.
var foreign = map[uint32]string{
	unix.SMB_SUPER_MAGIC:   "a Windows share",
	unix.SMB2_SUPER_MAGIC:  "a Windows share",
	unix.CIFS_SUPER_MAGIC:  "a Windows share",
	unix.NFS_SUPER_MAGIC:   "a network mount",
	unix.AFS_SUPER_MAGIC:   "a network mount",
	unix.CEPH_SUPER_MAGIC:  "a network mount",
	unix.CODA_SUPER_MAGIC:  "a network mount",
	unix.NCP_SUPER_MAGIC:   "a network mount",
	unix.V9FS_MAGIC:        "another system's folder",
	unix.MSDOS_SUPER_MAGIC: "a disk without owners",
	unix.EXFAT_SUPER_MAGIC: "a disk without owners",
	0x5346544e:             "a disk without owners", // ntfs
	unix.FUSE_SUPER_MAGIC:  "a foreign mount",
	0x786f4256:             "another system's folder", // vboxsf
	0xbacbacbc:             "another system's folder", // vmhgfs
}

// Foreign says what kind of a file system a folder is on where owners and modes mean nothing there; "" where they do.
func Foreign(dir string) string {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return ""
	}
	return foreign[uint32(st.Type)]
}
