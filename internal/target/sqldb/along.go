package sqldb

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/target"
)

// This file is about records of other tables that refer to one: they go or change with
// it when it is deleted, and come back with it.

// called is what a table is called beside this one.
func (t *Table) called(schema, table string) string {
	if schema == t.def.schema {
		return target.Qualified(table)
	}
	return target.Qualified(schema, table)
}

// mostAlong is how many rows may go along with one record, and be brought back.
const mostAlong = 100_000

// definitionOf is what the catalogue says of a table, with who refers to it.
func (t *Table) definitionOf(ctx context.Context, schema, name string) (*definition, error) {
	if schema == t.def.schema && name == t.def.table {
		if t.def.looked {
			return t.def, nil
		}
	}
	id := schema + "\x00" + name
	if d := t.others[id]; d != nil {
		return d, nil
	}
	d := t.def
	if schema != t.def.schema || name != t.def.table {
		at := *t.at
		at.Schema, at.Table = schema, name
		var err error
		if d, err = t.e.define(ctx, t.s, &at); err != nil {
			return nil, err
		}
	}
	if err := t.e.references(ctx, t.s, d); err != nil {
		return nil, err
	}
	d.looked = true
	t.others[id] = d
	return d, nil
}

// keyReferred refuses key changes of records that others refer to, where those would
// not follow them.
func (t *Table) keyReferred(ctx context.Context, items []*item) error {
	if len(items) == 0 {
		return nil
	}
	d, err := t.definitionOf(ctx, t.def.schema, t.def.table)
	if err != nil {
		return err
	}
	for i := range d.refers {
		f := &d.refers[i]
		if f.onUpdate == cascade || !slices.ContainsFunc(f.to, func(c string) bool { return slices.Contains(t.key, d.column(c)) }) {
			continue
		}
		for _, it := range items {
			rows, _, err := t.referring(ctx, d, f, it.was, nil)
			if err != nil {
				return err
			}
			if n := len(rows); n > 0 {
				what := "keep the old key"
				if f.onUpdate != restrict {
					what = along(f.onUpdate)
				}
				return &failure{kind: refused, text: fmt.Sprintf("%s of %s %s to it, and would %s", records(n), t.called(f.schema, f.table), refer(n), what)}
			}
		}
	}
	return nil
}

// referred refuses deletes of records that others refer to, unless these may go along;
// then they are kept, to be brought back.
func (t *Table) referred(ctx context.Context, items []*item) error {
	all, err := t.whoGoes(ctx, items, true)
	if err != nil {
		return err
	}
	for i, g := range all {
		switch it := items[i]; {
		case g.refusal != "":
			return &failure{kind: refused, text: g.refusal}
		case len(g.all) > 0 && !it.step.Cascade:
			return &failure{kind: refused, text: strings.Join(g.words, "; ")}
		case len(g.all) > 0:
			it.res.Along = g.all
			it.res.Reason = "along with it: " + strings.Join(g.counts(), ", ")
		}
	}
	return nil
}

// checkReferred says of deletes, before anything is written, what would go along.
func (t *Table) checkReferred(ctx context.Context, steps []target.Step, reasons []string) error {
	gone := map[record.Key]bool{} // by a key change, which is none
	for i := range steps {
		gone[steps[i].Was] = true
	}
	var items []*item
	var at []int
	for i := range steps {
		s := &steps[i]
		if s.Act != changeset.Delete || s.Cascade || gone[s.Key] {
			continue
		}
		it := &item{step: s, row: make([]record.Value, len(t.cols))}
		for k, f := range t.fields {
			it.row[k] = record.Null()
			if v, there := s.Record.Get(f); there {
				it.row[k] = v
			}
		}
		items, at = append(items, it), append(at, i)
	}
	all, err := t.whoGoes(ctx, items, false)
	for i, g := range all {
		if reasons[at[i]] = g.refusal; g.refusal == "" {
			reasons[at[i]] = strings.Join(g.words, "; ")
		}
	}
	return err
}

