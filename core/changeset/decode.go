package changeset

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"sync"

	"paletwin/core/jsontext"
	"paletwin/core/record"
)

// This file reads what format.go writes. A change set may have a million lines, so that they are read member by member.

// Decoder reads what stands in lines of change sets and of what is kept of runs, member by member.
type Decoder struct {
	jsontext.Reader
	key []byte
}

// Into reads a value of which there are few, as encoding/json does.
func (d *Decoder) Into(v any) error {
	raw, err := d.Raw()
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, v)
}

// ID reads the id of a change.
func (d *Decoder) ID() (ID, error) {
	text, err := d.Bytes()
	if err != nil {
		return ID{}, err
	}
	return ParseID(string(text))
}

// Act reads an act.
func (d *Decoder) Act() (Act, error) {
	word, err := d.Word()
	if err != nil {
		return 0, err
	}
	return ParseAct(word)
}

// Key reads the parts of a key.
func (d *Decoder) Key() (record.Key, error) {
	d.key = d.key[:0]
	err := d.Array(func() error {
		part, err := d.Bytes()
		d.key = record.AppendPart(d.key, part)
		return err
	})
	return record.KeyOf(d.key), err
}

// Value reads a value: a text, or null.
func (d *Decoder) Value() (record.Value, error) {
	text, there, err := d.Text()
	if !there {
		return record.Null(), err
	}
	return record.Text(text), err
}

// decoder reads lines of a change set.
type decoder struct {
	Decoder
	fields []string       // of the header, which give the order
	place  map[string]int // of each in it
	again  bool           // a change holds until the next is read
	change Change
	edits  []FieldChange
}

// Reading reads lines of a change set one after the other, without much room.
type Reading struct{ d *decoder }

// NewReading returns what reads lines; fields is the header's field list.
func NewReading(fields []string) *Reading {
	d := decoderFor(fields)
	d.again = true
	return &Reading{d}
}

// Change decodes a line. The change holds until the next is read; its texts, and its record, are its own.
func (r *Reading) Change(l Line) (*Change, error) { return r.d.line(l) }

var decoders = sync.Pool{New: func() any { return new(decoder) }}

// decoderFor returns a decoder for change sets of some fields; done gives it back.
func decoderFor(fields []string) *decoder {
	d := decoders.Get().(*decoder)
	if !slices.Equal(d.fields, fields) {
		d.fields, d.place = slices.Clone(fields), make(map[string]int, len(fields))
		for i, f := range fields {
			d.place[f] = i
		}
	}
	return d
}

// Change decodes the line; fields is the header's field list, which gives
// the order.
func (l Line) Change(fields []string) (*Change, error) {
	d := decoderFor(fields)
	defer func() {
		d.Reset(nil) // the line is its owner's
		decoders.Put(d)
	}()
	return d.line(l)
}

func (d *decoder) line(l Line) (*Change, error) {
	d.Reset(l)
	c := &d.change
	if *c = (Change{}); !d.again {
		c = new(Change)
	}
	err := d.read(c)
	if err == nil {
		err = d.End()
	}
	if err != nil {
		return nil, fmt.Errorf("change line: %w", err)
	}
	return c, nil
}

func (d *decoder) read(c *Change) error {
	err := d.Object(func(name []byte) (err error) {
		switch string(name) {
		case "id":
			c.ID, err = d.ID()
		case "act":
			c.Act, err = d.Act()
		case "key":
			c.Key, err = d.Key()
		case "linked":
			c.Linked, _, err = d.Text()
		case "was":
			c.Was, err = d.Key()
		case "fields":
			c.Fields, err = d.fieldChanges()
		case "record":
			c.Record, err = d.record()
		default:
			return d.marks(name, &c.Held, &c.Stop, &c.Noted, &c.Copies)
		}
		return err
	})
	if err == nil && c.ID == (ID{}) {
		_, err = ParseID("")
	}
	return err
}

// marks reads the members that lines and their fields have alike: codes, and what copies say.
func (d *decoder) marks(name []byte, held, stop, noted *[]string, copies **Copies) (err error) {
	switch string(name) {
	case "held":
		*held, err = d.Words()
	case "stop":
		*stop, err = d.Words()
	case "noted":
		*noted, err = d.Words()
	case "of", "there", "sides":
		err = d.copies(name, copies)
	default:
		err = d.Skip()
	}
	return err
}

func (d *decoder) copies(name []byte, c **Copies) (err error) {
	if *c == nil {
		*c = new(Copies)
	}
	switch string(name) {
	case "of":
		(*c).Of, err = d.Words()
	case "there":
		(*c).There, err = d.Words()
	case "sides":
		err = d.Array(func() error {
			s, err := d.side()
			(*c).Sides = append((*c).Sides, s)
			return err
		})
	}
	if len((*c).Of)+len((*c).There)+len((*c).Sides) == 0 {
		*c = nil
	}
	return err
}

func (d *decoder) side() (s Side, err error) {
	s.To = record.Null()
	err = d.Object(func(name []byte) (err error) {
		switch string(name) {
		case "to":
			s.To, err = d.Value()
		case "record":
			if s.Record, err = d.record(); s.Record == nil {
				s.Record = record.Record{}
			}
		case "of":
			s.Of, err = d.Words()
		default:
			return d.marks(name, &s.Held, &s.Stop, &s.Noted, new(*Copies))
		}
		return err
	})
	return s, err
}

// fieldChanges reads the fields of an amend.
func (d *decoder) fieldChanges() ([]FieldChange, error) {
	all := d.edits[:0]
	err := d.Object(func(name []byte) error {
		f, err := d.field(name)
		if err != nil {
			return err
		}
		c := FieldChange{Edit: Edit{Field: f, From: record.Null(), To: record.Null()}}
		err = d.Object(func(name []byte) (err error) {
			switch string(name) {
			case "from":
				c.From, err = d.Value()
			case "to":
				c.To, err = d.Value()
			case "linked":
				c.Linked, _, err = d.Text()
			default:
				return d.marks(name, &c.Held, &c.Stop, &c.Noted, &c.Copies)
			}
			return err
		})
		all = append(all, c)
		return err
	})
	if d.edits = all; len(all) == 0 {
		return nil, err
	}
	slices.SortFunc(all, func(a, b FieldChange) int { return d.place[a.Field] - d.place[b.Field] })
	if d.again {
		return slices.Clip(all), err
	}
	return slices.Clip(slices.Clone(all)), err
}

// record reads the fields of a record, in the header's order.
func (d *decoder) record() (record.Record, error) {
	var r record.Record
	err := d.Object(func(name []byte) error {
		f, err := d.field(name)
		if err != nil {
			return err
		}
		v, err := d.Value()
		if r == nil {
			r = make(record.Record, 0, len(d.fields))
		}
		r = append(r, record.Field{Name: f, Value: v})
		return err
	})
	slices.SortFunc(r, func(a, b record.Field) int { return d.place[a.Name] - d.place[b.Name] })
	return r, err
}

// field is a field that is named, as the header lists it.
func (d *decoder) field(name []byte) (string, error) {
	i, ok := d.place[string(name)]
	if !ok {
		return "", fmt.Errorf("it names a field that the header does not list: %q", bytes.Clone(name))
	}
	return d.fields[i], nil
}
