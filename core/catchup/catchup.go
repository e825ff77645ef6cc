// Package catchup lays the changes of a change set on newer records: those that were
// exported again after others had worked on them. Three states are told apart: what the
// old snapshot had, what the copy made of it, and what is there now. Only what the copy
// changed is laid; what it left as it was stays as it is now, whatever became of it.
package catchup

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// Input is what is laid on what.
type Input struct {
	Set     string
	Key     []string
	Of      *schema.Schema
	System  []string            // fields that the system writes itself
	Changes []*changeset.Change // of the old snapshot
	Old     *table.Image        // the old snapshot
	Fresh   *table.Image        // the newer records
	// Added are new records that were added already, under keys that they got there, or, where
	// it is false, may have been; Keys are these keys by what the records went by.
	Added map[changeset.ID]bool
	Keys  map[string]string
	// Others lets the newer records be ones of which few are known.
	Others bool
}

// Laid is what came of it.
type Laid struct {
	Settled  int // changes, or fields of them, that are there already
	Findings []changeset.Finding
	holds    map[changeset.ID]*hold
}

// hold is what is known of a change from before, and what holds it now.
type hold struct {
	old    *changeset.Change // nil where it is another one now
	whole  []string
	fields map[string]bool // those that moved meanwhile
}

// Hold gives a change of the newer records to its copy the links and holds of the one that it
// comes from, and those that are new. It may be called on several goroutines.
func (l *Laid) Hold(ch *changeset.Change) {
	h := l.holds[ch.ID]
	if h == nil {
		return
	}
	ch.Held = union(ch.Held, h.whole)
	if h.old != nil {
		ch.Held, ch.Stop = union(ch.Held, h.old.Held), union(ch.Stop, h.old.Stop)
		ch.Linked, ch.Was, ch.Copies = h.old.Linked, h.old.Was, h.old.Copies
	}
	for i := range ch.Fields {
		f := &ch.Fields[i]
		if h.fields[f.Field] {
			f.Held = union(f.Held, []string{changeset.MovedOn.Name})
		}
		if h.old == nil {
			continue
		}
		if was := h.old.Field(f.Field); was != nil {
			f.Held, f.Stop, f.Linked, f.Copies = union(f.Held, was.Held), union(f.Stop, was.Stop), was.Linked, was.Copies
		}
	}
}

func union(a, b []string) []string {
	all := slices.Clip(slices.Clone(a))
	for _, code := range b {
		if !slices.Contains(all, code) && !Anew(code) {
			all = append(all, code)
		}
	}
	return all
}

// anew are the codes of what every comparison finds by itself.
var anew = []changeset.Code{changeset.ValueKind, changeset.ValueScale, changeset.ValueChoice, changeset.ValueRef, changeset.ValueAmbiguous, changeset.ValueUnknown, changeset.ValueLength,
	changeset.ValueRange, changeset.ValuePattern, changeset.ValueNeeded, changeset.ValueUnique, changeset.BrokenRule, changeset.LimitMove, changeset.OverLimit, changeset.StillReferred}

// Anew reports whether what a code says is found anew on the newer records, so that what the
// old comparison said of it counts for nothing.
func Anew(code string) bool {
	return slices.ContainsFunc(anew, func(c changeset.Code) bool { return c.Name == code })
}

// MissingField says that the newer records lack a field that is changed.
type MissingField struct{ Table, Field string }

func (e *MissingField) Error() string {
	return fmt.Sprintf("%s has no column %q, which the dossier changes", e.Table, e.Field)
}

// FewKnown says that the newer records are hardly those that are changed.
type FewKnown struct {
	Table     string
	Known, Of int
}

func (e *FewKnown) Error() string {
	return fmt.Sprintf("%s knows %d of the %d records that are changed", e.Table, e.Known, e.Of)
}

// layer lays changes.
type layer struct {
	*Input
	*Laid
	now   map[record.Key]record.Record           // the newer records that the changes are about, by their normalised keys
	at    map[record.Key]span                    // where they stand
	whole bool                                   // the table's bytes are rows one after the other
	gone  map[record.Key]bool                    // rows that are left out
	set   map[record.Key]map[string]record.Value // what rows get
	rows  map[string]map[string]record.Value     // both of these, by encoded keys
	adds  []record.Record                        // rows that are new
	lost  []*changeset.Change                    // amends of records that are gone
	old   map[record.Key]record.Record           // what deletes say was there
}

