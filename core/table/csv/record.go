package csv

import (
	"context"
	"io"
	"slices"

	"paletwin/core/record"
	"paletwin/core/table"
)

// AppendKey appends the key that stands in the given columns of a row to
// dst, as record.Key encodes it. A part that the row lacks is empty.
func AppendKey(dst, raw []byte, cols []int, comma byte) []byte {
	for _, col := range cols {
		cell, _ := Cell(raw, col, comma)
		dst = record.AppendPart(dst, Unquote(cell))
	}
	return dst
}

// Record returns a row as a record: a field for each heading that is not
// blank and that the row has a cell for.
func Record(m *table.Image, raw []byte) record.Record {
	return AppendRecord(make(record.Record, 0, len(m.Heading)), m, raw, string(raw))
}

// AppendRecord appends the fields of a row that is a text, too, of which the values are parts.
func AppendRecord(r record.Record, m *table.Image, raw []byte, text string) record.Record {
	r = slices.Grow(r, len(m.Heading))
	at := 0
	for _, h := range m.Heading {
		end := at + cellEnd(raw[at:], m.Comma)
		if h != "" {
			if v, there := valueOf(m, raw[at:end], text[at:end]); there {
				r = append(r, record.Field{Name: h, Value: v})
			}
		}
		if at = end + 1; at > len(raw) {
			break
		}
	}
	return r
}

// Normalise gives the key that all forms of a record's key have in common, as
// schema.Schema.Key does; nil stands for keys that have one form.
type Normalise func(record.Key) record.Key

func (one Normalise) of(enc []byte) string {
	if one == nil {
		return string(enc)
	}
	return one(record.KeyOf(enc)).Encoding()
}

// Lookup reads the records with the given keys in one walk over the table, in
// whatever form these stand there, and gives them by the keys that were asked
// for. Those that are not there are left out; of those that are there twice,
// the first is given.
func Lookup(m *table.Image, key []string, want []record.Key, one Normalise) (map[record.Key]record.Record, error) {
	return LookupFields(m, key, want, one, nil)
}

// LookupFields is Lookup for the named fields alone; nil is all.
func LookupFields(m *table.Image, key []string, want []record.Key, one Normalise, fields []string) (map[record.Key]record.Record, error) {
	cols, err := KeyColumns(m, key)
	if err != nil {
		return nil, err
	}
	wanted := make(map[string]record.Key, len(want))
	for _, k := range want {
		wanted[one.of([]byte(k.Encoding()))] = k
	}
	found := make(map[record.Key]record.Record, len(want))
	var enc []byte
	err = Each(context.Background(), m, func(r *Line) error {
		enc = r.AppendKey(enc[:0], cols)
		at := one.of(enc)
		if k, ok := wanted[at]; ok {
			delete(wanted, at)
			found[k] = some(m, r.Raw(), fields)
		}
		if len(wanted) == 0 {
			return io.EOF
		}
		return nil
	})
	return found, err
}

// LookupAll reads the records with the given keys in the order of the keys,
// and how often each is there: 0, 1 or more. Of those that are there twice,
// the first is given.
func LookupAll(m *table.Image, key []string, want []record.Key, one Normalise) (found []record.Record, count []int, err error) {
	cols, err := KeyColumns(m, key)
	if err != nil {
		return nil, nil, err
	}
	places := make(map[string][]int, len(want))
	for i, k := range want {
		at := one.of([]byte(k.Encoding()))
		places[at] = append(places[at], i)
	}
	found, count = make([]record.Record, len(want)), make([]int, len(want))
	var enc []byte
	err = Each(context.Background(), m, func(r *Line) error {
		enc = r.AppendKey(enc[:0], cols)
		at := one.of(enc)
		for n, i := range places[at] {
			if count[i]++; count[i] > 1 {
				continue
			}
			if n == 0 {
				found[i] = r.Record()
			} else {
				found[i] = found[places[at][0]]
			}
		}
		return nil
	})
	return found, count, err
}

// some returns a row's named fields as a record, or all of them.
func some(m *table.Image, raw []byte, fields []string) record.Record {
	if fields == nil {
		return Record(m, raw)
	}
	r := make(record.Record, 0, len(fields))
	for _, name := range fields {
		cell, ok := Cell(raw, max(m.Column(name), 0), m.Comma)
		if v, there := Value(m, cell); ok && there && m.Column(name) >= 0 {
			r = append(r, record.Field{Name: name, Value: v})
		}
	}
	return r
}
