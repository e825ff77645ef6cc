package sqldb

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/target"
)

// unit does some steps in the transaction that is open: their records are locked and
// read, those that are as the steps say are written, and read again. An error of kind
// refused says that the database would not take one of them.
func (t *Table) unit(ctx context.Context, items []*item) error {
	if err := t.lock(ctx, items); err != nil {
		return err
	}
	leaving := map[record.Key]bool{} // keys whose records get others
	for _, it := range items {
		if !it.step.Was.IsZero() {
			leaving[it.step.Was] = true
		}
	}
	for _, it := range items {
		t.judge(it, leaving)
	}
	t.together(items)
	var todo []*item
	for _, it := range items {
		if it.done() {
			todo = append(todo, it)
		}
	}
	for _, part := range []func(context.Context, []*item) error{
		func(ctx context.Context, all []*item) error {
			return t.remove(ctx, pick(all, func(it *item) bool { return it.is(changeset.Delete) && !leaving[it.step.Key] }))
		},
		func(ctx context.Context, all []*item) error {
			return t.rekey(ctx, pick(all, func(it *item) bool { return !it.step.Was.IsZero() }))
		},
		func(ctx context.Context, all []*item) error {
			return t.amend(ctx, pick(all, func(it *item) bool { return it.is(changeset.Amend) }))
		},
		func(ctx context.Context, all []*item) error {
			return t.add(ctx, pick(all, func(it *item) bool { return it.is(changeset.Add) }))
		},
		t.bring,
		t.readBack,
	} {
		if len(todo) == 0 {
			break
		}
		if err := part(ctx, todo); err != nil {
			return err
		}
	}
	return nil
}

func pick(items []*item, of func(*item) bool) []*item {
	var some []*item
	for _, it := range items {
		if of(it) {
			some = append(some, it)
		}
	}
	return some
}

