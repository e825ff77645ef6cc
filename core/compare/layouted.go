package compare

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/zeebo/xxh3"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// layouted is what a comparison knows from a layout. Without one all of it is
// empty, and costs nothing.
type layouted struct {
	l      *layout.Layout
	field  []*layout.Field            // of each field of the snapshot, or nil
	column []int                      // of each field of the layout the snapshot's, or -1
	always []bool                     // fields whose values are translated even where they look alike
	blank  []string                   // what an emptied cell means, for each field
	over   [changeset.Delete + 1]bool // acts that are held, since they go over a limit
	values map[int]map[uint64]uint32  // of unique fields: how many rows of the copy have a value
}

// useLayout looks the layout's fields up.
func (c *comparison) useLayout() {
	l := c.o.Layout
	n := len(c.res.Fields)
	c.always, c.blank = make([]bool, n), make([]string, n)
	for f := range c.blank {
		c.blank[f] = c.o.Blank
	}
	if l == nil {
		return
	}
	c.field, c.column = make([]*layout.Field, n), make([]int, len(l.Fields))
	for i := range c.column {
		c.column[i] = -1
	}
	for f, name := range c.res.Fields {
		i := l.Index(name)
		if i < 0 {
			continue
		}
		if c.field[f], c.column[i] = &l.Fields[i], f; c.o.SameOnly {
			continue
		}
		c.always[f] = l.Fields[i].Translate != nil && l.Fields[i].Translate.Always
		c.blank[f] = cmp.Or(c.o.Blank, l.Fields[i].Blank, l.Blank)
	}
	if !l.Schema().OneForm() {
		c.snap.form = l.Schema().KeyForm.Form
	}
	if c.o.SameOnly {
		return
	}
	c.l = l
	c.o.Missing = cmp.Or(c.o.Missing, l.Missing)
}

// ignoreColumns leaves out what the layout says holds no field.
func (c *comparison) ignoreColumns() {
	for f, name := range c.res.Fields {
		if c.l.Ignores(name) {
			c.pair[f] = -1
		}
	}
}

// lost says, of a column that only the copy has, which field without a column
// it may have been.
func (c *comparison) lost(snapshot *table.Image, m layout.Match, heading string) string {
	var absent []string
	for i, f := range snapshot.Heading {
		if m.Column[i] < 0 {
			absent = append(absent, f)
		}
	}
	near := expr.Near(heading, absent)
	if len(near) == 0 {
		return ""
	}
	return fmt.Sprintf("; if it is %s, give it that heading, or name it among the field's aliases in the layout", near[0])
}

// takeValue reads the copy's value of a field as the layout says, and reports
// whether it is a change that may be proposed.
func (c *comparison) takeValue(b *batch, f int, j uint32, fc *changeset.FieldChange) bool {
	fl := c.field[f]
	if fl == nil || fl.Same(fc.From.String(), fc.To.String()) && !c.always[f] {
		return fl == nil
	}
	if c.l == nil {
		return true
	}
	if fl.Shows(fc.To.String(), fc.From.String()) {
		return false
	}
	text, ps := fl.Take(fc.To.String())
	if fl.Same(fc.From.String(), text) {
		return false
	}
	if text != fc.To.String() {
		fc.To = record.Text(text)
	}
	if fc.To.Blank() && c.blank[f] == Ignore {
		b.tally.blankKept++
		return false
	}
	switch fl.Access {
	case schema.ReadOnly:
		b.tally.problems.note(changeset.ReadOnly.Name, fc.Field, "warn", "is read-only; what the copy has is not taken", j)
		return false
	case schema.OnCreation:
		b.tally.problems.note(changeset.OnCreation.Name, fc.Field, "warn", "is set on creation only; what the copy has is not taken", j)
		return false
	case schema.System:
		b.tally.problems.note(changeset.SystemField.Name, fc.Field, "note", "is the system's own; what the copy has is not taken", j)
		return false
	}
	if n := c.values[f]; n != nil && !fc.To.Blank() && n[xxh3.HashString(fl.Canonical(fc.To.String()))] > 1 {
		ps = append(ps, layout.Problem{Code: layout.Twice, Field: fc.Field, Level: "stop", Text: fmt.Sprintf("%q is the value of several records", fc.To)})
	}
	for _, p := range append(ps, fl.CheckMove(fc.From.String(), fc.To.String())...) {
		c.mark(b, fc, p, j)
	}
	return true
}

