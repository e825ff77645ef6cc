//go:build linux || darwin

package disk

import "golang.org/x/sys/unix"

// free returns the bytes that this user may still write under dir.
func free(dir string) (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return -1, err
	}
	return int64(st.Bavail) * int64(st.Bsize), nil
}
