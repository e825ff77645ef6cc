package compare

import (
	"fmt"
	"slices"
	"strings"

	"github.com/zeebo/xxh3"

	"paletwin/core/changeset"
	"paletwin/core/judge"
	"paletwin/core/record"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// draft is what one copy says of a record.
type draft struct {
	part int
	*changeset.Change
}

// copiesTally counts what there is only of several copies.
type copiesTally struct {
	stopped  int          // records that rows are about that cannot be used
	against  int          // records that some copies amend and others lack
	disputes disputes     // what copies disagree about
	rekeyed  []record.Key // records that copies give different keys
}

func (t *copiesTally) merge(o *copiesTally) {
	t.stopped += o.stopped
	t.against += o.against
	t.disputes.merge(o.disputes)
	t.rekeyed = append(t.rekeyed, o.rekeyed...)
}

// disputes are records of which copies do not say the same.
type disputes map[about]*dispute

// about is what copies disagree about, and in which field.
type about struct {
	kind  disputed
	field string
}

// disputed is a way to disagree.
type disputed int

const (
	byRecord  disputed = iota // an edit against a delete, two unlike adds
	byValue                   // several values of one field
	byUnique                  // one value of several records, where each has its own
	byRule                    // a rule that only what copies change together breaks
	elsewhere                 // a record that one lacks and another has as it was
)

type dispute struct {
	n        int
	examples []string
	keys     []string
}

func (d *disputes) note(kind disputed, field, key, example string) {
	if *d == nil {
		*d = disputes{}
	}
	at := about{kind, field}
	x := (*d)[at]
	if x == nil {
		x = new(dispute)
		(*d)[at] = x
	}
	if x.n++; len(x.examples) < maxExamples {
		x.examples, x.keys = append(x.examples, example), append(x.keys, key)
	}
}

func (d *disputes) merge(o disputes) {
	for at, x := range o {
		for k, example := range x.examples {
			d.note(at.kind, at.field, x.keys[k], example)
		}
		(*d)[at].n += x.n - len(x.examples)
	}
}

func (jt *joint) name(part int) string { return jt.parts[part].copy.img.Name }

// merge makes one of what copies say of record i: an amend, or a delete, or both where they
// disagree.
func (jt *joint) merge(b *batch, i uint32, of []draft) []*changeset.Change {
	var amends, deletes []draft
	listed := false
	for _, d := range of {
		if d.Act == changeset.Delete {
			deletes = append(deletes, d)
		} else {
			amends = append(amends, d)
			listed = listed || slices.Contains(d.Stop, changeset.ListedAmended.Name)
		}
	}
	if listed { // the list asks for the deletes, and they are said to be in the way
		deletes = nil
	}
	var all []*changeset.Change
	if len(amends) > 0 {
		all = append(all, jt.mergeAmends(b, i, amends))
	}
	if len(deletes) > 0 {
		all = append(all, jt.mergeDeletes(b, i, deletes))
	}
	if len(all) < 2 {
		if ch := all[0]; slices.Contains(ch.Held, changeset.Missing.Name) && ch.Copies != nil && len(ch.Copies.There) > 0 {
			b.tally.disputes.note(elsewhere, "", ch.Key.String(), fmt.Sprintf("%s is not in %s and is in %s", ch.Key, words.List(ch.Copies.Of), words.List(ch.Copies.There)))
		}
		return all
	}
	b.tally.against++
	amend, del := all[0], all[1]
	hold(&amend.Stop, changeset.CopiesDisagree)
	hold(&del.Stop, changeset.CopiesDisagree)
	amend.Copies = &changeset.Copies{Of: amend.Sources(), There: del.Copies.Of}
	b.tally.disputes.note(byRecord, "", amend.Key.String(), fmt.Sprintf("%s is amended in %s and not in %s", amend.Key, words.List(amend.Copies.Of), words.List(del.Copies.Of)))
	return all
}

// whole makes one of what copies say of a change as a whole.
func (jt *joint) whole(of []draft) *changeset.Change {
	ch := *of[0].Change
	ch.Fields, ch.Record = nil, nil
	ch.Linked = jt.link(ch.Linked)
	for _, d := range of[1:] {
		ch.Held, ch.Stop, ch.Noted = together(ch.Held, d.Held), together(ch.Stop, d.Stop), together(ch.Noted, d.Noted)
		if ch.Linked == "" {
			ch.Linked = jt.link(d.Linked)
		}
		if ch.Was.IsZero() {
			ch.Was = d.Was
		}
	}
	return &ch
}

// together are the codes of both, each once.
func together(a, b []string) []string {
	all := slices.Clip(a)
	for _, code := range b {
		if !slices.Contains(all, code) {
			all = append(all, code)
		}
	}
	return all
}

// names are the copies that drafts come from.
func (jt *joint) names(of []draft) []string {
	var all []string
	for _, d := range of {
		all = append(all, jt.name(d.part))
	}
	return all
}

// mergeAmends makes an amend of those of several copies.
func (jt *joint) mergeAmends(b *batch, i uint32, of []draft) *changeset.Change {
	ch := jt.whole(of)
	at := make([]int, len(of))
	links := map[string]string{} // links of fields of this record, that copies share
	for _, name := range jt.res.Fields {
		var same []claim
		for k, d := range of {
			if at[k] < len(d.Fields) && d.Fields[at[k]].Field == name {
				same = append(same, claim{d.part, &d.Fields[at[k]]})
				at[k]++
			}
		}
		if len(same) > 0 {
			ch.Fields = append(ch.Fields, jt.mergeField(b, ch.Key, same, links))
		}
	}
	for f := range ch.Fields {
		ch.Fields[f].Linked = joined(links, ch.Fields[f].Linked)
	}
	if jt.l != nil && len(of) > 1 {
		jt.judgeAmend(b, ch, i)
	}
	return ch
}

// claim is what a copy makes of a field.
type claim struct {
	part int
	*changeset.FieldChange
}

// mergeField makes one field change of those of several copies. The first value stands first;
// others are its sides.
func (jt *joint) mergeField(b *batch, key record.Key, same []claim, links map[string]string) changeset.FieldChange {
	f := *same[0].FieldChange
	f.Copies = &changeset.Copies{Of: []string{jt.name(same[0].part)}}
	for _, c := range same[1:] {
		if f.Linked == "" {
			f.Linked = c.Linked
		} else if a, b := joined(links, f.Linked), joined(links, c.Linked); b != "" && a != b {
			links[b] = a
		}
		name := jt.name(c.part)
		if jt.equal(f.Field, f.To, c.To, c.part) {
			f.Copies.Of = append(f.Copies.Of, name)
			f.Held, f.Stop, f.Noted = together(f.Held, c.Held), together(f.Stop, c.Stop), together(f.Noted, c.Noted)
			continue
		}
		n := slices.IndexFunc(f.Copies.Sides, func(s changeset.Side) bool { return jt.equal(f.Field, s.To, c.To, c.part) })
		if n < 0 {
			f.Copies.Sides = append(f.Copies.Sides, changeset.Side{Of: []string{name}, To: c.To, Held: c.Held, Stop: c.Stop, Noted: c.Noted})
			continue
		}
		s := &f.Copies.Sides[n]
		s.Of = append(s.Of, name)
		s.Held, s.Stop, s.Noted = together(s.Held, c.Held), together(s.Stop, c.Stop), together(s.Noted, c.Noted)
	}
	if f.Disputed() {
		hold(&f.Stop, changeset.CopiesDisagree)
		b.tally.disputes.note(byValue, f.Field, key.String(), key.String()+" is "+f.In())
	}
	if n := jt.clash[f.Field]; n != nil && n[xxh3.HashString(jt.l.Field(f.Field).Canonical(f.To.String()))] {
		hold(&f.Stop, changeset.CopiesDisagree)
		b.tally.disputes.note(byUnique, f.Field, key.String(), fmt.Sprintf("%s gets %q in %s", key, f.To, words.List(f.Copies.Of)))
	}
	return f
}

// equal reports whether two copies have one value for a field, the second of them that of a part.
// Null and the empty text are one, unless that copy tells them apart.
func (jt *joint) equal(field string, a, b record.Value, part int) bool {
	return jt.o.Layout.Schema().Equal(field, a, b) || a.Blank() && b.Blank() && !jt.parts[part].tells
}

// judgeAmend applies the rules to a record as several copies would have it together; what they
// said of each alone counts for nothing then. A rule that only breaks together is something that
// the copies disagree about.
func (jt *joint) judgeAmend(b *batch, ch *changeset.Change, i uint32) {
	if len(jt.l.Rules) == 0 {
		return
	}
	rule := changeset.BrokenRule.Name
	had := map[string]bool{}
	for k := range ch.Fields {
		f := &ch.Fields[k]
		had[f.Field] = slices.Contains(f.Stop, rule) || slices.Contains(f.Held, rule)
		without := func(codes []string) []string {
			return slices.DeleteFunc(slices.Clone(codes), func(c string) bool { return c == rule })
		}
		f.Stop, f.Held = without(f.Stop), without(f.Held)
	}
	cells := csv.Split(nil, jt.snap.raw(i), jt.snap.img.Comma)
	old := func(f int) string {
		if jt.column[f] < 0 {
			return ""
		}
		v, _ := csv.Value(jt.snap.img, cells[jt.column[f]])
		return v.String()
	}
	for _, bad := range judge.Amended(jt.l, ch.Key, 0, changeset.Edits(ch.Fields), old) {
		f := ch.Field(bad.Field)
		if f == nil {
			continue
		}
		if bad.Level != "note" && !had[f.Field] {
			b.tally.disputes.note(byRule, f.Field, ch.Key.String(), fmt.Sprintf("%s: %s", ch.Key, bad.Text))
			hold(&f.Stop, changeset.CopiesDisagree)
			continue
		}
		switch bad.Level {
		case "stop":
			f.Stop = together(f.Stop, []string{bad.Code})
		case "warn":
			f.Held = together(f.Held, []string{bad.Code})
		}
	}
}

// judgeAdd says what a new record needs, and applies the rules to it, as copies have it
// together: what they said of each alone counts for nothing then.
func (jt *joint) judgeAdd(b *batch, ch *changeset.Change) {
	anew := []string{changeset.ValueNeeded.Name, changeset.BrokenRule.Name}
	had := slices.Concat(ch.Stop, ch.Held)
	without := func(codes []string) []string {
		return slices.DeleteFunc(slices.Clone(codes), func(c string) bool { return slices.Contains(anew, c) })
	}
	ch.Stop, ch.Held = without(ch.Stop), without(ch.Held)
	has := map[string]bool{}
	for _, f := range ch.Record {
		has[f.Name] = true
	}
	for _, bad := range append(jt.needed(has), judge.Whole(jt.l, ch.Act, ch.Key, 0, ch.Record)...) {
		into := b
		if slices.Contains(had, bad.Code) { // it was noted of a copy
			into = new(batch)
		}
		jt.markWhole(into, ch, bad, judge.None)
	}
}

// mergeDeletes makes a delete of those of several copies. Where another copy has the record as
// it was, that is held.
func (jt *joint) mergeDeletes(b *batch, i uint32, of []draft) *changeset.Change {
	ch := jt.whole(of)
	ch.Record = of[0].Record
	if jt.o.DeleteList != nil && jt.o.DeleteList.Has(ch.Key) {
		return ch // whatever the copies have
	}
	ch.Copies = &changeset.Copies{Of: jt.names(of)}
	for _, p := range jt.parts {
		if m := p.mate[i]; m >= mateRow || m == mateRepeat {
			ch.Copies.There = append(ch.Copies.There, p.copy.img.Name)
		}
	}
	if len(ch.Copies.There) > 0 && len(ch.Held)+len(ch.Stop) == 0 {
		hold(&ch.Held, changeset.Missing)
	}
	if len(jt.renews[i]) > 1 {
		hold(&ch.Stop, changeset.CopiesRekey)
		b.tally.rekeyed = append(b.tally.rekeyed, ch.Key)
	}
	return ch
}

// mergeAdds makes an add of those of several copies: a field that only some of them have is
// taken from these.
func (jt *joint) mergeAdds(b *batch, of []draft) *changeset.Change {
	ch := jt.whole(of)
	ch.Copies = new(changeset.Copies)
	unlike := make([]record.Record, len(of))
	for _, name := range jt.res.Fields {
		there := false
		var first record.Value
		for k, d := range of {
			v, has := d.Record.Get(name)
			switch {
			case has && !there:
				there, first = true, v
				ch.Record = append(ch.Record, record.Field{Name: name, Value: v})
			case has && !jt.equal(name, first, v, d.part):
				unlike[k] = append(unlike[k], record.Field{Name: name, Value: v})
			}
		}
	}
	ch.Held, ch.Stop, ch.Noted = of[0].Held, of[0].Stop, of[0].Noted
	for k, d := range of {
		if len(unlike[k]) == 0 {
			ch.Copies.Of = append(ch.Copies.Of, jt.name(d.part))
			ch.Held, ch.Stop, ch.Noted = together(ch.Held, d.Held), together(ch.Stop, d.Stop), together(ch.Noted, d.Noted)
			continue
		}
		n := slices.IndexFunc(ch.Copies.Sides, func(s changeset.Side) bool { return slices.Equal(s.Record, unlike[k]) })
		if n < 0 {
			n = len(ch.Copies.Sides)
			ch.Copies.Sides = append(ch.Copies.Sides, changeset.Side{Record: unlike[k], Held: d.Held, Stop: d.Stop, Noted: d.Noted})
		}
		x := &ch.Copies.Sides[n]
		x.Of = append(x.Of, jt.name(d.part))
		x.Held, x.Stop, x.Noted = together(x.Held, d.Held), together(x.Stop, d.Stop), together(x.Noted, d.Noted)
	}
	if len(ch.Copies.Sides) > 0 {
		hold(&ch.Stop, changeset.CopiesDisagree)
		b.tally.disputes.note(byRecord, "", ch.Key.String(), fmt.Sprintf("%s is added %s", ch.Key, ch.In("")))
	}
	for _, f := range ch.Record {
		if n := jt.clash[f.Name]; n != nil && !f.Value.Blank() && n[xxh3.HashString(jt.l.Field(f.Name).Canonical(f.Value.String()))] {
			hold(&ch.Stop, changeset.CopiesDisagree)
			b.tally.disputes.note(byUnique, f.Name, ch.Key.String(), fmt.Sprintf("%s gets %q in %s", ch.Key, f.Value, words.List(ch.Copies.Of)))
		}
	}
	if jt.l != nil && len(of) > 1 {
		jt.judgeAdd(b, ch)
	}
	if jt.rekeys[jt.one(ch.Key)] {
		hold(&ch.Stop, changeset.CopiesRekey)
	}
	return ch
}

// reportDisputes makes findings of what copies disagree about.
func (jt *joint) reportDisputes(t *tally) {
	for _, field := range append([]string{""}, jt.res.Fields...) {
		for kind := byRecord; kind <= elsewhere; kind++ {
			x := t.disputes[about{kind, field}]
			if x == nil {
				continue
			}
			f := changeset.CopiesDisagree.Finding("%s; %s", kind.words(x.n), more(x))
			if kind == elsewhere {
				f = changeset.Missing.Finding("%s; %s", kind.words(x.n), more(x))
			}
			if f.Count, f.Key = x.n, x.keys[0]; field == "" {
				f.Scope = changeset.OfRecord
			}
			jt.find(f, "", field)
		}
	}
	for _, k := range t.rekeyed {
		f := changeset.CopiesRekey.Finding("copies give %s different keys: change one of them, and compare again", k)
		f.Key = k.String()
		jt.find(f, "", "")
	}
}

// words say what copies disagree about in so many records.
func (d disputed) words(n int) string {
	one := [...]string{byRecord: "copies disagree about 1 record", byValue: "1 record has different values in different copies",
		byUnique:  "1 record gets a value that another copy gives another record",
		byRule:    "what copies change of 1 record breaks a rule together",
		elsewhere: "1 record is not in one copy and as it was in another, so that its delete is held"}
	many := [...]string{byRecord: "copies disagree about %s", byValue: "%s have different values in different copies",
		byUnique:  "%s get values that other copies give other records",
		byRule:    "what copies change of %s breaks a rule together",
		elsewhere: "%s are not in one copy and as they were in another, so that their deletes are held"}
	if n == 1 {
		return one[d]
	}
	return fmt.Sprintf(many[d], words.Count(n, "record"))
}

// more lists the examples.
func more(x *dispute) string {
	text := strings.Join(x.examples, "; ")
	if n := x.n - len(x.examples); n > 0 {
		text += fmt.Sprintf("; and %d more", n)
	}
	return text
}
