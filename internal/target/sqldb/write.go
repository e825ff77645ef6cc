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
func (t *Table) unit(ctx context.Context, items []*item, how manner) error {
	leaving := map[record.Key]bool{} // keys whose records get others
	for _, it := range items {
		if !it.step.Was.IsZero() {
			leaving[it.step.Was] = true
		}
	}
	if how == swift {
		if err := t.goBlind(ctx, items, leaving); err != nil {
			return err
		}
	}
	if err := t.lock(ctx, items); err != nil {
		return err
	}
	for _, it := range items {
		if !it.blind {
			t.judge(it, leaving)
		}
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

// judge leaves a record alone that is not as its step says.
func (t *Table) judge(it *item, leaving map[record.Key]bool) {
	s := it.step
	it.res.Before = t.record(it.row, it.cols)
	if !s.Was.IsZero() && it.was == nil {
		it.moved("the record %s, which is to have the key, is gone", s.Was)
		return
	}
	now := &target.State{Record: it.res.Before}
	if it.row != nil && (s.Act != changeset.Add || !leaving[s.Key]) {
		now.Count = 1
	}
	if why := s.Unlike(now, t.o.Of); why != "" {
		it.moved("%s", why)
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
			it.res.After = t.kept(it.res.Before, columns[name], rows[i])
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
	return statement{"UPDATE" + t.e.strictly() + " " + t.table() + " SET " + strings.Join(set, ", ") + " WHERE " + t.keyIs(len(cols)+1), append(params, paramsOf(t.keyColumns(), at)...)}
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
	unsure := func(it *item) bool { return it.res.After == nil }
	if e.returns() && len(t.def.triggers) == 0 && slices.ContainsFunc(items, unsure) { // what was kept comes back at once
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
		names, of = append(names, t.aliased(t.cols[c])), append(of, t.cols[c])
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
	if blind := pick(items, func(it *item) bool { return it.blind }); len(blind) > 0 {
		if err := t.removeReturning(ctx, blind); err != nil {
			return err
		}
		items = pick(items, func(it *item) bool { return !it.blind })
	}
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
	var names, values []string
	of := make([]*column, len(cols))
	for i, c := range cols {
		of[i] = t.cols[c]
		names = append(names, e.ident(of[i].name))
		values = append(values, e.param(i+1, of[i]))
	}
	into := "INSERT" + e.strictly() + " INTO " + t.table() + " (" + strings.Join(names, ", ") + ")" + e.overriding()
	if len(cols) == 0 {
		into, values = "INSERT"+e.strictly()+" INTO "+t.table(), nil
	}
	given := slices.ContainsFunc(items, func(it *item) bool { return t.assigns() && schema.IsNew(it.step.Key) })
	if len(items) >= fewStaged && !given && len(cols) > 0 {
		for part := range slices.Chunk(items, max(1, mostParams/len(cols))) {
			if err := t.insertStaged(ctx, into, cols, of, part, rows); err != nil {
				return err
			}
		}
		return nil
	}
	one := into + " VALUES (" + strings.Join(values, ", ") + ")"
	if len(cols) == 0 {
		one = into + " DEFAULT VALUES"
	}
	for _, it := range items {
		if err := t.insertKept(ctx, one, paramsOf(of, rows[it]), cols, []*item{it}, rows); err != nil {
			return err
		}
		if schema.IsNew(it.step.Key) && t.assigns() {
			it.res.Key = record.NewKey(texts(it.at)...)
		}
	}
	return nil
}

// mostParams is how many values one statement has: SQLite takes up to 32,766, and others more.
const mostParams = 30_000

// insertStaged adds many records of the same columns in one statement.
func (t *Table) insertStaged(ctx context.Context, into string, cols []int, of []*column, items []*item, rows map[*item][]record.Value) error {
	e := t.e
	if !e.returns() {
		var all []string
		var params []param
		for _, it := range items {
			var values []string
			for i, c := range of {
				values = append(values, e.param(len(params)+1, c))
				params = append(params, param{rows[it][i], c})
			}
			all = append(all, "("+strings.Join(values, ", ")+")")
		}
		return t.insertKept(ctx, into+" VALUES "+strings.Join(all, ", "), params, cols, items, rows)
	}
	staged := make([]string, len(of))
	for i := range of {
		staged[i] = fmt.Sprintf("r.c%d", i)
	}
	values := make([][]record.Value, len(items))
	for i, it := range items {
		values[i] = rows[it]
	}
	from, params := e.rows(of, 0, values)
	return t.insertKept(ctx, into+" SELECT "+strings.Join(staged, ", ")+" FROM "+from+" ORDER BY r.n", params, cols, items, rows)
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
	if t.over != nil {
		return t.checkShards(ctx, steps)
	}
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