// Lay writes the newer records as the copy would have them, as CSV.
func Lay(ctx context.Context, in *Input, w io.Writer) (*Laid, error) {
	l := &layer{Input: in, Laid: &Laid{holds: map[changeset.ID]*hold{}}, gone: map[record.Key]bool{}, set: map[record.Key]map[string]record.Value{}}
	if err := l.look(); err != nil {
		return nil, err
	}
	for _, ch := range in.Changes {
		if in.Added[ch.ID] {
			l.Settled++
			continue
		}
		l.lay(l.named(ch))
		if _, perhaps := in.Added[ch.ID]; perhaps {
			h := l.holds[ch.ID]
			h.whole = append(h.whole, changeset.AddedPerhaps.Name)
			f := changeset.AddedPerhaps.Finding("%s may have been added by an earlier run, whose answer was lost: look for it before it is added again", ch.Key)
			f.Key = ch.Key.String()
			l.find(f)
		}
	}
	if err := l.layGone(); err != nil {
		return nil, err
	}
	if l.Settled > 0 {
		f := changeset.CaughtUp.Finding("%s", falls(l.Settled))
		f.Count = l.Settled
		l.find(f)
	}
	return l.Laid, l.write(ctx, w)
}

func falls(n int) string {
	if n == 1 {
		return "1 change is there already, and falls away"
	}
	return words.Count(n, "change") + " are there already, and fall away"
}

func (l *layer) find(f changeset.Finding) {
	f.File = l.Fresh.Name
	l.Findings = append(l.Findings, f)
}

// look reads the newer records that the changes are about, and those that left their keys.
func (l *layer) look() error {
	var keys []record.Key
	for _, ch := range l.Changes {
		keys = append(keys, ch.Key)
		if !ch.Was.IsZero() {
			keys = append(keys, ch.Was)
		}
		for i := range ch.Fields {
			if l.Fresh.Column(ch.Fields[i].Field) < 0 {
				return &MissingField{l.Fresh.Name, ch.Fields[i].Field}
			}
		}
	}
	if err := l.walk(keys); err != nil {
		return err
	}
	few := &FewKnown{Table: l.Fresh.Name}
	l.old = map[record.Key]record.Record{}
	for _, ch := range l.Changes {
		if ch.Act == changeset.Delete {
			l.old[l.Of.Key(ch.Key)] = ch.Record
		}
		if ch.Act != changeset.Add {
			few.Of++
			if _, there := l.now[l.Of.Key(ch.Key)]; there {
				few.Known++
			}
		}
	}
	if 2*few.Known < few.Of && !l.Others {
		return few
	}
	return nil
}

// walk goes through the newer records once, and keeps those that are asked for and where they
// stand.
func (l *layer) walk(keys []record.Key) error {
	cols, err := csv.KeyColumns(l.Fresh, l.Key)
	if err != nil {
		return err
	}
	wanted := make(map[string]record.Key, len(keys))
	for _, k := range keys {
		one := l.Of.Key(k)
		wanted[one.Encoding()] = one
	}
	l.now, l.at = map[record.Key]record.Record{}, map[record.Key]span{}
	l.whole = l.Fresh.Comma == ',' && l.Fresh.Found.Format == "csv" && l.Fresh.Found.Newline != "cr" && !l.Fresh.Built
	alike := l.Of.OneForm()
	next := l.Fresh.Body
	var enc []byte
	return csv.Each(context.Background(), l.Fresh, func(r *csv.Line) error {
		start, end, after := r.At()
		l.whole = l.whole && start == next // no blank rows between
		next = after
		enc = r.AppendKey(enc[:0], cols)
		k, asked := wanted[string(enc)]
		if !alike {
			k, asked = wanted[l.Of.Key(record.KeyOf(enc)).Encoding()]
		}
		if _, twice := l.now[k]; asked && !twice {
			l.now[k], l.at[k] = r.Record(), span{start, end, after}
		}
		return nil
	})
}

