package sqldb

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
)

// This file reads records in the transaction that writes them: under locks before, and once
// they were written.

// keyValues are a key's parts as the key columns have them: as they were read, where
// the record was.
func (t *Table) keyValues(k record.Key) []record.Value {
	if exact, ok := t.exact[t.o.Of.Key(k)]; ok {
		k = exact
	}
	parts := k.Parts()
	values := make([]record.Value, len(parts))
	for i, p := range parts {
		values[i] = record.Text(p)
	}
	return values
}

func (t *Table) keyColumns() []*column {
	cols := make([]*column, len(t.key))
	for i, k := range t.key {
		cols[i] = t.cols[k]
	}
	return cols
}

// keyOf is the key of a row that was read.
func (t *Table) keyOf(row []record.Value) record.Key {
	parts := make([]string, len(t.key))
	for i, k := range t.key {
		parts[i] = row[k].String()
	}
	return record.NewKey(parts...)
}

// lock reads the records of the steps under locks, in the order of their keys: those
// that are amended first, and those that are deleted or get other keys.
func (t *Table) lock(ctx context.Context, items []*item) error {
	var amended, whole []record.Key
	for _, it := range items {
		switch {
		case it.blind, schema.IsNew(it.step.Key) && t.assigns():
		case it.is(changeset.Amend):
			amended = append(amended, it.step.Key)
		default:
			whole = append(whole, it.step.Key)
		}
		if !it.step.Was.IsZero() {
			whole = append(whole, it.step.Was)
		}
	}
	rows := map[record.Key][]record.Value{}
	narrow := t.columnsOf(items)
	for i, keys := range [][]record.Key{amended, whole} {
		cols := narrow
		if i == 1 {
			cols = t.all
		}
		if err := t.read(ctx, keys, cols, t.e.lock(i == 1), rows); err != nil {
			return err
		}
	}
	for _, it := range items {
		if it.blind {
			continue
		}
		it.row, it.was = rows[it.step.Key], rows[it.step.Was]
		if it.cols = t.all; it.is(changeset.Amend) {
			it.cols = narrow
		}
		if it.at = nil; it.row != nil {
			it.at = t.valuesAt(it.row)
		}
	}
	return nil
}

// columnsOf are the columns that amends of fields are about, with the key's: of these
// records nothing else is looked at.
func (t *Table) columnsOf(items []*item) []int {
	wanted := make([]bool, len(t.cols))
	for _, k := range t.key {
		wanted[k] = true
	}
	for _, it := range items {
		if it.is(changeset.Amend) {
			for _, f := range it.step.Fields {
				if c := slices.Index(t.fields, f.Field); c >= 0 {
					wanted[c] = true
				}
			}
		}
	}
	var cols []int
	for c, w := range wanted {
		if w {
			cols = append(cols, c)
		}
	}
	return cols
}

// valuesAt are the values of a row's key columns.
func (t *Table) valuesAt(row []record.Value) []record.Value {
	at := make([]record.Value, len(t.key))
	for i, k := range t.key {
		at[i] = row[k]
	}
	return at
}

// read reads columns of records by their keys into rows. The query ends with locks.
func (t *Table) read(ctx context.Context, keys []record.Key, cols []int, locks string, rows map[record.Key][]record.Value) error {
	slices.SortFunc(keys, func(a, b record.Key) int { return strings.Compare(a.Encoding(), b.Encoding()) })
	if keys = slices.Compact(keys); len(keys) == 0 {
		return nil
	}
	ask := make([][]record.Value, len(keys))
	for i, k := range keys {
		ask[i] = t.keyValues(k)
	}
	return t.readAt(ctx, ask, cols, true, locks, func(i int, row []record.Value) error {
		if t.o.Of.Key(t.keyOf(row)) != t.o.Of.Key(keys[i]) {
			return nil // the database takes it for the one that was asked for, and nobody else does
		}
		if rows[keys[i]] != nil {
			return &failure{kind: refused, text: fmt.Sprintf("%s stands there more than once", keys[i])}
		}
		rows[keys[i]] = row
		return nil
	})
}

// readAt reads columns of the records that stand under some values of the key columns;
// row is told which of them it was asked with, and has the others blank. known says that
// the values are as the database writes them.
func (t *Table) readAt(ctx context.Context, ask [][]record.Value, cols []int, known bool, locks string, row func(i int, row []record.Value) error) error {
	e, keys := t.e, t.keyColumns()
	names, of := make([]string, len(cols)), make([]*column, len(cols))
	for i, c := range cols {
		names[i], of[i] = t.aliased(t.cols[c]), t.cols[c]
	}
	if e.lists() && len(keys) == 1 && known {
		return t.readListed(ctx, ask, cols, locks, row)
	}
	if !e.staged() {
		sql := "SELECT " + strings.Join(names, ", ") + " FROM " + t.table() + " AS t WHERE " + t.keyIs(1)
		for i, values := range ask {
			if err := t.s.query(ctx, sql, of, paramsOf(keys, values), func(cells []record.Value) error { return row(i, t.spread(cols, cells)) }); err != nil {
				return err
			}
		}
		return nil
	}
	sorted := make([]int, len(ask))
	for i := range sorted {
		sorted[i] = i
	}
	slices.SortFunc(sorted, func(a, b int) int { return compareValues(ask[a], ask[b]) })
	staged := make([][]record.Value, len(ask))
	for i, at := range sorted {
		staged[i] = ask[at]
	}
	from, params := e.rows(keys, len(keys), staged)
	of = append([]*column{{}}, of...)
	sql := fmt.Sprintf("SELECT r.n, %s FROM %s %s %s AS t ON %s ORDER BY r.n%s", strings.Join(names, ", "), from, e.joined(), t.table(), t.keyOn(0), locks)
	return t.s.query(ctx, sql, of, params, func(cells []record.Value) error {
		n, err := strconv.Atoi(cells[0].String())
		if err != nil || n < 1 || n > len(sorted) {
			return fmt.Errorf("the database counts rows as %q", cells[0])
		}
		return row(sorted[n-1], t.spread(cols, cells[1:]))
	})
}

