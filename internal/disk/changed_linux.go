package disk

import (
	"io/fs"
	"syscall"
)

// Changed is when anything about a file was changed last, its times included, in nanoseconds; 0 where that is not known.
func Changed(info fs.FileInfo) int64 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return s.Ctim.Nano()
	}
	return 0
}
