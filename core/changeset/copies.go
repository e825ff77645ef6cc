package changeset

import (
	"bytes"
	"slices"
	"strings"

	"paletwin/core/record"
	"paletwin/core/words"
)

// Copies says, of what was found where several copies were compared, in which of them, and
// what the others have there.
type Copies struct {
	Of    []string // the names of the copies that have it so; of a delete, that lack the record
	There []string // of a delete, the copies that have the record; of an amend, those that lack it
	Sides []Side   // what other copies have, where they disagree
}

// Side is what some copies have where others have something else.
type Side struct {
	Of     []string      // the names of the copies
	To     record.Value  // of a field: their value
	Record record.Record // of an add: their fields that are unlike
	Held   []string      // codes of findings, as those of a change
	Stop   []string
	Noted  []string
}

// has reports whether something was found in a copy.
func (c *Copies) has(name string) bool { return c != nil && slices.Contains(c.Of, name) }

// side returns what a copy has that is another than what stands first, or nil.
func (c *Copies) side(name string) *Side {
	if c == nil {
		return nil
	}
	for i := range c.Sides {
		if slices.Contains(c.Sides[i].Of, name) {
			return &c.Sides[i]
		}
	}
	return nil
}

// Disputed reports whether copies have different values for the field.
func (f *FieldChange) Disputed() bool { return f.Copies != nil && len(f.Copies.Sides) > 0 }

// OfCopy returns the value that a copy gives the field, and the codes that stop that value
// beside the disagreement; ok is false if the copy does not change it.
func (f *FieldChange) OfCopy(name string) (v record.Value, stop []string, ok bool) {
	if f.Copies.has(name) {
		return f.To, agreed(f.Stop), true
	}
	if s := f.Copies.side(name); s != nil {
		return s.To, s.Stop, true
	}
	return record.Value{}, nil, false
}

// Without returns the field change without the values for which there holds: those that are
// there already. If one is left, nothing is disputed any more; nil is that none is.
func (f *FieldChange) Without(there func(record.Value) bool) *FieldChange {
	if !f.Disputed() {
		if there(f.To) {
			return nil
		}
		return f
	}
	sides := append([]Side{{Of: f.Copies.Of, To: f.To, Held: f.Held, Stop: f.Stop, Noted: f.Noted}}, f.Copies.Sides...)
	sides = slices.DeleteFunc(sides, func(s Side) bool { return there(s.To) })
	if len(sides) == 0 {
		return nil
	}
	first := sides[0]
	left := &FieldChange{Edit: Edit{Field: f.Field, From: f.From, To: first.To, Linked: f.Linked}, Held: first.Held, Stop: agreed(first.Stop), Noted: first.Noted, Copies: &Copies{Of: first.Of, Sides: sides[1:]}}
	if left.Disputed() {
		left.Stop = append(left.Stop, CopiesDisagree.Name)
	}
	return left
}

// OfCopy returns the record that a copy would add or delete, and the codes that stop it beside
// the disagreement; ok is false if the copy does not have the change.
func (c *Change) OfCopy(name string) (r record.Record, stop []string, ok bool) {
	if c.Copies.has(name) {
		return c.Record, agreed(c.Stop), true
	}
	s := c.Copies.side(name)
	if s == nil {
		return nil, nil, false
	}
	r = c.Record.Clone()
	for _, f := range s.Record {
		r.Set(f.Name, f.Value)
	}
	return r, s.Stop, true
}

// Chosen returns the record of a change once a copy's side was chosen; "" is none.
func (c *Change) Chosen(side string) record.Record {
	if r, _, ok := c.OfCopy(side); ok && side != "" {
		return r
	}
	return c.Record
}

// In says in words in which copies a unit of the change was found, and what others have; field is
// "" for the change as a whole. Where one copy was compared it is empty.
func (c *Change) In(field string) string {
	if f := c.Field(field); f != nil {
		said := f.In()
		if c.Copies != nil && len(c.Copies.There) > 0 {
			said += "; the record is not in " + words.List(c.Copies.There)
		}
		return said
	}
	switch x := c.Copies; {
	case x == nil:
		return ""
	case c.Act == Delete && len(x.There) > 0:
		return "not in " + words.List(x.Of) + ", and in " + words.List(x.There)
	case c.Act == Delete:
		return "not in " + words.List(x.Of)
	default:
		said := "in " + words.List(x.Of)
		for i := range x.Sides {
			var unlike []string
			for _, f := range x.Sides[i].Record {
				unlike = append(unlike, f.Name+" "+f.Value.Quoted())
			}
			said += ", with " + words.List(unlike) + " in " + words.List(x.Sides[i].Of)
		}
		return said
	}
}