// span is where a row stands in the bytes of its table, and where the next one starts.
type span struct{ start, end, next int }

// named is a change with the keys of new records in the place of what these went by.
func (l *layer) named(ch *changeset.Change) *changeset.Change {
	if len(l.Keys) == 0 {
		return ch
	}
	n := *ch
	n.Fields, n.Record = slices.Clone(ch.Fields), ch.Record.Clone()
	for i := range n.Fields {
		n.Fields[i].To, _ = schema.Named(n.Fields[i].To, l.Keys)
	}
	for i := range n.Record {
		n.Record[i].Value, _ = schema.Named(n.Record[i].Value, l.Keys)
	}
	return &n
}

func (l *layer) lay(ch *changeset.Change) {
	k := l.Of.Key(ch.Key)
	now, there := l.now[k]
	h := &hold{old: ch, fields: map[string]bool{}}
	l.holds[ch.ID] = h
	switch {
	case ch.Act == changeset.Add:
		l.layAdd(ch, now, there, h)
	case ch.Act == changeset.Delete && !there:
		l.Settled++
	case ch.Act == changeset.Delete:
		l.layDelete(ch, now, h)
	case !there:
		l.lost = append(l.lost, ch)
	default:
		l.layAmend(ch, now, h)
	}
}

// layAmend writes the fields that the copy changed. One that others changed meanwhile, to
// something else, is held.
func (l *layer) layAmend(ch *changeset.Change, now record.Record, h *hold) {
	get := now.Finder()
	leaves := l.now[l.Of.Key(ch.Was)].Finder() // of a key change: the record that gets the key
	k := l.Of.Key(ch.Key)
	laid := *ch
	laid.Fields = nil
	h.old = &laid
	for i := range ch.Fields {
		v, _ := get(ch.Fields[i].Field)
		f := ch.Fields[i].Without(func(to record.Value) bool { return l.Of.Equal(ch.Fields[i].Field, v, to) })
		if f == nil {
			l.Settled++
			continue
		}
		laid.Fields = append(laid.Fields, *f)
		moved := !l.Of.Equal(f.Field, v, f.From)
		if moved {
			l.moved(ch.Key, f.Field, f.From, v, f.To)
		}
		if !ch.Was.IsZero() {
			if theirs, has := leaves(f.Field); !has || !l.Of.Equal(f.Field, theirs, f.To) {
				moved = true
				l.moved(ch.Was, f.Field, f.To, theirs, f.To)
			}
		}
		h.fields[f.Field] = moved
		if l.set[k] == nil {
			l.set[k] = map[string]record.Value{}
		}
		l.set[k][f.Field] = f.To
	}
}

// moved says the three values of a field.
func (l *layer) moved(key record.Key, field string, was, now, wanted record.Value) {
	f := changeset.MovedOn.Finding("%s: %s was %s, is %s now, and is to be %s", key, field, was.Quoted(), now.Quoted(), wanted.Quoted())
	f.Key, f.Column = key.String(), field
	l.find(f)
}

// layDelete leaves a record out; one that is no longer what was looked at is held.
func (l *layer) layDelete(ch *changeset.Change, now record.Record, h *hold) {
	l.gone[l.Of.Key(ch.Key)] = true
	if moved := l.changed(ch, now); len(moved) > 0 {
		h.whole = []string{changeset.MovedOn.Name}
		f := changeset.MovedOn.Finding("%s is to be deleted, and was changed: %s", ch.Key, strings.Join(moved, "; "))
		f.Key = ch.Key.String()
		l.find(f)
	}
}

// changed says what others made of a record that is to be deleted.
func (l *layer) changed(ch *changeset.Change, now record.Record) (moved []string) {
	for _, u := range append(l.Of.Unlikes(ch.Record, now, l.System), schema.Filled(ch.Record, now, l.Old.Heading, l.System)...) {
		moved = append(moved, fmt.Sprintf("%s was %s, is %s now", u.Field, u.Wanted.Quoted(), u.Real.Quoted()))
	}
	return moved
}

