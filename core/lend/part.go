package lend

import (
	"bufio"
	"context"
	"io"

	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// WritePart writes the chosen fields and records as CSV, with their cells as they
// stand in the snapshot, and returns how many records these are.
func (c *Copy) WritePart(ctx context.Context, w io.Writer) (records int, err error) {
	cols, err := c.Columns()
	if err != nil {
		return 0, err
	}
	out := bufio.NewWriterSize(w, 1<<16)
	var line []byte
	for i, col := range cols {
		if i > 0 {
			line = append(line, ',')
		}
		line = csv.AppendCell(line, c.Snapshot.Heading[col], ',', false)
	}
	if _, err := out.Write(append(line, '\n')); err != nil {
		return 0, err
	}
	err = table.Guard(func() error {
		return csv.Each(ctx, c.Snapshot, func(r *csv.Line) error {
			take, err := c.takes(r)
			if err != nil || !take {
				return err
			}
			line = line[:0]
			for i, col := range cols {
				if i > 0 {
					line = append(line, ',')
				}
				line = csv.AppendValue(line, c.Snapshot, r, col)
			}
			records++
			_, err = out.Write(append(line, '\n'))
			return err
		})
	})
	if err != nil {
		return records, err
	}
	return records, out.Flush()
}