// In says in words in which copies the field has which value.
func (f *FieldChange) In() string {
	switch {
	case f.Copies == nil:
		return ""
	case !f.Disputed():
		return "in " + words.List(f.Copies.Of)
	}
	all := []string{f.To.Quoted() + " in " + words.List(f.Copies.Of)}
	for i := range f.Copies.Sides {
		all = append(all, f.Copies.Sides[i].To.Quoted()+" in "+words.List(f.Copies.Sides[i].Of))
	}
	return strings.Join(all, ", ")
}

// Meant lists the copies whose side a unit stands for, once it is decided: the one that was
// chosen, else those in which it was found.
func (c *Change) Meant(s *State) []string {
	x := c.Copies
	if f := c.Field(s.Field); f != nil {
		x = f.Copies
	}
	switch {
	case s.Of != "":
		return []string{s.Of}
	case x == nil || s.Given != nil:
		return nil
	}
	return x.Of
}

// Against reports whether a copy deletes the record that others amend, and so the id of the
// change that this one stands against.
func (c *Change) Against(recordSet string) (id ID, is bool) {
	if c.Act == Add || !slices.Contains(c.Stop, CopiesDisagree.Name) {
		return id, false
	}
	other := Amend
	if c.Act == Amend {
		other = Delete
	}
	return MakeID(recordSet, c.Key, other), true
}

// agreed are the codes that stop something even where it is said which copy is meant.
func agreed(stop []string) []string {
	return slices.DeleteFunc(slices.Clone(stop), func(code string) bool { return code == CopiesDisagree.Name })
}

// Sources lists the copies that a change comes from, of all of its fields, in order of their names.
func (c *Change) Sources() []string {
	var all []string
	take := func(x *Copies) {
		if x == nil {
			return
		}
		all = append(all, x.Of...)
		for i := range x.Sides {
			all = append(all, x.Sides[i].Of...)
		}
	}
	take(c.Copies)
	for i := range c.Fields {
		take(c.Fields[i].Copies)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// appendCopies appends the members of, there and sides; names says whether with the names of
// copies, which are no content.
func appendCopies(dst []byte, c *Copies, names bool) []byte {
	if c == nil {
		return dst
	}
	if names {
		dst = appendCodes(dst, "of", c.Of)
		dst = appendCodes(dst, "there", c.There)
	}
	if len(c.Sides) == 0 {
		return dst
	}
	dst = append(dst, `,"sides":[`...)
	for i := range c.Sides {
		if i > 0 {
			dst = append(dst, ',')
		}
		s := &c.Sides[i]
		if s.Record == nil {
			dst = AppendValue(append(dst, `{"to":`...), s.To)
		} else {
			dst = append(AppendRecord(append(dst, `{"record":{`...), s.Record), '}')
		}
		dst = appendCodes(dst, "held", s.Held)
		dst = appendCodes(dst, "stop", s.Stop)
		dst = appendCodes(dst, "noted", s.Noted)
		if names {
			dst = appendCodes(dst, "of", s.Of)
		}
		dst = append(dst, '}')
	}
	return append(dst, ']')
}

// OfCopies reports whether the line names copies.
func (l Line) OfCopies() bool {
	return bytes.Contains(l, []byte(`,"of":[`)) || bytes.Contains(l, []byte(`,"there":[`))
}

// unnamed is the line without the names of copies.
func (l Line) unnamed() []byte {
	if !l.OfCopies() {
		return l
	}
	out := make([]byte, 0, len(l))
	for rest := []byte(l); ; {
		at := len(rest)
		for _, name := range []string{`,"of":[`, `,"there":[`} { // in a text, a quote has a backslash before it
			if i := bytes.Index(rest, []byte(name)); i >= 0 {
				at = min(at, i)
			}
		}
		out = append(out, rest[:at]...)
		if at == len(rest) {
			return out
		}
		rest = rest[at+bytes.IndexByte(rest[at:], '[')+1:]
		rest = rest[endOfList(rest):]
	}
}

// endOfList returns where a list of texts ends, behind its bracket.
func endOfList(b []byte) int {
	inside := false
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case inside && c == '\\':
			i++
		case c == '"':
			inside = !inside
		case c == ']' && !inside:
			return i + 1
		}
	}
	return len(b)
}
