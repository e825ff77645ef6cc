package catchup

import (
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/words"
)

// Kept is what an editor goes on with: the newer records, with the edits that were made to a copy
// of the old ones.
type Kept struct {
	Own     map[record.Key]*Own // what is edited, by the newer records' keys; new records by their own
	Gone    map[record.Key]bool // records that were taken out of the copy, by the newer records' keys
	Records int                 // records with edits that go on
	Moved   int                 // of these, ones that others changed meanwhile in the same fields
	Settled int                 // edits that are there already
	Left    []string            // what does not go on, in sentences
}

// Own is what was edited of a record.
type Own struct {
	Values    record.Record
	Edits     []string // in words: "depot: D05, was D02"
	Meanwhile []string // what others made of the same fields since
}

// Keep lays edits on newer records for a person who goes on editing. It holds nothing: what others
// did meanwhile is said beside. An edit of a record that is gone, a new record whose key is taken,
// and a record that was taken out and that others changed are left, and told.
func Keep(in *Input) (*Kept, error) {
	l := &layer{Input: in, Laid: &Laid{holds: map[changeset.ID]*hold{}}}
	if err := l.look(); err != nil {
		return nil, err
	}
	k := &Kept{Own: map[record.Key]*Own{}, Gone: map[record.Key]bool{}}
	for _, ch := range in.Changes {
		now, there := l.now[l.Of.Key(ch.Key)]
		switch {
		case ch.Act == changeset.Amend && there:
			k.amend(l, ch, now)
		case ch.Act == changeset.Amend:
			k.left("%s was edited (%s), and is gone", ch.Key, said(ch.Fields))
		case ch.Act == changeset.Add && there:
			k.taken(l, ch, now)
		case ch.Act == changeset.Add:
			h := new(hold)
			own := &Own{Values: l.renamed(ch, h), Edits: []string{"a new record"}}
			if !ch.Was.IsZero() {
				own.Edits = []string{fmt.Sprintf("it had the key %s", ch.Was)}
			}
			k.Own[ch.Key] = own
			k.Records++
		case there:
			k.out(l, ch, now)
		default:
			k.Settled++
		}
	}
	slices.Sort(k.Left)
	return k, nil
}

func (k *Kept) left(format string, args ...any) {
	k.Left = append(k.Left, fmt.Sprintf(format, args...))
}

// said lists what fields were to become.
func said(fields []changeset.FieldChange) string {
	var all []string
	for i := range fields {
		all = append(all, fields[i].Field+" "+fields[i].To.Quoted())
	}
	return words.List(all)
}

// its is a record's own key.
func (l *layer) its(r record.Record) record.Key {
	parts := make([]string, len(l.Key))
	for i, name := range l.Key {
		v, _ := r.Get(name)
		parts[i] = v.String()
	}
	return record.NewKey(parts...)
}

func (k *Kept) amend(l *layer, ch *changeset.Change, now record.Record) {
	own := new(Own)
	get := now.Finder()
	for i := range ch.Fields {
		f := &ch.Fields[i]
		v, _ := get(f.Field)
		if l.Of.Equal(f.Field, v, f.To) {
			k.Settled++
			continue
		}
		own.Values = append(own.Values, record.Field{Name: f.Field, Value: f.To})
		own.Edits = append(own.Edits, fmt.Sprintf("%s: %s, was %s", f.Field, f.To.Quoted(), f.From.Quoted()))
		if !l.Of.Equal(f.Field, v, f.From) {
			own.Meanwhile = append(own.Meanwhile, fmt.Sprintf("%s: %s", f.Field, v.Quoted()))
		}
	}
	if len(own.Values) == 0 {
		return
	}
	k.Own[l.its(now)] = own
	if k.Records++; len(own.Meanwhile) > 0 {
		k.Moved++
	}
}

// taken leaves a new record whose key another has.
func (k *Kept) taken(l *layer, ch *changeset.Change, now record.Record) {
	unlike := l.Of.Unlikes(ch.Record, now, l.System)
	if len(unlike) == 0 {
		k.Settled++
		return
	}
	var all []string
	for _, u := range unlike {
		all = append(all, fmt.Sprintf("%s %s, there %s", u.Field, u.Wanted.Quoted(), u.Real.Quoted()))
	}
	k.left("%s was new, and is there now with other values: %s", ch.Key, strings.Join(all, "; "))
}

// out takes a record out again.
func (k *Kept) out(l *layer, ch *changeset.Change, now record.Record) {
	if moved := l.changed(ch, now); len(moved) > 0 {
		k.left("%s was taken out, and was changed by others, so that it is there again: %s", ch.Key, strings.Join(moved, "; "))
		return
	}
	k.Gone[l.its(now)] = true
}