// mark puts a problem on a field change, and notes it.
func (c *comparison) mark(b *batch, fc *changeset.FieldChange, p layout.Problem, j uint32) {
	b.tally.problems.note(p.Code, fc.Field, p.Level, p.Text, j)
	switch {
	case p.Level == "stop" && !slices.Contains(fc.Stop, p.Code):
		fc.Stop = append(fc.Stop, p.Code)
	case p.Level == "warn" && !slices.Contains(fc.Held, p.Code):
		fc.Held = append(fc.Held, p.Code)
	}
}

// clearTo gives an emptied field the text that stands for empty there.
func (c *comparison) clearTo(f int, fc *changeset.FieldChange) {
	if c.l != nil && c.field[f] != nil && c.field[f].ClearsTo != nil {
		fc.To = record.Text(*c.field[f].ClearsTo)
	}
}

// judgeAmend applies the rules to a record as it would be.
func (d *differ) judgeAmend(b *batch, fields []changeset.FieldChange, j uint32) {
	c := d.c
	if len(c.l.Rules) == 0 {
		return
	}
	old := func(i int) string {
		if c.column[i] < 0 {
			return ""
		}
		v, _ := csv.Value(c.snap.img, d.old.Cell(c.column[i]))
		return v.String()
	}
	changed := func(i int) *changeset.FieldChange {
		for k := range fields {
			if fields[k].Field == c.l.Fields[i].Name {
				return &fields[k]
			}
		}
		return nil
	}
	in := &expr.Input{Old: c.l.Getter(old), New: c.l.Getter(func(i int) string {
		if fc := changed(i); fc != nil {
			return fc.To.String()
		}
		return old(i)
	}), Act: "amend", Key: c.copy.key(j).String(), Row: c.copy.rowNumber(j)}
	for _, p := range c.l.CheckRules(in, func(i int) bool { return changed(i) != nil }) {
		if i := c.l.Index(p.Field); i >= 0 {
			c.mark(b, changed(i), p, j)
		}
	}
}

// judgeAdd reads a new record as the layout says: its values, the fields that
// it may not have, those that it needs, the rules.
func (c *comparison) judgeAdd(b *batch, ch *changeset.Change, j uint32) {
	c.writeKey(ch)
	var all []layout.Problem
	kept := ch.Record[:0]
	has := map[string]bool{}
	for _, f := range ch.Record {
		fl := c.l.Field(f.Name)
		switch {
		case fl == nil:
		case fl.Access == schema.ReadOnly && !f.Value.Blank():
			b.tally.problems.note(changeset.ReadOnly.Name, f.Name, "warn", "is read-only; what the copy has for a new record is not taken", j)
			continue
		case fl.Access == schema.System || fl.Access == schema.ReadOnly:
			continue
		default:
			text, ps := fl.Take(f.Value.String())
			if text != f.Value.String() {
				f.Value = record.Text(text)
			}
			if n := c.values[slices.Index(c.res.Fields, f.Name)]; n != nil && text != "" && n[xxh3.HashString(fl.Canonical(text))] > 1 {
				ps = append(ps, layout.Problem{Code: layout.Twice, Field: f.Name, Level: "stop", Text: fmt.Sprintf("%q is the value of several records", text)})
			}
			all = append(all, ps...)
		}
		has[f.Name] = true
		kept = append(kept, f)
	}
	ch.Record = kept
	for i := range c.l.Fields {
		if f := &c.l.Fields[i]; f.Required && !has[f.Name] && (f.Access == schema.Free || f.Access == schema.OnCreation) {
			all = append(all, layout.Problem{Code: layout.Needed, Field: f.Name, Level: "stop", Text: "a value is needed"})
		}
	}
	get := ch.Record.Finder()
	in := &expr.Input{New: c.l.Getter(func(i int) string { v, _ := get(c.l.Fields[i].Name); return v.String() }), Act: "add", Key: ch.Key.String(), Row: c.copy.rowNumber(j)}
	for _, p := range append(all, c.l.CheckRules(in, nil)...) {
		c.markWhole(b, ch, p, j)
	}
}