// whoGoes finds, for each of some records that are to be deleted, who goes or changes
// along; nil where nobody refers to any. open says that it is asked in a transaction, which
// an error may end.
func (t *Table) whoGoes(ctx context.Context, items []*item, open bool) ([]*goers, error) {
	if len(items) == 0 {
		return nil, nil
	}
	d, err := t.definitionOf(ctx, t.def.schema, t.def.table)
	if err != nil || len(d.refers) == 0 {
		return nil, err
	}
	going := map[string]bool{}
	for _, it := range items {
		going[rowID(d, it.row)] = true
	}
	named, err := t.referredTo(ctx, d, items, open)
	if err != nil {
		return nil, err
	}
	all := make([]*goers, len(items))
	for i, it := range items {
		if all[i] = (&goers{t: t, seen: going}); !named[i] {
			continue
		}
		err := all[i].follow(ctx, d, it.row)
		if f := t.e.failure(err); f != nil && f.kind == refused {
			all[i].refusal = f.text
		} else if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// referredTo asks which of some records others refer to at all, in one question for each
// foreign key where the engine has many rows in one; else all may be.
func (t *Table) referredTo(ctx context.Context, d *definition, items []*item, open bool) ([]bool, error) {
	named := make([]bool, len(items))
	everybody := func() []bool {
		for i := range named {
			named[i] = true
		}
		return named
	}
	if !t.e.staged() || len(items) < fewStaged {
		return everybody(), nil
	}
	for i := range d.refers {
		f := &d.refers[i]
		if f.onDelete == restrict {
			continue
		}
		var cols []*column
		var on []string
		for k, name := range f.to {
			c := d.column(name)
			if c < 0 {
				return everybody(), nil
			}
			cols, on = append(cols, &d.columns[c]), append(on, fmt.Sprintf("t.%s = r.c%d", t.e.ident(f.columns[k]), k))
		}
		rows := make([][]record.Value, len(items))
		for i, it := range items {
			for _, name := range f.to {
				rows[i] = append(rows[i], it.row[d.column(name)])
			}
		}
		from, params := t.e.rows(cols, len(cols), rows)
		sql := "SELECT DISTINCT r.n FROM " + from + " " + t.e.joined() + " " + t.e.ident(f.schema) + "." + t.e.ident(f.table) + " AS t ON " + strings.Join(on, " AND ")
		err := t.s.query(ctx, sql, nil, params, func(cells []record.Value) error {
			n, err := strconv.Atoi(cells[0].String())
			if err != nil || n < 1 || n > len(named) {
				return fmt.Errorf("the database counts rows as %q", cells[0])
			}
			named[n-1] = true
			return nil
		})
		x := t.e.failure(err)
		switch {
		case x != nil && x.kind == denied && !open:
			return everybody(), nil // each says so
		case x != nil && x.kind == denied:
			return nil, t.unseen(f, x)
		case err != nil:
			return nil, err
		}
	}
	return named, nil
}

// rowID names a row within everything that is looked at.
func rowID(d *definition, row []record.Value) string {
	var b strings.Builder
	b.WriteString(d.schema + "\x00" + d.table)
	key := make([]int, 0, len(d.columns))
	if len(d.keys) > 0 {
		for _, k := range d.keys[0] {
			key = append(key, d.column(k))
		}
	} else {
		for i := range d.columns {
			key = append(key, i)
		}
	}
	for _, i := range key {
		fmt.Fprintf(&b, "\x00%t%s", row[i].IsNull(), row[i])
	}
	return b.String()
}

// goers are the rows that go or change along with one.
type goers struct {
	t     *Table
	seen  map[string]bool
	all   []target.Dependent
	words []string
	n     int
	// refusal says why it cannot be told, or kept, who goes along; "" is that it can.
	refusal string
}

// counts says how many these are of each table.
func (g *goers) counts() []string {
	var names []string
	n := map[string]int{}
	for _, d := range g.all {
		name := d.Table
		if parts, ok := target.Split(name); ok && len(parts) == 2 {
			name = g.t.called(parts[0], parts[1])
		}
		if n[name] == 0 {
			names = append(names, name)
		}
		n[name] += len(d.Rows)
	}
	for i, name := range names {
		names[i] = fmt.Sprintf("%s of %s", records(n[name]), name)
	}
	return names
}

// follow finds who refers to a row, and who to those that go with it. What keeps the
// database from deleting it is the database's to say.
func (g *goers) follow(ctx context.Context, d *definition, row []record.Value) error {
	for i := range d.refers {
		f := &d.refers[i]
		if f.onDelete == restrict {
			continue
		}
		rows, child, err := g.t.referring(ctx, d, f, row, g.seen)
		if err != nil || len(rows) == 0 {
			if err != nil {
				return err
			}
			continue
		}
		name := g.t.called(f.schema, f.table)
		if g.n += len(rows); g.n > mostAlong {
			return &failure{kind: refused, text: fmt.Sprintf("more than %d records would go along with it, too many to be kept", mostAlong)}
		}
		g.words = append(g.words, fmt.Sprintf("%s of %s %s to it, and would %s", records(len(rows)), name, refer(len(rows)), along(f.onDelete)))
		dep := target.Dependent{Table: target.Qualified(f.schema, f.table)}
		if f.onDelete != cascade {
			if len(child.keys) == 0 {
				return &failure{kind: refused, text: fmt.Sprintf("%s of %s %s to it and would %s, and has no key by which that could be undone", records(len(rows)), name, refer(len(rows)), along(f.onDelete))}
			}
			dep.Key = child.keys[0]
			dep.Columns = slices.Concat(dep.Key, f.columns)
		} else {
			for i := range child.columns {
				if !child.columns[i].generated {
					dep.Columns = append(dep.Columns, child.columns[i].name)
				}
			}
		}
		for _, r := range rows {
			var values []*string
			for _, c := range dep.Columns {
				values = append(values, changeset.PointerTo(r[child.column(c)]))
			}
			dep.Rows = append(dep.Rows, values)
		}
		g.all = append(g.all, dep)
		if f.onDelete != cascade {
			continue
		}
		for _, r := range rows {
			g.seen[rowID(child, r)] = true
		}
		for _, r := range rows {
			if err := g.follow(ctx, child, r); err != nil {
				return err
			}
		}
	}
	return nil
}

// referring reads and locks the rows that refer to a row by a foreign key, but for those
// that go already.
func (t *Table) referring(ctx context.Context, d *definition, f *reference, row []record.Value, going map[string]bool) (rows [][]record.Value, child *definition, err error) {
	if child, err = t.definitionOf(ctx, f.schema, f.table); err != nil {
		return nil, nil, err
	}
	var is []string
	var params []param
	for i, name := range f.to {
		c := d.column(name)
		if c < 0 || row[c].IsNull() {
			return nil, child, nil // nobody can refer to null
		}
		is = append(is, "t."+t.e.ident(f.columns[i])+" = "+t.e.param(len(params)+1, &d.columns[c]))
		params = append(params, param{row[c], &d.columns[c]})
	}
	var names []string
	var of []*column
	for i := range child.columns {
		c := &child.columns[i]
		names, of = append(names, t.aliased(c)), append(of, c)
	}
	sql := "SELECT " + strings.Join(names, ", ") + " FROM " + t.e.ident(f.schema) + "." + t.e.ident(f.table) + " AS t WHERE " + strings.Join(is, " AND ") + t.e.lock(true)
	err = t.s.query(ctx, sql, of, params, func(cells []record.Value) error {
		if !going[rowID(child, cells)] {
			rows = append(rows, slices.Clone(cells))
		}
		return nil
	})
	if x := t.e.failure(err); x != nil && x.kind == denied {
		err = t.unseen(f, x)
	}
	return rows, child, err
}

// unseen refuses a record of which it cannot be seen who refers to it.
func (t *Table) unseen(f *reference, why *failure) error {
	return &failure{kind: refused, text: fmt.Sprintf("whether records of %s refer to it cannot be seen: %s", t.called(f.schema, f.table), why.text)}
}

// bring brings back what went along with records when they were deleted.
func (t *Table) bring(ctx context.Context, items []*item) error {
	for _, it := range items {
		for i := range it.step.Bring {
			if err := t.bringRows(ctx, &it.step.Bring[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

func (t *Table) bringRows(ctx context.Context, dep *target.Dependent) error {
	parts, ok := target.Split(dep.Table)
	if !ok || len(parts) != 2 {
		return fmt.Errorf("%q is no table", dep.Table)
	}
	d, err := t.definitionOf(ctx, parts[0], parts[1])
	if err != nil {
		return err
	}
	table := t.e.ident(parts[0]) + "." + t.e.ident(parts[1])
	cols := make([]*column, len(dep.Columns))
	for i, name := range dep.Columns {
		c := d.column(name)
		if c < 0 {
			return &failure{kind: refused, text: fmt.Sprintf("%s has no column %s any more, which records that come back had", dep.Table, name)}
		}
		cols[i] = &d.columns[c]
	}
	var all []statement
	for _, row := range dep.Rows {
		var params []param
		var names, values, is []string
		for i, v := range row {
			k := len(dep.Key)
			p := param{changeset.ValueOf(v), cols[i]}
			switch {
			case k == 0:
				params, names = append(params, p), append(names, t.e.ident(cols[i].name))
				values = append(values, t.e.param(len(params), cols[i]))
			case i >= k:
				params = append(params, p)
				values = append(values, t.e.ident(cols[i].name)+" = "+t.e.param(len(params), cols[i]))
			}
		}
		for i := range dep.Key {
			params = append(params, param{changeset.ValueOf(row[i]), cols[i]})
			is = append(is, t.e.ident(cols[i].name)+" = "+t.e.param(len(params), cols[i]))
		}
		if len(dep.Key) == 0 {
			all = append(all, statement{"INSERT" + t.e.strictly() + " INTO " + table + " (" + strings.Join(names, ", ") + ")" + t.e.overriding() + " VALUES (" + strings.Join(values, ", ") + ")", params})
		} else {
			all = append(all, statement{"UPDATE" + t.e.strictly() + " " + table + " SET " + strings.Join(values, ", ") + " WHERE " + strings.Join(is, " AND "), params})
		}
	}
	err = t.do(ctx, all)
	if f := t.e.failure(err); f != nil && f.kind == refused {
		err = &failure{kind: refused, text: fmt.Sprintf("records of %s that went along with it cannot come back: %s", dep.Table, f.text)}
	}
	return err
}

func records(n int) string {
	if n == 1 {
		return "1 record"
	}
	return fmt.Sprintf("%d records", n)
}

func refer(n int) string {
	if n == 1 {
		return "refers"
	}
	return "refer"
}

func along(a action) string {
	switch a {
	case setNull:
		return "lose the reference"
	case setDefault:
		return "get another reference"
	}
	return "be deleted with it"
}
