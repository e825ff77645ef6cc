package compare

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"github.com/zeebo/xxh3"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/judge"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// layoutFields is what a comparison knows from a layout. Without one all of it is
// empty, and costs nothing.
type layoutFields struct {
	l      *layout.Layout
	field  []*layout.Field // of each field of the snapshot, or nil
	column []int           // of each field of the layout the snapshot's, or -1
	always []bool          // fields whose values are translated even where they look alike
	blank  []string        // what an emptied cell means, for each field
}

// useLayout looks the layout's fields up.
func (t *tables) useLayout() {
	l := t.o.Layout
	n := len(t.res.Fields)
	t.always, t.blank = make([]bool, n), make([]string, n)
	for f := range t.blank {
		t.blank[f] = t.o.Blank
	}
	if l == nil {
		return
	}
	t.field, t.column = make([]*layout.Field, n), make([]int, len(l.Fields))
	for i := range t.column {
		t.column[i] = -1
	}
	for f, name := range t.res.Fields {
		i := l.Index(name)
		if i < 0 {
			continue
		}
		if t.field[f], t.column[i] = &l.Fields[i], f; t.o.SameOnly {
			continue
		}
		t.always[f] = l.Fields[i].Translate != nil && l.Fields[i].Translate.Always
		t.blank[f] = cmp.Or(t.o.Blank, l.Fields[i].Blank, l.Blank)
	}
	if !l.Schema().OneForm() {
		t.snap.form = l.Schema().KeyForm.Form
	}
	if t.o.SameOnly {
		return
	}
	t.l = l
	t.o.Missing = cmp.Or(t.o.Missing, l.Missing)
}

// ignoreColumns leaves out what the layout says holds no field.
func (t *tables) ignoreColumns() {
	for f, name := range t.res.Fields {
		if t.l.Ignores(name) {
			t.pair[f] = -1
		}
	}
}

