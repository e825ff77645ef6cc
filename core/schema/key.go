package schema

import "strings"

// KeyForm says how keys are recognised that are not written alike.
type KeyForm struct {
	Trim     bool
	FoldCase bool
	Zeros    int // leading zeros up to this width are looked through; 0 is none
	Prefix   int // the first so many characters tell the record; 0 is all
}

// Form returns a key's part as it is compared.
func (k KeyForm) Form(part string) string {
	part = k.Write(part)
	if k.FoldCase {
		part = strings.ToLower(part)
	}
	if r := []rune(part); k.Prefix > 0 && len(r) > k.Prefix {
		part = string(r[:k.Prefix])
	}
	return part
}

// Write returns a part of a new key as keys are written: without outer spaces,
// with its leading zeros.
func (k KeyForm) Write(part string) string {
	if k.Trim {
		part = strings.TrimSpace(part)
	}
	if k.Zeros > 0 && len(part) < k.Zeros && part != "" && strings.Trim(part, "0123456789") == "" {
		part = strings.Repeat("0", k.Zeros-len(part)) + part
	}
	return part
}
