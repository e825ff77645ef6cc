package changeset

import (
	"bytes"
	"encoding/hex"

	"paletwin/core/jsontext"
	"paletwin/core/record"
)

// AppendLine appends c as a line of a change set, newline included. Fields
// and records are written in the order they have.
func AppendLine(dst []byte, c *Change) []byte {
	dst = append(dst, `{"id":"`...)
	dst = hex.AppendEncode(dst, c.ID[:])
	dst = append(dst, `","act":"`...)
	dst = append(dst, c.Act.String()...)
	dst = append(dst, `","key":`...)
	dst = appendStrings(dst, c.Key.Parts())
	dst = appendCodes(dst, "held", c.Held)
	dst = appendCodes(dst, "stop", c.Stop)
	dst = appendCodes(dst, "noted", c.Noted)
	dst = appendLink(dst, c.Linked)
	dst = appendCodes(dst, "was", c.Was.Parts())
	dst = appendCopies(dst, c.Copies, true)
	if c.Act == Amend {
		dst = append(dst, `,"fields":{`...)
		for i := range c.Fields {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = appendField(dst, &c.Fields[i], true)
		}
	} else {
		dst = append(dst, `,"record":{`...)
		dst = AppendRecord(dst, c.Record)
	}
	return append(dst, "}}\n"...)
}

// appendField appends a field's member; names says whether with the names of copies.
func appendField(dst []byte, f *FieldChange, names bool) []byte {
	dst = jsontext.AppendString(dst, f.Field)
	dst = append(dst, `:{"from":`...)
	dst = AppendValue(dst, f.From)
	dst = append(dst, `,"to":`...)
	dst = AppendValue(dst, f.To)
	dst = appendCodes(dst, "held", f.Held)
	dst = appendCodes(dst, "stop", f.Stop)
	dst = appendCodes(dst, "noted", f.Noted)
	dst = appendLink(dst, f.Linked)
	dst = appendCopies(dst, f.Copies, names)
	return append(dst, '}')
}

// AppendRecord appends the members of r's JSON object, without its braces.
func AppendRecord(dst []byte, r record.Record) []byte {
	for i, f := range r {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = jsontext.AppendString(dst, f.Name)
		dst = append(dst, ':')
		dst = AppendValue(dst, f.Value)
	}
	return dst
}

func appendCodes(dst []byte, name string, codes []string) []byte {
	if len(codes) == 0 {
		return dst
	}
	dst = append(dst, `,"`...)
	dst = append(dst, name...)
	dst = append(dst, `":`...)
	return appendStrings(dst, codes)
}

func appendLink(dst []byte, link string) []byte {
	if link == "" {
		return dst
	}
	return jsontext.AppendString(append(dst, `,"linked":`...), link)
}

func appendStrings(dst []byte, s []string) []byte {
	dst = append(dst, '[')
	for i := range s {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = jsontext.AppendString(dst, s[i])
	}
	return append(dst, ']')
}

// AppendValue appends v as JSON: a string, or null.
func AppendValue(dst []byte, v record.Value) []byte {
	if v.IsNull() {
		return append(dst, "null"...)
	}
	return jsontext.AppendString(dst, v.String())
}

// A Line is one change as it stands in the file, newline excluded. Its id,
// act and key are read from their fixed places; Change decodes the rest.
type Line []byte

const (
	idAt    = len(`{"id":"`)
	idEnd   = idAt + 16
	actAt   = idEnd + len(`","act":"`)
	minLine = actAt + len(`add","key":[]`)
)

// ID returns the change's id; the zero ID if the line is none.
func (l Line) ID() (id ID) {
	if len(l) >= minLine {
		if _, err := hex.Decode(id[:], l[idAt:idAt+2*len(id)]); err != nil {
			return ID{}
		}
	}
	return id
}

// Act returns the change's act; 0 if the line is none.
func (l Line) Act() Act {
	if len(l) < minLine {
		return 0
	}
	switch l[actAt+1] {
	case 'm':
		return Amend
	case 'd':
		return Add
	case 'e':
		return Delete
	}
	return 0
}

// Plain reports whether nothing in the line can be held or stopped, and it
// is linked with nothing, as far as that can be told without decoding it. A
// false answer means only that the line has to be decoded.
func (l Line) Plain() bool {
	return !bytes.Contains(l, []byte(`"held":[`)) && !bytes.Contains(l, []byte(`"stop":[`)) && !bytes.Contains(l, []byte(`"linked":"`))
}

// Units returns how many units the change has: the fields of an amend, or
// one.
func (l Line) Units() int {
	if l.Act() != Amend {
		return 1
	}
	return bytes.Count(l, []byte(`,"to":`)) // in a text, a quote has a backslash before it
}

// PointerTo is a value as JSON decodes one: nil for null. ValueOf is its inverse.
func PointerTo(v record.Value) *string {
	if v.IsNull() {
		return nil
	}
	text := v.String()
	return &text
}

// ValueOf turns a decoded JSON string or null into a Value.
func ValueOf(s *string) record.Value {
	if s == nil {
		return record.Null()
	}
	return record.Text(*s)
}