// writeKey gives a new record's key the form that keys have.
func (c *comparison) writeKey(ch *changeset.Change) {
	if c.snap.form == nil {
		return
	}
	parts := ch.Key.Parts()
	for i, p := range parts {
		parts[i] = c.l.Schema().KeyForm.Write(p)
		ch.Record.Set(c.o.Key[i], record.Text(parts[i]))
	}
	ch.Key = record.NewKey(parts...)
}

// judgeDelete applies the rules to a record that is to go.
func (c *comparison) judgeDelete(b *batch, ch *changeset.Change, i uint32) {
	get := ch.Record.Finder()
	in := &expr.Input{Old: c.l.Getter(func(i int) string { v, _ := get(c.l.Fields[i].Name); return v.String() }), Act: "delete", Key: ch.Key.String()}
	for _, p := range c.l.CheckRules(in, nil) {
		c.markWhole(b, ch, p, noRow)
	}
}

// markWhole puts a problem on a change as a whole.
func (c *comparison) markWhole(b *batch, ch *changeset.Change, p layout.Problem, j uint32) {
	if j == noRow {
		b.tally.problems.noteKey(p.Code, p.Field, p.Level, p.Text, ch.Key.String())
	} else {
		b.tally.problems.note(p.Code, p.Field, p.Level, p.Text, j)
	}
	switch {
	case p.Level == "stop" && !slices.Contains(ch.Stop, p.Code):
		ch.Stop = append(ch.Stop, p.Code)
	case p.Level == "warn" && !slices.Contains(ch.Held, p.Code):
		ch.Held = append(ch.Held[:len(ch.Held):len(ch.Held)], p.Code)
	}
}

// judgeLimits decides before the first change is made which acts go over the
// limits, the layout's and the derivation's, and reads the values of unique
// fields.
func (c *comparison) judgeLimits(ctx context.Context) error {
	if c.l != nil {
		if err := table.Guard(func() error { return c.countValues(ctx) }); err != nil {
			return err
		}
		if err := c.judgeLimit(ctx, &c.l.Limits, "the layout"); err != nil {
			return err
		}
	}
	if c.o.Limits != nil {
		return c.judgeLimit(ctx, c.o.Limits, c.o.LimitsOf)
	}
	return nil
}

func (c *comparison) judgeLimit(ctx context.Context, l *layout.Limits, whose string) error {
	all := c.snap.len()
	deletes := 0
	for _, m := range c.mate {
		if m == mateListed || m == mateNone && c.copy != nil && c.o.Missing != Ignore {
			deletes++
		}
	}
	amends := 0
	if c.copy != nil && l.Amend.Set {
		for i, m := range c.mate {
			if m >= mateRow && !c.equal.has(uint32(i)) {
				amends++
			}
		}
		if l.Amend.Over(amends, all) { // more at first sight, so count them
			n, err := c.countAmends(ctx)
			if err != nil {
				return err
			}
			amends = n
		}
	}
	for _, x := range []struct {
		act   changeset.Act
		limit *layout.Limit
		n     int
	}{{changeset.Amend, &l.Amend, amends}, {changeset.Add, &l.Add, len(c.adds)}, {changeset.Delete, &l.Delete, deletes}} {
		if c.o.allows(x.act) && x.limit.Over(x.n, all) {
			c.over[x.act] = true
			f := changeset.OverLimit.Finding("the copy would %s %s, and %s allows %s; they are held", x.act, words.Count(x.n, "record"), whose, x.limit.Text)
			f.Count = x.n
			c.find(f, "", "")
		}
	}
	return nil
}

// countAmends makes all changes without keeping them.
func (c *comparison) countAmends(ctx context.Context) (int, error) {
	sink, res, sum, moved, judge, worn := c.sink, *c.res, c.sum, c.moved, c.o.Judge, c.o.Worn
	c.sink, c.moved, c.o.Judge, c.o.Worn = nil, moves{}, nil, nil
	err := c.emit(ctx)
	n := c.res.Changes.Amend
	c.sink, *c.res, c.sum, c.moved, c.o.Judge, c.o.Worn = sink, res, sum, moved, judge, worn
	return n, err
}

