package derive

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// An InputError is a file beside the snapshot from which nothing can be taken.
type InputError struct {
	File string
	Row  int // 0 for the file as a whole
	Text string
}

func (e *InputError) Error() string {
	if e.Row > 0 {
		return fmt.Sprintf("%s row %d: %s", e.File, e.Row, e.Text)
	}
	return e.File + ": " + e.Text
}

func fail(m *table.Image, row int, format string, args ...any) error {
	return &InputError{m.Name, row, fmt.Sprintf(format, args...)}
}

// ReadOverlay reads a file with the key and some fields of the snapshot. Its
// other columns are left out. The schema says which keys name
// one record.
func ReadOverlay(m *table.Image, key []string, snapshot *table.Image, s *schema.Schema) (*Overlay, error) {
	o := &Overlay{Name: m.Name, Values: map[record.Key][]string{}, Rows: map[record.Key]int{}}
	var cols []int
	for i, h := range m.Heading {
		if snapshot.Column(h) >= 0 && !slices.Contains(key, h) {
			o.Fields, cols = append(o.Fields, h), append(cols, i)
		}
	}
	if len(cols) == 0 {
		return nil, fail(m, 0, "it has no field of the snapshot beside its key; it has %s", strings.Join(m.Heading, ", "))
	}
	keyCols := make([]int, len(key))
	for i, k := range key {
		if keyCols[i] = m.Column(k); keyCols[i] < 0 {
			return nil, fail(m, 0, "it has no column for the key %q; it has %s", k, strings.Join(m.Heading, ", "))
		}
	}
	return o, csv.Each(context.Background(), m, func(r *csv.Line) error {
		k, row := r.Key(keyCols), r.Number()
		if k.Blank() {
			return fail(m, row, "it has no key")
		}
		k = s.Key(k)
		if first, twice := o.Rows[k]; twice {
			return fail(m, row, "%s stands on row %d, too", k, first)
		}
		o.Values[k], o.Rows[k] = values(r, cols), row
		return nil
	})
}

// ReadAdds reads new records, by the snapshot's columns, and which fields they
// have.
func ReadAdds(m, snapshot *table.Image) (all [][]string, fields []string, err error) {
	at := make([]int, len(snapshot.Heading))
	for i, h := range snapshot.Heading {
		at[i] = m.Column(h)
	}
	for _, h := range m.Heading {
		if snapshot.Column(h) < 0 {
			return nil, nil, fail(m, 0, "it has a column %q, and the snapshot has no such field", h)
		}
		fields = append(fields, h)
	}
	err = csv.Each(context.Background(), m, func(r *csv.Line) error {
		all = append(all, values(r, at))
		return nil
	})
	return all, fields, err
}

// values are the cells of some columns; "" for a column that is not there.
func values(r *csv.Line, cols []int) []string {
	row := make([]string, len(cols))
	for i, c := range cols {
		row[i] = r.Text(c)
	}
	return row
}
