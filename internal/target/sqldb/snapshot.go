package sqldb

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// This file reads the table, or some of its records, as one state of it.

// spool is a snapshot of the table in a file.
type spool struct {
	path string
	m    *disk.Mapping
	img  *table.Image
}

// forget removes the snapshot.
func (t *Table) forget() error {
	s := t.spool
	if t.spool = nil; s == nil {
		return nil
	}
	return errors.Join(s.m.Close(), t.fsys.Remove(s.path))
}

// Refresh lets the next look see what is there then.
func (t *Table) Refresh(context.Context) error { return t.forget() }

// snap reads the table, once: one statement in a transaction that sees one state.
func (t *Table) snap(ctx context.Context) (*spool, error) {
	if t.spool != nil {
		return t.spool, nil
	}
	dir := t.o.Dir
	if dir == "" {
		dir = os.TempDir()
	}
	s := &spool{path: disk.TempName(filepath.Join(dir, newMark()))}
	var err error
	for try := range len(waits) { // reading does no harm: a connection that is lost is made anew
		err = t.spoolTo(ctx, s.path)
		var e *Error
		if err == nil || !errors.As(err, &e) || e.Code != Lost || sleep(ctx, waits[try]) != nil {
			break
		}
		if err = t.connect(ctx); err != nil {
			return nil, t.said(err)
		}
	}
	if err != nil {
		return nil, err
	}
	if s.m, err = t.fsys.Map(s.path); err == nil {
		s.img, err = csv.OpenWith(t.def.table, s.m.Data, table.Taken)
	}
	if err != nil {
		return nil, errors.Join(err, t.fsys.Remove(s.path))
	}
	s.img.Heading = slices.Clone(t.fields)
	t.spool = s
	return s, nil
}

// spoolTo takes the table into a file that nobody needs once this process has ended.
func (t *Table) spoolTo(ctx context.Context, path string) error {
	if err := t.fsys.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := t.fsys.Create(path, 0o600)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(f, 1<<18)
	rows := t.dump
	if t.only != nil {
		rows = t.dumpOnly
	}
	if _, err = t.take(ctx, out, rows); err == nil {
		err = out.Flush()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return errors.Join(err, t.fsys.Remove(path))
	}
	return nil
}

// Take writes all records, in the byte order of their keys' texts, as CSV with a
// heading, and returns how many these are: one statement in a transaction that sees one
// state and writes nothing.
func (t *Table) Take(ctx context.Context, w io.Writer) (int64, error) {
	return t.take(ctx, w, t.dump)
}

// take writes the heading and rows, in a transaction that sees one state.
func (t *Table) take(ctx context.Context, w io.Writer, rows func(ctx context.Context, w io.Writer) (int64, error)) (int64, error) {
	if t.s == nil {
		if err := t.connect(ctx); err != nil {
			return 0, t.said(err)
		}
	}
	var line []byte
	for i, c := range t.cols {
		if i > 0 {
			line = append(line, ',')
		}
		line = csv.AppendCell(line, c.name, ',', c.name == "" || strings.TrimSpace(c.name) != c.name)
	}
	out := &headed{w, append(line, '\n')}
	if err := run(ctx, t.s, t.e.snapshot()...); err != nil {
		return 0, t.said(err)
	}
	n, err := rows(ctx, out)
	if err == nil {
		_, err = out.Write(nil) // where there are no records
	}
	if err != nil {
		_, _ = t.s.exec(context.WithoutCancel(ctx), "ROLLBACK") // the first error counts
		return 0, t.said(err)
	}
	_, err = t.s.exec(ctx, "COMMIT")
	return n, t.said(err)
}

// dump writes all records, in the byte order of their keys' texts.
func (t *Table) dump(ctx context.Context, w io.Writer) (int64, error) {
	var names, order []string
	for _, c := range t.cols {
		names = append(names, t.exactly(c))
	}
	for _, k := range t.key {
		order = append(order, t.e.keyOrder(t.cols[k]))
	}
	sql := "SELECT " + strings.Join(names, ", ") + " FROM " + t.table()
	if len(order) > 0 {
		sql += " ORDER BY " + strings.Join(order, ", ")
	}
	return t.s.dump(ctx, sql, t.cols, w)
}

// headed writes a heading before the first of what is written: a query that fails has
// written nothing.
type headed struct {
	w       io.Writer
	heading []byte
}

func (h *headed) Write(b []byte) (int, error) {
	if h.heading != nil {
		if _, err := h.w.Write(h.heading); err != nil {
			return 0, err
		}
		h.heading = nil
	}
	return h.w.Write(b)
}

// exactly is the expression of a column's exact text.
func (t *Table) exactly(c *column) string {
	if c.text != "" {
		return c.text
	}
	return t.e.ident(c.name)
}

// Table gives the snapshot.
func (t *Table) Table(ctx context.Context) (*table.Image, func() error, error) {
	s, err := t.snap(ctx)
	if err != nil {
		return nil, nil, err
	}
	return s.img, func() error { return nil }, nil
}

// Backup writes the snapshot.
func (t *Table) Backup(ctx context.Context, w io.Writer) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	s, err := t.snap(ctx)
	if err != nil {
		return err
	}
	return table.Guard(func() error { _, err := w.Write(s.m.Data); return err })
}

// Current reads records in one pass over the snapshot.
func (t *Table) Current(ctx context.Context, keys []record.Key) ([]target.State, error) {
	s, err := t.snap(ctx)
	if err != nil {
		return nil, err
	}
	at := make(map[string]int, len(keys))
	for i, k := range keys {
		at[t.o.Of.Key(k).Encoding()] = i
	}
	states := make([]target.State, len(keys))
	for _, k := range keys {
		if t.only != nil && !t.only[t.o.Of.Key(k)] {
			return nil, fmt.Errorf("%s: %s is none of the records that are looked at", t.Name(), k)
		}
	}
	var key []byte
	err = table.Guard(func() error {
		return csv.Each(ctx, s.img, func(r *csv.Line) error {
			key = r.AppendKey(key[:0], t.key)
			form := key
			if !t.o.Of.OneForm() {
				form = []byte(t.o.Of.Key(record.KeyOf(key)).Encoding())
			}
			i, ok := at[string(form)]
			if !ok {
				return nil
			}
			if states[i].Count++; states[i].Count == 1 {
				states[i].Record = r.Record()
				t.exact[t.o.Of.Key(keys[i])] = record.KeyOf(slices.Clone(key))
			}
			return nil
		})
	})
	return states, err
}