// readListed reads by a list of values of the one key column.
func (t *Table) readListed(ctx context.Context, ask [][]record.Value, cols []int, locks string, row func(i int, row []record.Value) error) error {
	key := t.cols[t.key[0]]
	at := make(map[string]int, len(ask))
	params := make([]param, len(ask))
	marks := make([]string, len(ask))
	for i, values := range ask {
		at[values[0].String()] = i
		params[i] = param{values[0], key}
		marks[i] = t.e.param(i+1, key)
	}
	slices.SortFunc(params, func(a, b param) int { return strings.Compare(a.v.String(), b.v.String()) })
	names, of := make([]string, len(cols)), make([]*column, len(cols))
	for i, c := range cols {
		names[i], of[i] = t.aliased(t.cols[c]), t.cols[c]
	}
	name := "t." + t.e.ident(key.name)
	sql := fmt.Sprintf("SELECT %s FROM %s AS t WHERE %s IN (%s) ORDER BY %s%s", strings.Join(names, ", "), t.table(), name, strings.Join(marks, ", "), name, locks)
	return t.s.query(ctx, sql, of, params, func(cells []record.Value) error {
		full := t.spread(cols, cells)
		if i, asked := at[full[t.key[0]].String()]; asked { // the database may take others for them
			return row(i, full)
		}
		return nil
	})
}

// spread puts the values of some columns into a row.
func (t *Table) spread(cols []int, cells []record.Value) []record.Value {
	row := make([]record.Value, len(t.cols))
	for i, c := range cols {
		row[c] = cells[i]
	}
	return row
}

func compareValues(a, b []record.Value) int {
	return slices.CompareFunc(a, b, func(x, y record.Value) int { return strings.Compare(x.String(), y.String()) })
}

// aliased is the expression of a column's exact text, of the table t.
func (t *Table) aliased(c *column) string {
	name := t.e.ident(c.name)
	if c.text == "" {
		return "t." + name
	}
	return strings.ReplaceAll(c.text, name, "t."+name)
}

// keyOn is the condition that a record has the key of a row of r, whose key columns
// begin at from.
func (t *Table) keyOn(from int) string {
	var all []string
	for i, k := range t.key {
		all = append(all, fmt.Sprintf("t.%s = r.c%d", t.e.ident(t.cols[k].name), from+i))
	}
	return strings.Join(all, " AND ")
}

// keyIs is the condition that a record has the key of the parameters from n on.
func (t *Table) keyIs(n int) string {
	var all []string
	for i, k := range t.key {
		all = append(all, t.e.ident(t.cols[k].name)+" = "+t.e.param(n+i, t.cols[k]))
	}
	return strings.Join(all, " AND ")
}

func paramsOf(cols []*column, values []record.Value) []param {
	p := make([]param, len(values))
	for i, v := range values {
		p[i] = param{v, cols[i]}
	}
	return p
}

// record gives columns of a row the names of fields.
func (t *Table) record(row []record.Value, cols []int) record.Record {
	if row == nil {
		return nil
	}
	r := make(record.Record, len(cols))
	for i, c := range cols {
		r[i] = record.Field{Name: t.fields[c], Value: row[c]}
	}
	return r
}

// kept is what a record is once its step was carried out, where that is known without
// reading it: its texts are kept as they are written, and nobody else writes there. before is
// what is in fields that are not written.
func (t *Table) kept(before record.Record, cols []int, values []record.Value) record.Record {
	if len(t.def.triggers) > 0 {
		return nil
	}
	after := before.Clone()
	for i, c := range cols {
		v := values[i].String()
		if k := t.cols[c].keeps; k == 0 || int64(len(v)) > k || v != "" && (v[0] == '\'' || v[0] == 'X') { // of SQLite, a sign of another class
			return nil
		}
		after.Set(t.fields[c], values[i])
	}
	return after
}

// readBack reads what was kept: a trigger, or a column, may have made something else
// of it.
func (t *Table) readBack(ctx context.Context, items []*item) error {
	for _, amended := range []bool{true, false} {
		var ask [][]record.Value
		var of []*item
		for _, it := range items {
			if it.step.Act != changeset.Delete && it.res.After == nil && it.is(changeset.Amend) == amended {
				ask, of = append(ask, it.at), append(of, it)
			}
		}
		if len(of) == 0 {
			continue
		}
		err := t.readAt(ctx, ask, of[0].cols, amended, "", func(i int, row []record.Value) error {
			of[i].res.After = t.record(row, of[i].cols)
			return nil
		})
		if err != nil {
			return err
		}
		for _, it := range of {
			if it.res.After == nil {
				return &failure{kind: refused, text: "it was written, and is not there: a trigger took it away, or the account may not see it"}
			}
		}
	}
	return nil
}
