// Package words puts numbers into sentences.
package words

import (
	"fmt"
	"strings"
)

// Count writes a number with its noun: 1 record, 2 records.
func Count(n int, noun string) string { return fmt.Sprintf("%d %s", n, Plural(n, noun)) }

// Size writes a number of bytes: 512 MiB (ISO/IEC 80000-13).
func Size(bytes int64) string { return fmt.Sprintf("%d MiB", bytes>>20) }

// Plural writes a noun as it is for a number of things.
func Plural(n int, noun string) string {
	if n == 1 {
		return noun
	}
	return noun + "s"
}

// List writes names in a row: a, b and c.
func List(names []string) string {
	n := len(names) - 1
	if n < 1 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:n], ", ") + " and " + names[n]
}