// lost says, of a column that only the copy has, which field without a column
// it may have been.
func (t *tables) lost(snapshot *table.Image, m layout.Match, heading string) string {
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
func (dr *drafter) takeValue(b *batch, f int, j uint32, fc *changeset.FieldChange) bool {
	fl := dr.field[f]
	if fl == nil || fl.Same(fc.From.String(), fc.To.String()) && !dr.always[f] {
		return fl == nil
	}
	if dr.l == nil {
		return true
	}
	if fl.Shows(fc.To.String(), fc.From.String()) {
		return false
	}
	text, ps := dr.takeText(fl, fc.To.String())
	if fl.Same(fc.From.String(), text) {
		return false
	}
	if text != fc.To.String() {
		fc.To = record.Text(text)
	}
	if fc.To.Blank() && dr.blank[f] == Ignore {
		b.tally.blankKept++
		return false
	}
	switch fl.Access {
	case schema.ReadOnly:
		dr.note(b, layout.Problem{Code: changeset.ReadOnly.Name, Field: fc.Field, Level: "warn", Text: "is read-only; what the copy has is not taken"}, j)
		return false
	case schema.OnCreation:
		dr.note(b, layout.Problem{Code: changeset.OnCreation.Name, Field: fc.Field, Level: "warn", Text: "is set on creation only; what the copy has is not taken"}, j)
		return false
	case schema.System:
		dr.note(b, layout.Problem{Code: changeset.SystemField.Name, Field: fc.Field, Level: "note", Text: "is the system's own; what the copy has is not taken"}, j)
		return false
	}
	if n := dr.values[f]; n != nil && !fc.To.Blank() && n[xxh3.HashString(fl.Canonical(fc.To.String()))] > 1 {
		ps = append(ps, layout.Problem{Code: changeset.ValueUnique.Name, Field: fc.Field, Level: "stop", Text: fmt.Sprintf("%q is the value of several records", fc.To)})
	}
	if dr.named[fc.To.String()] {
		return true
	}
	for _, p := range append(ps, fl.CheckMove(fc.From.String(), fc.To.String())...) {
		dr.mark(b, fc, p, j)
	}
	return true
}

// mark puts a problem on a field change, and notes it.
func (dr *drafter) mark(b *batch, fc *changeset.FieldChange, p layout.Problem, j uint32) {
	p.Field = fc.Field
	dr.note(b, p, j)
	switch {
	case p.Level == "stop" && !slices.Contains(fc.Stop, p.Code):
		fc.Stop = append(fc.Stop, p.Code)
	case p.Level == "warn" && !slices.Contains(fc.Held, p.Code):
		fc.Held = append(fc.Held, p.Code)
	}
}

// clearTo gives an emptied field the text that stands for empty there.
func (dr *drafter) clearTo(f int, fc *changeset.FieldChange) {
	if dr.l != nil && dr.field[f] != nil && dr.field[f].ClearsTo != nil {
		fc.To = record.Text(*dr.field[f].ClearsTo)
	}
}

// judgeAmend applies the rules to a record as it would be.
func (d *differ) judgeAmend(b *batch, fields []changeset.FieldChange, j uint32) {
	if len(d.l.Rules) == 0 {
		return
	}
	old := func(i int) string {
		if d.column[i] < 0 {
			return ""
		}
		v, _ := csv.Value(d.snap.img, d.old.Cell(d.column[i]))
		return v.String()
	}
	for _, p := range judge.Amended(d.l, d.copy.key(j), d.copy.rowNumber(j), changeset.Edits(fields), old) {
		if f := slices.IndexFunc(fields, func(f changeset.FieldChange) bool { return f.Field == p.Field }); f >= 0 {
			d.mark(b, &fields[f], p, j)
		}
	}
}

// judgeAdd reads a new record as the layout says: its values, the fields that
// it may not have, those that it needs, the rules.
func (dr *drafter) judgeAdd(b *batch, ch *changeset.Change, j uint32) {
	dr.writeKey(ch)
	var all []layout.Problem
	kept := ch.Record[:0]
	has := map[string]bool{}
	for _, f := range ch.Record {
		fl := dr.l.Field(f.Name)
		switch {
		case fl == nil:
		case fl.Access == schema.ReadOnly && !f.Value.Blank():
			dr.note(b, layout.Problem{Code: changeset.ReadOnly.Name, Field: f.Name, Level: "warn", Text: "is read-only; what the copy has for a new record is not taken"}, j)
			continue
		case fl.Access == schema.System || fl.Access == schema.ReadOnly:
			continue
		default:
			text, ps := dr.takeText(fl, f.Value.String())
			if text != f.Value.String() {
				f.Value = record.Text(text)
			}
			if n := dr.values[slices.Index(dr.res.Fields, f.Name)]; n != nil && text != "" && n[xxh3.HashString(fl.Canonical(text))] > 1 {
				ps = append(ps, layout.Problem{Code: changeset.ValueUnique.Name, Field: f.Name, Level: "stop", Text: fmt.Sprintf("%q is the value of several records", text)})
			}
			all = append(all, ps...)
		}
		has[f.Name] = true
		kept = append(kept, f)
	}
	ch.Record = kept
	for _, p := range append(append(all, dr.needed(has)...), judge.Whole(dr.l, ch.Act, ch.Key, dr.copy.rowNumber(j), ch.Record)...) {
		dr.markWhole(b, ch, p, j)
	}
}

// needed says which fields a new record has to have and has not.
func (dr *drafter) needed(has map[string]bool) (all []layout.Problem) {
	for i := range dr.l.Fields {
		if f := &dr.l.Fields[i]; f.Required && !has[f.Name] && !f.Assigned && (f.Access == schema.Free || f.Access == schema.OnCreation) {
			all = append(all, layout.Problem{Code: changeset.ValueNeeded.Name, Field: f.Name, Level: "stop", Text: "a value is needed"})
		}
	}
	return all
}

// writeKey gives a new record's key the form that keys have.
func (dr *drafter) writeKey(ch *changeset.Change) {
	if dr.snap.form == nil || dr.l.Schema().Assigned() && schema.IsNew(ch.Key) {
		return
	}
	parts := ch.Key.Parts()
	for i, p := range parts {
		parts[i] = dr.l.Schema().KeyForm.Write(p)
		ch.Record.Set(dr.o.Key[i], record.Text(parts[i]))
	}
	ch.Key = record.NewKey(parts...)
}

// judgeDelete applies the rules to a record that is to go.
func (dr *drafter) judgeDelete(b *batch, ch *changeset.Change, i uint32) {
	for _, p := range judge.Whole(dr.l, ch.Act, ch.Key, 0, ch.Record) {
		dr.markWhole(b, ch, p, judge.None)
	}
}

// markWhole puts a problem on a change as a whole.
func (dr *drafter) markWhole(b *batch, ch *changeset.Change, p layout.Problem, j uint32) {
	if j == judge.None {
		b.tally.problems.NoteKey(p, ch.Key.String())
	} else {
		dr.note(b, p, j)
	}
	switch {
	case p.Level == "stop" && !slices.Contains(ch.Stop, p.Code):
		ch.Stop = append(ch.Stop, p.Code)
	case p.Level == "warn" && !slices.Contains(ch.Held, p.Code):
		ch.Held = append(ch.Held[:len(ch.Held):len(ch.Held)], p.Code)
	}
}

// countValues counts the values of unique fields in the copy.
func (dr *drafter) countValues(ctx context.Context) error {
	if dr.copy == nil {
		return nil
	}
	for f, fl := range dr.field {
		if fl != nil && fl.Unique && dr.pair[f] >= 0 {
			if dr.values == nil {
				dr.values = map[int]map[uint64]uint32{}
			}
			dr.values[f] = map[uint64]uint32{}
		}
	}
	if dr.values == nil {
		return nil
	}
	alike := dr.o.Alike != nil
	for j := range dr.copy.len() {
		if j&0xffff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		raw := dr.copy.raw(uint32(j))
		for f, n := range dr.values {
			cell, _ := csv.Cell(raw, dr.pair[f], dr.copy.img.Comma)
			if text := csv.Unquote(cell); len(text) > 0 {
				if h := dr.uniqueValue(f, text); alike {
					n[h] = 0
				} else {
					n[h]++
				}
			}
		}
	}
	if !alike {
		return nil
	}
	for f, n := range dr.values { // of what the whole copy has, what these rows have counts
		err := dr.o.Alike.Values(ctx, dr.pair[f], func(text []byte) {
			if h := dr.uniqueValue(f, text); len(text) > 0 {
				if _, here := n[h]; here {
					n[h]++
				}
			}
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// uniqueValue is the hash that all forms of a unique field's value share.
func (dr *drafter) uniqueValue(f int, text []byte) uint64 {
	taken, _ := dr.field[f].Take(string(text))
	return xxh3.HashString(dr.field[f].Canonical(taken))
}

// note counts what is wrong with a value on a row of the copy.
func (dr *drafter) note(b *batch, p layout.Problem, j uint32) {
	b.tally.problems.Note(p, dr.copy.rowOf(j, p.Field))
}
