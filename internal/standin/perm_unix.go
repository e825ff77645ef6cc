//go:build !windows

package standin

import "io/fs"

// othersCanRead reports whether others than its owner may read a file.
func othersCanRead(info fs.FileInfo) bool { return info.Mode().Perm()&0o077 != 0 }
