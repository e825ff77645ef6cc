package sqldb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/target"
	"paletwin/internal/target/spool"
)

// This file reads the table, or some of its records, as one state of it.

// forget removes the snapshot.
func (t *Table) forget() error {
	s := t.spool
	t.spool = nil
	return s.Close()
}

// Refresh lets the next look see what is there then.
func (t *Table) Refresh(context.Context) error { return t.forget() }

// snap reads the table, once: one statement in a transaction that sees one state.
func (t *Table) snap(ctx context.Context) (*spool.Spool, error) {
	if t.spool != nil {
		return t.spool, nil
	}
	rows := t.dump
	if t.only != nil {
		rows = t.dumpOnly
	}
	var err error
	for try := range len(waits) { // reading does no harm: a connection that is lost is made anew
		t.spool, err = spool.New(t.fsys, cmp.Or(t.o.Dir, os.TempDir()), t.def.table, t.fields, func(w io.Writer) error {
			_, err := t.take(ctx, w, rows)
			return err
		})
		var e *Error
		if err == nil || !errors.As(err, &e) || e.Code != Lost || target.Sleep(ctx, waits[try]) != nil {
			break
		}
		if err = t.connect(ctx); err != nil {
			return nil, t.said(err)
		}
	}
	return t.spool, err
}

// Take writes all records, in the byte order of their keys' texts, as CSV with a
// heading, and returns how many these are: one statement in a transaction that sees one
// state and writes nothing.
func (t *Table) Take(ctx context.Context, w io.Writer) (int64, error) {
	return t.take(ctx, w, t.dump)
}

// take writes the heading and rows, in a transaction that sees one state.
func (t *Table) take(ctx context.Context, w io.Writer, rows func(ctx context.Context, w io.Writer) (int64, error)) (n int64, err error) {
	out := &headed{w, t.heading()}
	err = t.inSnapshot(ctx, func(ctx context.Context) error {
		if n, err = rows(ctx, out); err == nil {
			_, err = out.Write(nil) // where there are no records
		}
		return err
	})
	return n, err
}

// inSnapshot does something in a transaction that sees one state, unless there is one.
func (t *Table) inSnapshot(ctx context.Context, do func(context.Context) error) error {
	if err := t.connected(ctx); err != nil {
		return t.said(err)
	}
	if t.looks {
		return t.said(do(ctx))
	}
	if err := run(ctx, t.s, t.e.snapshot()...); err != nil {
		return t.said(err)
	}
	if err := do(ctx); err != nil {
		_, _ = t.s.exec(context.WithoutCancel(ctx), "ROLLBACK") // the first error counts
		return t.said(err)
	}
	_, err := t.s.exec(ctx, "COMMIT")
	return t.said(err)
}

// dump writes all records, in the byte order of their keys' texts.
func (t *Table) dump(ctx context.Context, w io.Writer) (int64, error) {
	if t.over != nil {
		return t.dumpShards(ctx, w, (*Table).dump)
	}
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
	return s.Image, func() error { return nil }, nil
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
	_, err = s.WriteTo(w)
	return err
}

// Current reads records in one pass over the snapshot.
func (t *Table) Current(ctx context.Context, keys []record.Key) ([]target.State, error) {
	s, err := t.snap(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range keys {
		if t.only != nil && !t.only[t.o.Of.Key(k)] {
			return nil, fmt.Errorf("%s: %s is none of the records that are looked at", t.Name(), k)
		}
	}
	return s.Current(ctx, t.o.Of, t.key, keys, func(i int, exact record.Key, _ int, _ []byte) { t.exact[t.o.Of.Key(keys[i])] = exact })
}
