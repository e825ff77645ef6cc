//go:build !unix

package disk

import (
	"errors"
	"io/fs"
	"os"
)

// mapFile is left to reading the file whole: a mapped file cannot be
// replaced on these systems.
func mapFile(*os.File, int64) ([]byte, func() error, error) {
	return nil, nil, errors.ErrUnsupported
}

// mapShared gives plain memory: files are not mapped on these systems.
func mapShared(_ *os.File, size int64) ([]byte, func() error, error) {
	return make([]byte, size), func() error { return nil }, nil
}

// syncDir has nothing to do: folders cannot be synced on these systems.
func syncDir(string) error { return nil }

func keep(name string, like fs.FileInfo) error { return os.Chmod(name, like.Mode().Perm()) }

// Owner returns whose a file is that would become ours if it was written anew; it
// is not known here.
func Owner(fs.FileInfo) string { return "" }

// Links returns how many names a file has; it is not known here.
func Links(fs.FileInfo) int { return 1 }

// OthersCanRead says nothing where access is not told by a file's mode.
func OthersCanRead(fs.FileInfo) bool { return false }

func free(string) (int64, error) { return -1, nil }