// layGone proposes to add records again that were amended and are gone, and holds that.
func (l *layer) layGone() error {
	if len(l.lost) == 0 {
		return nil
	}
	keys := make([]record.Key, len(l.lost))
	for i, ch := range l.lost {
		keys[i] = ch.Key
	}
	old, count, err := csv.LookupAll(l.Old, l.Key, keys, l.Of.Key)
	if err != nil {
		return err
	}
	for i, ch := range l.lost {
		f := changeset.GoneSince.Finding("%s is changed here, and is gone; approved, it is added again as the copy has it", ch.Key)
		f.Key = ch.Key.String()
		l.find(f)
		if count[i] == 0 {
			continue
		}
		r := old[i].Clone()
		for k := range ch.Fields {
			r.Set(ch.Fields[k].Field, ch.Fields[k].To)
		}
		l.adds = append(l.adds, r)
		l.holds[changeset.MakeID(l.Set, ch.Key, changeset.Add)] = &hold{whole: []string{changeset.GoneSince.Name}}
	}
	return nil
}

// layAdd adds a record. One whose key is taken by another is held, as the amends that would
// make that one of it. A record that gets another key keeps what became of it meanwhile.
func (l *layer) layAdd(ch *changeset.Change, now record.Record, there bool, h *hold) {
	if !there {
		l.adds = append(l.adds, l.renamed(ch, h))
		return
	}
	unlike := l.Of.Unlikes(ch.Record, now, l.System)
	if ch.Copies != nil && len(unlike) == 0 && len(ch.Copies.Sides) > 0 { // what another copy has is not there
		other, _, _ := ch.OfCopy(ch.Copies.Sides[0].Of[0])
		unlike = l.Of.Unlikes(other, now, l.System)
	}
	if len(unlike) == 0 {
		l.Settled++
		return
	}
	k := l.Of.Key(ch.Key)
	l.set[k] = map[string]record.Value{}
	var other []string
	for _, u := range unlike {
		l.set[k][u.Field] = u.Wanted
		other = append(other, fmt.Sprintf("%s is %s (wanted %s)", u.Field, u.Real.Quoted(), u.Wanted.Quoted()))
	}
	l.holds[changeset.MakeID(l.Set, ch.Key, changeset.Amend)] = &hold{whole: []string{changeset.KeyTaken.Name}}
	if ch.Copies != nil && len(ch.Copies.Sides) > 0 {
		other = append(other, "copies disagree about it: "+ch.In(""))
	}
	f := changeset.KeyTaken.Finding("%s was to be added, and is there now: %s", ch.Key, strings.Join(other, "; "))
	f.Key = ch.Key.String()
	l.find(f)
}

// renamed is a record that is added: of one that had another key, what the copy left alone is
// as it is now.
func (l *layer) renamed(ch *changeset.Change, h *hold) record.Record {
	r := ch.Record
	if ch.Was.IsZero() {
		return r
	}
	now, there := l.now[l.Of.Key(ch.Was)]
	if !there {
		h.whole = union(h.whole, []string{changeset.GoneSince.Name})
		f := changeset.GoneSince.Finding("%s gets the key %s here, and is gone; approved, it is added again as the copy has it", ch.Was, ch.Key)
		f.Key = ch.Key.String()
		l.find(f)
		return r
	}
	old := l.old[l.Of.Key(ch.Was)]
	r = r.Clone()
	was, is := old.Finder(), now.Finder()
	for _, f := range ch.Record {
		before, _ := was(f.Name)
		v, has := is(f.Name)
		switch {
		case !has || slices.Contains(l.Key, f.Name) || l.Of.Equal(f.Name, v, before):
		case l.Of.Equal(f.Name, f.Value, before):
			r.Set(f.Name, v)
		default:
			h.whole = union(h.whole, []string{changeset.MovedOn.Name})
			l.moved(ch.Was, f.Name, before, v, f.Value)
		}
	}
	for _, f := range now { // what the copy did not have
		if _, has := r.Get(f.Name); !has && old != nil {
			if _, had := was(f.Name); !had {
				r.Set(f.Name, f.Value)
			}
		}
	}
	return r
}

