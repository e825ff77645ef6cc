package record

import (
	"encoding/binary"
	"iter"
)

// Packed is a record as one text, in which it takes a third of the room. Names and values that are read of it are parts of
// that text. The zero Packed is a record without fields.
type Packed struct{ text string }

// Pack returns the record packed.
func (r Record) Pack() Packed {
	if len(r) == 0 {
		return Packed{}
	}
	var room [256]byte
	b := room[:0]
	for i := range r {
		b = AppendValue(AppendPart(b, r[i].Name), r[i].Value)
	}
	return Packed{string(b)}
}

// All gives the fields in order.
func (p Packed) All() iter.Seq[Field] {
	return func(yield func(Field) bool) {
		for rest := p.text; rest != ""; {
			var f Field
			f.Name, rest = CutPart(rest)
			f.Value, rest = CutValue(rest)
			if !yield(f) {
				return
			}
		}
	}
}

// Record returns the record unpacked.
func (p Packed) Record() Record {
	if p.text == "" {
		return nil
	}
	n := 0
	for range p.All() {
		n++
	}
	r := make(Record, 0, n)
	for f := range p.All() {
		r = append(r, f)
	}
	return r
}

// Get returns the value of the named field and whether the record has it.
func (p Packed) Get(name string) (Value, bool) {
	for f := range p.All() {
		if f.Name == name {
			return f.Value, true
		}
	}
	return Value{}, false
}

// AppendValue appends a value as it stands in something packed to dst.
func AppendValue(dst []byte, v Value) []byte {
	n := uint64(len(v.text)) << 1
	if v.null {
		n |= 1
	}
	return append(binary.AppendUvarint(dst, n), v.text...)
}

// CutValue takes a value from the front of something packed.
func CutValue(packed string) (v Value, rest string) {
	n, w := length(packed)
	end := w + int(n>>1)
	return Value{text: packed[w:end], null: n&1 == 1}, packed[end:]
}

// CutPart takes what AppendPart appended from the front.
func CutPart(packed string) (part, rest string) {
	n, w := length(packed)
	end := w + int(n)
	return packed[w:end], packed[end:]
}

// length reads the number that a text begins with, and how many bytes it takes.
func length(s string) (n uint64, bytes int) {
	if s[0] < 0x80 {
		return uint64(s[0]), 1
	}
	return binary.Uvarint([]byte(s[:min(len(s), binary.MaxVarintLen64)]))
}
