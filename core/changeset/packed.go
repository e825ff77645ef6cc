package changeset

import (
	"iter"

	"paletwin/core/record"
)

// Packed is edits as one text, in which they take a third of the room: a run holds those of a million records. Names and
// values that are read of it are parts of that text. The zero Packed is none.
type Packed struct{ text string }

// Pack returns edits packed.
func Pack(edits []Edit) Packed { return PackAmong(nil, edits) }

// PackAmong is Pack with what comes of it kept among texts.
func PackAmong(texts *record.Texts, edits []Edit) Packed {
	if len(edits) == 0 {
		return Packed{}
	}
	var room [256]byte
	b := room[:0]
	for i := range edits {
		e := &edits[i]
		b = record.AppendValue(record.AppendPart(b, e.Field), e.From)
		b = record.AppendPart(record.AppendValue(b, e.To), e.Linked)
	}
	return Packed{texts.Keep(b)}
}

// All gives the edits in order.
func (p Packed) All() iter.Seq[Edit] {
	return func(yield func(Edit) bool) {
		for rest := p.text; rest != ""; {
			var e Edit
			e.Field, rest = record.CutPart(rest)
			e.From, rest = record.CutValue(rest)
			e.To, rest = record.CutValue(rest)
			e.Linked, rest = record.CutPart(rest)
			if !yield(e) {
				return
			}
		}
	}
}

// None reports whether there is no edit.
func (p Packed) None() bool { return p.text == "" }

// Len returns how many edits there are.
func (p Packed) Len() (n int) {
	for range p.All() {
		n++
	}
	return n
}

// Edits returns the edits unpacked.
func (p Packed) Edits() []Edit {
	if p.None() {
		return nil
	}
	return p.Append(make([]Edit, 0, p.Len()))
}

// Append appends the edits to others.
func (p Packed) Append(to []Edit) []Edit {
	for e := range p.All() {
		to = append(to, e)
	}
	return to
}

// Where returns the edits of which something is true, packed.
func (p Packed) Where(is func(e Edit) bool) Packed {
	var room [8]Edit
	some, all := room[:0], true
	for e := range p.All() {
		if is(e) {
			some = append(some, e)
		} else {
			all = false
		}
	}
	if all {
		return p
	}
	return Pack(some)
}

// Of returns the edit of a field, if there is one.
func (p Packed) Of(field string) (Edit, bool) {
	for e := range p.All() {
		if e.Field == field {
			return e, true
		}
	}
	return Edit{}, false
}
