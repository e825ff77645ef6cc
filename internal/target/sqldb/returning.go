package sqldb

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
)

// This file writes records that were not read before, and looks at what the database
// gives back of them: a look fewer at each, and as safe, since nothing is committed of a
// batch in which one is not as its step says.

// goBlind says which records of a batch are written without being read before: those
// that are added, since the database's key keeps two from being one, and those that are
// deleted, where nobody refers to any.
func (t *Table) goBlind(ctx context.Context, items []*item, leaving map[record.Key]bool) error {
	deletes := t.e.returns() || !t.e.staged() || len(t.key) == 1
	if deletes && slices.ContainsFunc(items, func(it *item) bool { return it.is(changeset.Delete) }) {
		d, err := t.definitionOf(ctx, t.def.schema, t.def.table)
		if err != nil {
			return err
		}
		deletes = len(d.refers) == 0
	}
	for _, it := range items {
		it.blind = it.is(changeset.Add) && !leaving[it.step.Key] || it.is(changeset.Delete) && deletes && !leaving[it.step.Key]
	}
	return nil
}

// columnsBack are the expressions of all columns, as they come back.
func (t *Table) columnsBack(of string) string {
	names := make([]string, len(t.cols))
	for i, c := range t.cols {
		if names[i] = t.exactly(c); of != "" {
			names[i] = t.aliased(c)
		}
	}
	return strings.Join(names, ", ")
}

// removeReturning deletes records, and judges them by what they were.
func (t *Table) removeReturning(ctx context.Context, items []*item) error {
	e, keys := t.e, t.keyColumns()
	at := make(map[record.Key]*item, len(items))
	rows := make([][]record.Value, len(items))
	for i, it := range items {
		at[t.o.Of.Key(it.step.Key)], rows[i] = it, t.keyValues(it.step.Key)
	}
	slices.SortFunc(rows, compareValues)
	took := func(cells []record.Value) error {
		k := t.o.Of.Key(t.keyOf(cells))
		it := at[k]
		if it == nil || it.row != nil { // the database takes another for one of them
			return errUnlike
		}
		it.row, it.cols = slices.Clone(cells), t.all
		if t.judge(it, nil); !it.done() {
			return errUnlike
		}
		return nil
	}
	var err error
	switch {
	case e.lists() && len(keys) == 1:
		marks, params := make([]string, len(rows)), make([]param, len(rows))
		for i, r := range rows {
			marks[i], params[i] = e.param(i+1, keys[0]), param{r[0], keys[0]}
		}
		err = t.s.query(ctx, "DELETE FROM "+t.table()+" WHERE "+e.ident(keys[0].name)+" IN ("+strings.Join(marks, ", ")+") RETURNING "+t.columnsBack(""), t.cols, params, took)
	case e.staged():
		from, params := e.rows(keys, len(keys), rows)
		err = t.s.query(ctx, e.deleteFrom(t.table(), from, t.keyOn(0))+" RETURNING "+t.columnsBack("t"), t.cols, params, took)
	default:
		sql := "DELETE FROM " + t.table() + " WHERE " + t.keyIs(1) + " RETURNING " + t.columnsBack("")
		for _, r := range rows {
			if err = t.s.query(ctx, sql, t.cols, paramsOf(keys, r), took); err != nil {
				break
			}
		}
	}
	if err != nil {
		return err
	}
	for _, it := range items {
		if it.row == nil {
			return errUnlike
		}
	}
	return nil
}

// insertKept runs a statement that adds the items' records in their order, and takes what was
// kept of each, unless that is known, or a trigger may make something else of it yet.
func (t *Table) insertKept(ctx context.Context, sql string, params []param, cols []int, items []*item, rows map[*item][]record.Value) error {
	if len(cols) == len(t.cols) && !slices.ContainsFunc(items, func(it *item) bool { return t.assigns() && schema.IsNew(it.step.Key) }) {
		sure := true
		for _, it := range items {
			it.at, it.cols = t.keyValues(it.step.Key), t.all
			it.res.After = t.kept(nil, cols, rows[it])
			sure = sure && it.res.After != nil
		}
		if sure {
			n, err := t.s.exec(ctx, sql, params...)
			if err != nil {
				return err
			}
			return wrote(n, int64(len(items)))
		}
	}
	n := 0
	err := t.s.query(ctx, sql+" RETURNING "+t.columnsBack(""), t.cols, params, func(cells []record.Value) error {
		if n == len(items) {
			return &failure{kind: refused, text: "the database wrote more records than " + strconv.Itoa(len(items))}
		}
		it := items[n]
		n++
		given := schema.IsNew(it.step.Key) && t.assigns()
		if it.at = t.valuesAt(cells); !given && t.o.Of.Key(t.keyOf(cells)) != t.o.Of.Key(it.step.Key) {
			it.at = t.keyValues(it.step.Key) // by which it is looked for
			return nil
		}
		if len(t.def.triggers) == 0 {
			it.cols, it.res.After = t.all, t.record(slices.Clone(cells), t.all)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return wrote(int64(n), int64(len(items)))
}