// together leaves linked records alone of which one cannot be written.
func (t *Table) together(items []*item) {
	steps, results := make([]target.Step, len(items)), make([]target.Result, len(items))
	for i, it := range items {
		steps[i], results[i] = *it.step, *it.res
	}
	target.Together(steps, results)
	for i, it := range items {
		*it.res = results[i]
	}
}

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
		case schema.IsNew(it.step.Key) && t.assigns():
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
		names[i], of[i] = t.aliased(c), t.cols[c]
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
	if e.lists() && len(keys) == 1 && known {
		return t.readListed(ctx, ask, cols, locks, row)
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
		names[i], of[i] = t.aliased(c), t.cols[c]
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
func (t *Table) aliased(i int) string {
	c := t.cols[i]
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

// judge leaves a record alone that is not as its step says.
func (t *Table) judge(it *item, leaving map[record.Key]bool) {
	s := it.step
	it.res.Before = t.record(it.row, it.cols)
	if !s.Was.IsZero() && it.was == nil {
		it.moved("the record %s, which is to have the key, is gone", s.Was)
		return
	}
	switch {
	case s.Act == changeset.Add:
		if it.row != nil && !leaving[s.Key] {
			it.moved("the record is there already")
		}
		return
	case it.row == nil:
		it.moved("the record is gone")
		return
	}
	get := it.res.Before.Finder()
	differs := func(field string, was record.Value) bool {
		now, there := get(field)
		if !there || t.o.Of.Equal(field, now, was) {
			return false
		}
		it.moved("%s is now %q", field, now)
		return true
	}
	if s.Act == changeset.Delete {
		for _, f := range s.Record {
			if t.o.Of.Field(f.Name).Access != schema.System && differs(f.Name, f.Value) {
				return
			}
		}
		return
	}
	for _, f := range s.Fields {
		if differs(f.Field, f.From) {
			return
		}
	}
}

// value is what is written for a value of a column. A blank one of those who do not tell
// null from the empty text is null, where the column may be.
func (t *Table) value(c *column, v record.Value) record.Value {
	if v.Blank() && !v.IsNull() && !t.o.Of.Tells && c.nullable {
		return record.Null()
	}
	return v
}

// writable returns the column of a field; a failure says why it cannot be written.
func (t *Table) writable(field string) (int, error) {
	i := slices.Index(t.fields, field)
	switch {
	case i < 0:
		return 0, &failure{kind: refused, text: fmt.Sprintf("the table has no column for %s", field)}
	case t.cols[i].generated:
		return 0, &failure{kind: refused, text: fmt.Sprintf("%s is computed by the database, and not written", field)}
	}
	return i, nil
}

// fewStaged is below which rows are written one by one.
const fewStaged = 20

// wrote makes sure that as many rows were written as were sent.
func wrote(n, sent int64) error {
	if n == sent {
		return nil
	}
	text := "the database wrote none of it: a trigger, a rule, or what the account may see, left it out"
	if sent > 1 {
		text = fmt.Sprintf("the database wrote %d of %d records", n, sent)
	}
	return &failure{kind: refused, text: text}
}

// amend writes fields, in one statement for each set of fields.
func (t *Table) amend(ctx context.Context, items []*item) error {
	sets := map[string][]*item{}
	columns := map[string][]int{}
	for _, it := range items {
		var cols []int
		for _, f := range it.step.Fields {
			c, err := t.writable(f.Field)
			if err != nil {
				return err
			}
			cols = append(cols, c)
		}
		name := fmt.Sprint(cols)
		sets[name], columns[name] = append(sets[name], it), cols
	}
	var few []statement
	for _, name := range slices.Sorted(maps.Keys(sets)) {
		rows := make([][]record.Value, len(sets[name]))
		for i, it := range sets[name] {
			for k, f := range it.step.Fields {
				rows[i] = append(rows[i], t.value(t.cols[columns[name][k]], f.To))
			}
		}
		if len(rows) >= fewStaged && t.e.staged() {
			if err := t.updateStaged(ctx, columns[name], sets[name], rows); err != nil {
				return err
			}
			continue
		}
		for i, it := range sets[name] {
			few = append(few, t.update(columns[name], rows[i], it.at))
		}
	}
	return t.do(ctx, few)
}

// statement is one that writes a single row.
type statement struct {
	sql    string
	params []param
}

// update writes values into columns of the record under a key.
func (t *Table) update(cols []int, values, at []record.Value) statement {
	var set []string
	var params []param
	for i, c := range cols {
		set = append(set, t.e.ident(t.cols[c].name)+" = "+t.e.param(i+1, t.cols[c]))
		params = append(params, param{values[i], t.cols[c]})
	}
	return statement{"UPDATE " + t.table() + " SET " + strings.Join(set, ", ") + " WHERE " + t.keyIs(len(cols)+1), append(params, paramsOf(t.keyColumns(), at)...)}
}

// do runs statements, each of which has to write its row.
func (t *Table) do(ctx context.Context, all []statement) error {
	if len(all) == 0 {
		return nil
	}
	return t.s.each(ctx, all, func(n int64) error { return wrote(n, 1) })
}

func (t *Table) updateStaged(ctx context.Context, cols []int, items []*item, values [][]record.Value) error {
	e := t.e
	staged := t.keyColumns()
	var set []string
	for i, c := range cols {
		staged = append(staged, t.cols[c])
		set = append(set, fmt.Sprintf("%s%s = r.c%d", e.setOf(), e.ident(t.cols[c].name), len(t.key)+i))
	}
	rows := make([][]record.Value, len(items))
	for i, it := range items {
		rows[i] = append(slices.Clone(it.at), values[i]...)
	}
	from, params := e.rows(staged, len(t.key), rows)
	sql := e.updateFrom(t.table(), from, strings.Join(set, ", "), t.keyOn(0))
	if e.returns() && len(t.def.triggers) == 0 { // what was kept comes back at once
		return t.updateReturning(ctx, sql, params, append(slices.Clone(t.key), cols...), items)
	}
	n, err := t.s.exec(ctx, sql, params...)
	if err != nil {
		return err
	}
	return wrote(n, int64(len(items)))
}

// updateReturning runs an update of staged rows, and takes what it kept.
func (t *Table) updateReturning(ctx context.Context, sql string, params []param, cols []int, items []*item) error {
	names, of := []string{"r.n"}, []*column{{}}
	for _, c := range cols {
		names, of = append(names, t.aliased(c)), append(of, t.cols[c])
	}
	n := int64(0)
	err := t.s.query(ctx, sql+" RETURNING "+strings.Join(names, ", "), of, params, func(cells []record.Value) error {
		i, err := strconv.Atoi(cells[0].String())
		if err != nil || i < 1 || i > len(items) {
			return fmt.Errorf("the database counts rows as %q", cells[0])
		}
		n++
		items[i-1].res.After = t.record(t.spread(cols, cells[1:]), cols)
		return nil
	})
	if err != nil {
		return err
	}
	return wrote(n, int64(len(items)))
}

// remove deletes records, unless others refer to them that would go or change with them.
func (t *Table) remove(ctx context.Context, items []*item) error {
	if len(items) == 0 {
		return nil
	}
	if err := t.referred(ctx, items); err != nil {
		return err
	}
	e := t.e
	if len(items) < fewStaged || !e.staged() {
		all := make([]statement, len(items))
		for i, it := range items {
			all[i] = statement{"DELETE FROM " + t.table() + " WHERE " + t.keyIs(1), paramsOf(t.keyColumns(), it.at)}
		}
		return t.do(ctx, all)
	}
	rows := make([][]record.Value, len(items))
	for i, it := range items {
		rows[i] = it.at
	}
	slices.SortFunc(rows, compareValues)
	from, params := e.rows(t.keyColumns(), len(t.key), rows)
	n, err := t.s.exec(ctx, e.deleteFrom(t.table(), from, t.keyOn(0)), params...)
	if err != nil {
		return err
	}
	return wrote(n, int64(len(items)))
}

// add adds records: each with the fields that its step has, and no others.
func (t *Table) add(ctx context.Context, items []*item) error {
	sets := map[string][]*item{}
	columns := map[string][]int{}
	rows := map[*item][]record.Value{}
	var order []string
	for _, it := range items {
		var cols []int
		for _, f := range it.step.Record {
			i := slices.Index(t.fields, f.Name)
			if i < 0 || t.cols[i].generated {
				continue // it has none, or computes it
			}
			if f.Value.Blank() && !f.Value.IsNull() && !t.o.Of.Tells && (t.cols[i].filled || t.cols[i].identity != "") {
				continue // the database has something for those who say nothing
			}
			cols, rows[it] = append(cols, i), append(rows[it], t.value(t.cols[i], f.Value))
		}
		name := fmt.Sprint(cols)
		if sets[name] == nil {
			order = append(order, name)
		}
		sets[name], columns[name] = append(sets[name], it), cols
	}
	for _, name := range order {
		if err := t.insert(ctx, columns[name], sets[name], rows); err != nil {
			return err
		}
	}
	return nil
}

func (t *Table) insert(ctx context.Context, cols []int, items []*item, rows map[*item][]record.Value) error {
	e := t.e
	var names, values, staged []string
	of := make([]*column, len(cols))
	for i, c := range cols {
		of[i] = t.cols[c]
		names = append(names, e.ident(of[i].name))
		values = append(values, e.param(i+1, of[i]))
		staged = append(staged, fmt.Sprintf("r.c%d", i))
	}
	into := "INSERT INTO " + t.table() + " (" + strings.Join(names, ", ") + ")" + e.overriding()
	if len(cols) == 0 {
		into, values = "INSERT INTO "+t.table(), nil
	}
	given := slices.ContainsFunc(items, func(it *item) bool { return t.assigns() && schema.IsNew(it.step.Key) })
	if e.staged() && len(items) >= fewStaged && !given && len(cols) > 0 {
		all := make([][]record.Value, len(items))
		for i, it := range items {
			all[i] = rows[it]
			it.at = t.keyValues(it.step.Key)
		}
		from, params := e.rows(of, 0, all)
		n, err := t.s.exec(ctx, into+" SELECT "+strings.Join(staged, ", ")+" FROM "+from+" ORDER BY r.n", params...)
		if err != nil {
			return err
		}
		return wrote(n, int64(len(items)))
	}
	one := into + " VALUES (" + strings.Join(values, ", ") + ")"
	if len(cols) == 0 {
		one = into + " DEFAULT VALUES"
	}
	var returning []string
	for _, c := range t.keyColumns() {
		returning = append(returning, t.exactly(c))
	}
	for _, it := range items {
		it.at = nil
		err := t.s.query(ctx, one+" RETURNING "+strings.Join(returning, ", "), t.keyColumns(), paramsOf(of, rows[it]), func(cells []record.Value) error {
			it.at = slices.Clone(cells)
			return nil
		})
		if err != nil {
			return err
		}
		if it.at == nil {
			return wrote(0, 1)
		}
		if schema.IsNew(it.step.Key) && t.assigns() {
			it.res.Key = record.NewKey(texts(it.at)...)
		}
	}
	return nil
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

// checkRights refuses to begin where the account lacks a right for what is to be done.
func (t *Table) checkRights(ctx context.Context, steps []target.Step) error {
	asked := map[changeset.Act]bool{}
	for i := range steps {
		act := steps[i].Act
		if asked[act] {
			continue
		}
		asked[act] = true
		right, err := t.e.lacks(ctx, t.s, t.def, act)
		if err != nil {
			return t.said(err)
		}
		if right != "" {
			return &Error{Code: Denied, Name: t.Name(), Text: fmt.Sprintf("not allowed: the account has no %s on the table", right)}
		}
	}
	return nil
}

// Check says which steps the table cannot hold, as far as that is known beforehand: what
// the database computes, and what others refer to.
func (t *Table) Check(ctx context.Context, steps []target.Step) ([]string, error) {
	reasons := make([]string, len(steps))
	if err := t.checkRights(ctx, steps); err != nil {
		return nil, err
	}
	if err := t.checkReferred(ctx, steps, reasons); err != nil {
		return nil, t.said(err)
	}
	for i := range steps {
		for _, f := range steps[i].Fields {
			if _, err := t.writable(f.Field); err != nil {
				reasons[i] = err.Error()
			}
		}
	}
	return reasons, nil
}
