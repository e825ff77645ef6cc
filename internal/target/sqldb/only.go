package sqldb

import (
	"context"
	"io"
	"slices"

	"paletwin/core/record"
)

// This file reads some records of the table, by their keys, as one state of it.

// onlyPart is how many records are asked for at once.
const onlyPart = 1000

// Only has Current, Backup and Table look at the records with some keys alone, from the
// next look on; nil is all.
func (t *Table) Only(keys []record.Key) error {
	if keys == nil && t.only == nil {
		return nil
	}
	if t.only = nil; keys != nil {
		t.only = make(map[record.Key]bool, len(keys))
	}
	for _, k := range keys {
		t.only[t.o.Of.Key(k)] = true
	}
	if t.over != nil {
		for _, x := range t.over.shards {
			if err := x.Only(keys); err != nil {
				return err
			}
		}
	}
	return t.forget()
}

// dumpOnly writes the records that are looked at, in the byte order of their keys' texts.
func (t *Table) dumpOnly(ctx context.Context, w io.Writer) (int64, error) {
	if t.over != nil {
		return t.dumpShards(ctx, w, (*Table).dumpOnly)
	}
	if !t.o.Of.OneForm() {
		if err := t.findExact(ctx); err != nil {
			return 0, err
		}
	}
	var keys []record.Key
	for k := range t.only {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b record.Key) int { return compareValues(t.keyValues(a), t.keyValues(b)) })
	out := newCells(w)
	for part := range slices.Chunk(keys, onlyPart) {
		rows := make(map[record.Key][]record.Value, len(part))
		if err := t.readSome(ctx, part, rows); err != nil {
			return 0, err
		}
		for _, k := range part {
			if row := rows[k]; row != nil {
				if err := out.row(row, t.cols); err != nil {
					return 0, err
				}
			}
		}
	}
	return out.close(nil)
}

// readSome reads those of some records that are there. A text that is no value of a key
// column is the key of none.
func (t *Table) readSome(ctx context.Context, keys []record.Key, rows map[record.Key][]record.Value) error {
	if _, err := t.s.exec(ctx, "SAVEPOINT paletwin"); err != nil {
		return err
	}
	err := t.read(ctx, slices.Clone(keys), t.all, "", rows)
	if err == nil {
		_, err = t.s.exec(ctx, "RELEASE SAVEPOINT paletwin")
		return err
	}
	if f := t.e.failure(err); f == nil || f.kind != refused || f.err == nil {
		return err
	}
	if _, err := t.s.exec(ctx, "ROLLBACK TO SAVEPOINT paletwin"); err != nil {
		return err
	}
	if len(keys) == 1 {
		return nil
	}
	half := len(keys) / 2
	if err := t.readSome(ctx, keys[:half], rows); err != nil {
		return err
	}
	return t.readSome(ctx, keys[half:], rows)
}

// findExact finds the forms in which the keys of the records that are looked at stand
// there.
func (t *Table) findExact(ctx context.Context) error {
	sql := "SELECT "
	for i, c := range t.keyColumns() {
		if i > 0 {
			sql += ", "
		}
		sql += t.exactly(c)
	}
	return t.s.query(ctx, sql+" FROM "+t.table(), t.keyColumns(), nil, func(cells []record.Value) error {
		exact := record.NewKey(texts(cells)...)
		if k := t.o.Of.Key(exact); t.only[k] {
			t.exact[k] = exact
		}
		return nil
	})
}