// row is what the row with an encoded key gets; nil is that it is left out.
func (l *layer) row(enc []byte) (set map[string]record.Value, changed bool) {
	if l.rows == nil {
		l.rows = make(map[string]map[string]record.Value, len(l.set)+len(l.gone))
		for k, set := range l.set {
			l.rows[k.Encoding()] = set
		}
		for k := range l.gone {
			l.rows[k.Encoding()] = nil
		}
	}
	if l.Of.OneForm() {
		set, changed = l.rows[string(enc)]
		return set, changed
	}
	set, changed = l.rows[l.Of.Key(record.KeyOf(enc)).Encoding()]
	return set, changed
}

// write writes the rows.
func (l *layer) write(ctx context.Context, w io.Writer) error {
	out := bufio.NewWriterSize(w, 1<<16)
	var line []byte
	end := func() error {
		_, err := out.Write(append(line, '\n'))
		line = line[:0]
		return err
	}
	cell := func(i int, v record.Value) {
		if i > 0 {
			line = append(line, ',')
		}
		if !v.IsNull() {
			line = csv.AppendCell(line, v.String(), ',', l.Fresh.Nulls && v.Blank())
		}
	}
	for i, h := range l.Fresh.Heading {
		cell(i, record.Text(h))
	}
	if err := end(); err != nil {
		return err
	}
	if err := l.writeRows(ctx, out, &line, cell, end); err != nil {
		return err
	}
	for _, r := range l.adds {
		get := r.Finder()
		for i, h := range l.Fresh.Heading {
			v, _ := get(h)
			cell(i, v)
		}
		if err := end(); err != nil {
			return err
		}
	}
	return out.Flush()
}

// writeRows writes the newer records: where their bytes are rows one after the other, all between
// two that change at once.
func (l *layer) writeRows(ctx context.Context, out *bufio.Writer, line *[]byte, cell func(int, record.Value), end func() error) error {
	row := func(set map[string]record.Value, value func(int) record.Value) error {
		for i, h := range l.Fresh.Heading {
			v, changed := set[h]
			if !changed {
				v = value(i)
			}
			cell(i, v)
		}
		return end()
	}
	if l.whole {
		return l.writeSpans(ctx, out, row)
	}
	cols, err := csv.KeyColumns(l.Fresh, l.Key)
	if err != nil {
		return err
	}
	var enc []byte
	return csv.Each(ctx, l.Fresh, func(r *csv.Line) error {
		enc = r.AppendKey(enc[:0], cols)
		set, changed := l.row(enc)
		switch {
		case changed && set == nil:
			return nil
		case !changed && l.Fresh.Comma == ',' && l.Fresh.Found.Format == "csv" && !l.Fresh.Built:
			*line = append(*line, r.Raw()...)
			return end()
		}
		return row(set, func(i int) record.Value { v, _ := r.Value(i); return v })
	})
}

// writeSpans is writeRows for bytes that are rows one after the other.
func (l *layer) writeSpans(ctx context.Context, out *bufio.Writer, row func(map[string]record.Value, func(int) record.Value) error) error {
	var changed []record.Key
	for k := range l.at {
		if _, set := l.set[k]; set || l.gone[k] {
			changed = append(changed, k)
		}
	}
	slices.SortFunc(changed, func(a, b record.Key) int { return l.at[a].start - l.at[b].start })
	data, from := l.Fresh.Data, l.Fresh.Body
	return table.Guard(func() error {
		for _, k := range changed {
			at := l.at[k]
			if _, err := out.Write(data[from:at.start]); err != nil {
				return err
			}
			if from = at.next; l.gone[k] {
				continue
			}
			cells := csv.Split(nil, data[at.start:at.end], ',')
			err := row(l.set[k], func(i int) record.Value {
				if i >= len(cells) {
					return record.Null()
				}
				v, _ := csv.Value(l.Fresh, cells[i])
				return v
			})
			if err != nil {
				return err
			}
		}
		if _, err := out.Write(data[from:]); err != nil {
			return err
		}
		if n := len(data); n > from && data[n-1] != '\n' && data[n-1] != '\r' {
			return out.WriteByte('\n')
		}
		return ctx.Err()
	})
}
