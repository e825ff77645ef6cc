// Package layout says what the records of a record set are: which column
// holds which field, and when two values are the same. Every other package
// asks here and decides nothing of the sort itself.
package layout

import "paletwin/core/record"

// Equal reports whether a and b are one value of the named field. Equal
// means equal bytes; a blank cell of a format without null is no change
// against null or against the empty text.
func Equal(field string, a, b record.Value) bool {
	return a == b || a.Blank() && b.Blank()
}

// EqualBytes is Equal for two cells that are not null, given as their
// decoded bytes.
func EqualBytes(field string, a, b []byte) bool { return string(a) == string(b) }