// countValues counts the values of unique fields in the copy.
func (c *comparison) countValues(ctx context.Context) error {
	if c.copy == nil {
		return nil
	}
	for f, fl := range c.field {
		if fl != nil && fl.Unique && c.pair[f] >= 0 {
			if c.values == nil {
				c.values = map[int]map[uint64]uint32{}
			}
			c.values[f] = map[uint64]uint32{}
		}
	}
	if c.values == nil {
		return nil
	}
	for j := range c.copy.len() {
		if j&0xffff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		raw := c.copy.raw(uint32(j))
		for f, n := range c.values {
			cell, _ := csv.Cell(raw, c.pair[f], c.copy.img.Comma)
			if text := csv.Unquote(cell); len(text) > 0 {
				taken, _ := c.field[f].Take(string(text))
				n[xxh3.HashString(c.field[f].Canonical(taken))]++
			}
		}
	}
	return nil
}

// checkAll looks at all of the copy's values.
func (c *comparison) checkAll(ctx context.Context) error {
	if c.l == nil || c.copy == nil || !c.o.CheckAll {
		return nil
	}
	r, err := c.l.Check(ctx, c.copy.img)
	if err != nil {
		return err
	}
	for _, f := range r.Found {
		text := changeset.Unchecked.Finding("%s: %s", f.Field, f.Text)
		text.Count = f.Count
		if len(f.Rows) > 0 {
			c.findRows(text, c.copy.img.Name, f.Rows)
			c.res.Findings[len(c.res.Findings)-1].Column = f.Field
		}
	}
	return nil
}

// noRow stands for no row of the copy.
const noRow = ^uint32(0)

// problems counts what is wrong with values, by what is said of them.
type problems struct {
	order []problem
	at    map[problem]*seen
}

type problem struct{ code, field, level, text string }

type seen struct {
	count int
	rows  []uint32
	keys  []string // of records that are not in the copy
}

// maxProblems is how many different things are said of one comparison.
const maxProblems = 2000

func (p *problems) note(code, field, level, text string, j uint32) {
	if s := p.count(code, field, level, text); s != nil && j != noRow && len(s.rows) < changeset.MaxRows {
		s.rows = append(s.rows, j)
	}
}

// noteKey notes a problem with a record that is not in the copy.
func (p *problems) noteKey(code, field, level, text, key string) {
	if s := p.count(code, field, level, text); s != nil && len(s.keys) < changeset.MaxRows {
		s.keys = append(s.keys, key)
	}
}

func (p *problems) count(code, field, level, text string) *seen {
	key := problem{code, field, level, text}
	s := p.at[key]
	if s == nil {
		if len(p.order) >= maxProblems {
			key.text = "more of the kind"
			if s = p.at[key]; s == nil && len(p.order) > 2*maxProblems {
				return nil
			}
		}
		if s == nil {
			s = p.insert(key)
		}
	}
	s.count++
	return s
}

func (p *problems) insert(key problem) *seen {
	if p.at == nil {
		p.at = map[problem]*seen{}
	}
	s := new(seen)
	p.at[key] = s
	p.order = append(p.order, key)
	return s
}

// merge takes in what a later part of the work noted.
func (p *problems) merge(o *problems) {
	for _, key := range o.order {
		s := p.at[key]
		if s == nil {
			s = p.insert(key)
		}
		s.count += o.at[key].count
		s.rows = append(s.rows, o.at[key].rows[:min(len(o.at[key].rows), changeset.MaxRows-len(s.rows))]...)
		s.keys = append(s.keys, o.at[key].keys[:min(len(o.at[key].keys), changeset.MaxRows-len(s.keys))]...)
	}
}

// reportProblems makes findings of them: stops first, then by field.
func (c *comparison) reportProblems(p *problems) {
	for _, key := range p.order {
		s := p.at[key]
		f := changeset.Finding{Code: key.code, Level: changeset.Level(key.level), Scope: changeset.OfField, Text: key.text, Column: key.field, Count: s.count}
		if key.field == "" {
			f.Scope = changeset.OfRecord
		}
		if key.text == "" {
			f.Text = c.columnWords(key.field, s.count)
		}
		if len(s.keys) > 0 {
			f.Key = s.keys[0]
			f.Text += ": " + strings.Join(s.keys, ", ")
			if s.count > len(s.keys) {
				f.Text += fmt.Sprintf(" and %d more", s.count-len(s.keys))
			}
		}
		if len(s.rows) == 0 {
			c.find(f, "", key.field)
			continue
		}
		rows := c.copy.rowNumbers(s.rows)
		f.Row = rows[0]
		if len(rows) > 1 {
			f.Rows = rows
		}
		c.find(f, c.copy.img.Name, key.field)
	}
}
