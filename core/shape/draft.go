package shape

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// most is how many rows of a copy are looked at to tell its shape.
const most = 500

// Draft proposes the clause of a layout for a copy that has not a row for each record of a
// snapshot, with what was seen in comments; nothing where the copy has. key are the fields that
// identify a record.
func Draft(snapshot, copied *table.Image, key []string) ([]byte, error) {
	d := &drafter{snapshot: snapshot, copied: copied, key: key}
	err := csv.Each(context.Background(), copied, func(r *csv.Line) error {
		row := make([]string, len(copied.Heading))
		for i := range row {
			row[i] = r.Text(i)
		}
		if d.rows = append(d.rows, row); len(d.rows) == most {
			return io.EOF
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if text, err := d.long(); text != nil || err != nil {
		return text, err
	}
	return d.wide()
}

type drafter struct {
	snapshot, copied *table.Image
	key              []string
	rows             [][]string
}

// columns are the copy's columns of some fields.
func (d *drafter) columns(fields []string) (cols []int, all bool) {
	all = true
	for _, f := range fields {
		col := heading(d.copied, f)
		cols, all = append(cols, col), all && col >= 0
	}
	return cols, all
}

// field is the snapshot's column with a name, or -1.
func (d *drafter) field(name string) int { return heading(d.snapshot, name) }

// long proposes a list with a row for each field: a column of it names fields, and of the others
// the one that has what the snapshot has says what was there.
func (d *drafter) long() ([]byte, error) {
	keys, keyed := d.columns(d.key)
	if !keyed || len(d.rows) == 0 {
		return nil, nil
	}
	names := -1
	for col := range d.copied.Heading {
		named := 0
		for _, row := range d.rows {
			if d.field(row[col]) >= 0 {
				named++
			}
		}
		if !slices.Contains(keys, col) && 2*named > len(d.rows) {
			names = col
		}
	}
	if names < 0 {
		return nil, nil
	}
	known, err := d.lookUp(func(row []string) record.Key {
		parts := make([]string, len(keys))
		for i, col := range keys {
			parts[i] = row[col]
		}
		return record.NewKey(parts...)
	})
	if err != nil {
		return nil, err
	}
	var others []int
	equal := map[int]int{}
	for col, h := range d.copied.Heading {
		if col == names || slices.Contains(keys, col) || h == "" {
			continue
		}
		others = append(others, col)
		for n, row := range d.rows {
			if f := d.field(row[names]); f >= 0 && known[n] != nil {
				if v, _ := known[n].Get(d.snapshot.Heading[f]); v.String() == row[col] {
					equal[col]++
				}
			}
		}
	}
	if len(others) == 0 {
		return nil, nil
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "\n# %s has a row for each field of a record: %s names the field.\nshape:\n  long: {field: %s, ", layout.OneLine(d.copied.Name), layout.OneLine(d.copied.Heading[names]), layout.Scalar(d.copied.Heading[names]))
	old := slices.IndexFunc(others, func(col int) bool { return 2*equal[col] > len(d.rows) })
	beside := names // the value stands right of the name, or of what was there
	if old >= 0 {
		beside = others[old]
	}
	value := slices.IndexFunc(others, func(col int) bool { return col > beside && 2*equal[col] <= len(d.rows) })
	if value < 0 {
		value = slices.IndexFunc(others, func(col int) bool { return 2*equal[col] <= len(d.rows) })
	}
	switch {
	case value < 0:
		fmt.Fprintf(&b, "value: %s}  # it has what the snapshot has\n", layout.Scalar(d.copied.Heading[others[0]]))
	case old < 0:
		fmt.Fprintf(&b, "value: %s}\n", layout.Scalar(d.copied.Heading[others[value]]))
	default:
		fmt.Fprintf(&b, "old: %s, new: %s}  # the first mostly has what the snapshot has\n", layout.Scalar(d.copied.Heading[others[old]]), layout.Scalar(d.copied.Heading[others[value]]))
	}
	return b.Bytes(), nil
}

// lookUp finds the snapshot's records of the copy's rows; nil is none.
func (d *drafter) lookUp(key func(row []string) record.Key) ([]record.Record, error) {
	keys := make([]record.Key, len(d.rows))
	for n, row := range d.rows {
		keys[n] = key(row)
	}
	found, count, err := csv.LookupAll(d.snapshot, d.key, keys, nil)
	for n := range found {
		if count[n] == 0 {
			found[n] = nil
		}
	}
	return found, err
}

// wide proposes a table in whose headings a field of the key stands: the headings are values that
// the snapshot has there, and the cells those of a field.
func (d *drafter) wide() ([]byte, error) {
	var lacks []string
	for _, k := range d.key {
		if heading(d.copied, k) < 0 {
			lacks = append(lacks, k)
		}
	}
	if len(lacks) != 1 || len(d.key) < 2 {
		return nil, nil
	}
	at := d.snapshot.Column(lacks[0])
	values := map[string]bool{}
	err := csv.Each(context.Background(), d.snapshot, func(r *csv.Line) error {
		values[layout.HeadingForm(r.Text(at))] = true
		return nil
	})
	if err != nil {
		return nil, err
	}
	var cols []int
	for col, h := range d.copied.Heading {
		if values[layout.HeadingForm(h)] {
			cols = append(cols, col)
		}
	}
	if len(cols) == 0 {
		return nil, nil
	}
	equal := map[string]int{}
	for _, col := range cols {
		known, err := d.lookUp(func(row []string) record.Key {
			parts := make([]string, len(d.key))
			for i, k := range d.key {
				if parts[i] = strings.TrimSpace(d.copied.Heading[col]); k != lacks[0] {
					parts[i] = row[heading(d.copied, k)]
				}
			}
			return record.NewKey(parts...)
		})
		if err != nil {
			return nil, err
		}
		for n, row := range d.rows {
			for _, f := range known[n] {
				if f.Value.String() == row[col] && row[col] != "" && !slices.Contains(d.key, f.Name) {
					equal[f.Name]++
				}
			}
		}
	}
	value := ""
	for _, h := range d.snapshot.Heading {
		if equal[h] > equal[value] {
			value = h
		}
	}
	why := ""
	if value == "" { // no cell tells which it is
		for _, h := range d.snapshot.Heading {
			if value == "" && !slices.Contains(d.key, h) {
				value, why = h, "  # no cell has a value of the snapshot's: is it that?"
			}
		}
	}
	if value == "" {
		return nil, nil
	}
	return fmt.Appendf(nil, "\n# %s has a column for each %s.\nshape:\n  wide: {key: %s, value: %s}%s\n", layout.OneLine(d.copied.Name), layout.OneLine(lacks[0]), layout.Scalar(lacks[0]), layout.Scalar(value), why), nil
}
