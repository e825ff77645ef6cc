//go:build !faults

package cli

import "paletwin/internal/disk"

// fileSystem is what the commands work on.
func fileSystem() disk.FS { return disk.OS{} }
