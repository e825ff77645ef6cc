//go:build unix && !linux && !darwin

package disk

// Foreign is "" where it cannot be told whether owners mean something on a file system.
func Foreign(string) string { return "" }
