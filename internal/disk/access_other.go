//go:build !unix

package disk

import "io/fs"

// Access says whose a file is and who may write it.
type Access struct {
	UID, GID      int
	Group, Others bool
}

// AccessOf says nothing where access is not told by a file's owner and mode: the system's own rights stand.
func AccessOf(fs.FileInfo) (Access, bool) { return Access{}, false }

// Give has nothing to give where files have no such owners.
func Give(string, Owners) error { return nil }

func (Owners) lack(fs.FileInfo) bool { return false }

// Foreign is "" where it cannot be told whether owners mean something on a file system.
func Foreign(string) string { return "" }
