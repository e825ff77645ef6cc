package run

import (
	"context"
	"iter"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/target"
)

// inverse is what undoes runs: changes, one a record, in the order of their keys. Each is made when it is asked for, since there may be a
// million; what is held of them is kept.
type inverse struct {
	set     string
	asked   units // what is undone
	records []undoneRecord
	runs    []int                     // they belong to, newest first
	was     map[record.Key]record.Key // of records that stood under another key: that one's, and theirs
	held    map[int]holds             // by the places of records
	links   map[string][]string       // links of which something is held, and why
	made    changeset.Change          // the change that was made last
}

// undoneRecord names a record that is undone.
type undoneRecord struct {
	key record.Key
	act changeset.Act // the way back
	id  changeset.ID  // of the steps
}

// holds are the codes for which a change is held, and fields of it.
type holds struct {
	whole  []string
	fields map[string][]string
}

// inverse returns the changes that undo what stands and is asked for. Fields of one record
// that several runs wrote come together, and so does what is linked.
func (b *Undo) inverse(set string, done units) *inverse {
	x := &inverse{set: set, asked: b.asked(done), was: map[record.Key]record.Key{}, held: map[int]holds{}, links: map[string][]string{}}
	x.records = make([]undoneRecord, 0, x.asked.len())
	for id, d := range x.asked.records() {
		x.records = append(x.records, undoneRecord{d.step.Key, d.step.Act.Inverse(), id})
		if !d.step.Was().IsZero() {
			x.was[d.step.Was()] = d.step.Key
		}
		for p := &d; p != nil; p = p.more {
			if !slices.Contains(x.runs, int(p.step.run)) {
				x.runs = append(x.runs, int(p.step.run))
			}
		}
	}
	slices.SortFunc(x.records, func(a, b undoneRecord) int { return compareKeys(a.key, b.key, a.act, b.act) })
	slices.SortFunc(x.runs, func(a, b int) int { return b - a })
	return x
}

// change makes change i, without what is held of it. It holds until another is made.
func (x *inverse) change(i int) *changeset.Change {
	r := x.records[i]
	d, _ := x.asked.at(r.id)
	c := &x.made
	*c = changeset.Change{ID: changeset.MakeID(x.set, r.key, r.act), Act: r.act, Key: r.key, Linked: d.step.Linked(), Fields: c.Fields[:0], Record: c.Record[:0]}
	for p := &d; p != nil; p = p.more {
		p.step.undo(c, p.fields)
	}
	if r.act != changeset.Delete { // a record that stood under another key goes back to it
		c.Was = x.was[r.key]
	}
	return c
}

// all gives the changes, held as far as they are.
func (x *inverse) all() iter.Seq[*changeset.Change] {
	return func(yield func(*changeset.Change) bool) {
		for i := range x.records {
			c := x.change(i)
			if x.holdAgain(i, c); !yield(c) {
				return
			}
		}
	}
}

// holdAgain holds a change that was made anew as it, and what it is linked with, was held.
func (x *inverse) holdAgain(i int, c *changeset.Change) {
	h := x.held[i]
	if c.Held = h.whole; len(c.Held) == 0 && c.Linked != "" {
		c.Held = x.links[c.Linked]
	}
	for k := range c.Fields {
		c.Fields[k].Held = h.fields[c.Fields[k].Field]
	}
}

// holdMoved holds what is no longer as the runs left it, with what is linked with that.
func (x *inverse) holdMoved(ctx context.Context, tgt target.Target, sc *schema.Schema, system []string) (findings []changeset.Finding, err error) {
	err = eachState(ctx, tgt, len(x.records), func(i int) record.Key { return x.records[i].key }, func(i int, now *target.State) error {
		c := x.change(i)
		if f := holdMoved(c, now, sc, system); f != nil {
			findings = append(findings, *f)
			x.hold(i, c)
		}
		return nil
	})
	return findings, err
}

// hold keeps what is held of a change.
func (x *inverse) hold(i int, c *changeset.Change) {
	h := holds{whole: c.Held}
	within := map[string][]string{}
	for k := range c.Fields {
		if f := &c.Fields[k]; len(f.Held) > 0 {
			x.links[c.Linked], within[f.Linked] = f.Held, f.Held
		}
	}
	for k := range c.Fields {
		f := &c.Fields[k]
		if f.Linked != "" && len(f.Held) == 0 {
			f.Held = within[f.Linked]
		}
		if len(f.Held) > 0 {
			if h.fields == nil {
				h.fields = map[string][]string{}
			}
			h.fields[f.Field] = f.Held
		}
	}
	if len(c.Held) > 0 {
		x.links[c.Linked] = c.Held
	}
	x.held[i] = h
}

// asked returns the units that are asked for, with those that they are linked
// with.
func (b *Undo) asked(done units) units {
	if b.Run == 0 && len(b.Records) == 0 && len(b.Fields) == 0 {
		return done
	}
	type within struct {
		id   changeset.ID
		link string
	}
	named := func(u unit, d *Step) bool {
		return (b.Run == 0 || int(d.run) == b.Run) && (len(b.Records) == 0 || b.names(d.Key)) && (len(b.Fields) == 0 || slices.Contains(b.Fields, u.field))
	}
	links, fields := map[string]bool{}, map[within]bool{}
	for u, d := range done.all() {
		if !named(u, d) {
			continue
		}
		if d.Linked() != "" {
			links[d.Linked()] = true
		}
		if link := d.linkOf(u.field); link != "" {
			fields[within{u.id, link}] = true
		}
	}
	return done.where(func(u unit, d *Step) bool {
		return named(u, d) || links[d.Linked()] || fields[within{u.id, d.linkOf(u.field)}]
	})
}
