package compare

import (
	"context"
	"fmt"
	"runtime"
	"slices"

	"github.com/zeebo/xxh3"

	"paletwin/core/changeset"
	"paletwin/core/judge"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/wear"
	"paletwin/core/words"
)

// RunCopies compares several copies with one snapshot, and gives what all of them change to
// sink as one: equal changes once, those of different fields of a record together, and where
// copies disagree what each of them has, which is held. Adds stand in the order of their keys.
// The copies' images have names that tell them apart; their order is the caller's, and what
// comes of them depends on it only where names are listed. Errors are as those of Run.
func RunCopies(ctx context.Context, snapshot *table.Image, copies []*table.Image, o Options, sink Sink) (*Result, error) {
	if len(copies) < 2 {
		return Run(ctx, snapshot, append(copies, nil)[0], o, sink)
	}
	if o.Cores <= 0 {
		o.Cores = runtime.GOMAXPROCS(0)
	}
	jt := new(joint)
	own := o
	own.Findings = nil
	for _, m := range copies {
		if err := jt.part(ctx, snapshot, m, len(copies), own); err != nil {
			return nil, err
		}
	}
	jt.combine(snapshot, o)
	if err := jt.judge(ctx); err != nil {
		return nil, err
	}
	if o.Counted != nil {
		edited := make([]int, len(copies))
		for c, p := range jt.parts {
			edited[c] = p.res.Records.Edited
		}
		o.Counted(jt.snap.len(), edited)
	}
	return jt.res, jt.write(ctx, sink)
}

// joint are several comparisons with one snapshot, each of a copy. What it is made of itself is
// the judgement on all of them, which has no copy of its own.
type joint struct {
	*judgement
	parts []*judgement

	links  map[string]string              // of each link that is joined with another the other one
	renews map[uint32]map[record.Key]bool // the keys that copies give a record
	rekeys map[record.Key]bool            // keys that one record got of several
	clash  map[string]map[uint64]bool     // values of unique fields that copies give to several records
	many   bool                           // too many records are missing from copies
	fresh  bool                           // drafts are made anew, so that those that are kept stay as they are
	added  []addition
}

// combine makes what all copies have together.
func (jt *joint) combine(snapshot *table.Image, o Options) {
	t := newTables(snapshot, o)
	p := jt.parts[0]
	t.snap, t.layoutFields = p.snap, p.layoutFields
	t.res.Records.Snapshot, t.res.Sample = p.snap.len(), p.res.Sample
	jt.judgement = &judgement{drafter: &drafter{reading: &reading{pairs: &pairs{tables: t}}}}
}

// part compares one copy by itself.
func (jt *joint) part(ctx context.Context, snapshot, m *table.Image, several int, o Options) error {
	if o.Memory > 0 {
		o.Memory = max(o.Memory-jt.holds(), o.Memory/int64(2*several))
	}
	t := newTables(snapshot, o)
	if t.several = several; len(jt.parts) > 0 {
		t.first = jt.parts[0].tables
	}
	dr, err := t.draftsOf(ctx, snapshot, m)
	if err != nil {
		return err
	}
	jd := &judgement{drafter: dr}
	jt.parts = append(jt.parts, jd)
	return jd.judgeSlips(ctx)
}

// holds is how many bytes the comparisons so far keep for each record and row.
func (jt *joint) holds() (n int64) {
	const perRow, perMate = 3, 5
	for _, p := range jt.parts {
		n += perRow*int64(p.copy.len()) + perMate*int64(p.snap.len())
	}
	return n
}

// judge judges all changes together.
func (jt *joint) judge(ctx context.Context) error {
	err := table.Guard(func() error {
		jt.joinLinks()
		jt.listAdds()
		return nil
	})
	if err != nil {
		return err
	}
	jt.judgeMissing()
	if err := jt.clashes(ctx); err != nil {
		return err
	}
	if err := jt.judgeLimits(ctx); err != nil {
		return err
	}
	if slices.ContainsFunc(jt.parts, func(p *judgement) bool { return p.deletes() > 0 }) {
		return jt.askReferrers(ctx)
	}
	return nil
}

// judgeMissing holds the deletes that were asked for, if too many records are not in one copy or
// another.
func (jt *joint) judgeMissing() {
	n := 0
	for i := range jt.snap.len() {
		for _, p := range jt.parts {
			if p.mate[i] == mateNone && p.o.Missing == Asked {
				n++
				break
			}
		}
	}
	if n*tooManyMissing <= jt.snap.len() || jt.o.AllMissing || !jt.o.allows(changeset.Delete) {
		return
	}
	jt.many = true
	jt.res.DeletesHeld = fmt.Sprintf("%s of the snapshot are not in one copy or another, more than one in %d; their deletes are held", words.Count(n, "record"), tooManyMissing)
	f := changeset.MissingMany.Finding("%s", jt.res.DeletesHeld)
	f.Count = n
	jt.find(f, "", "")
}

// joinLinks finds the links of several copies that have a change in common, and the records that
// copies give different keys.
func (jt *joint) joinLinks() {
	jt.links, jt.renews, jt.rekeys = map[string]string{}, map[uint32]map[record.Key]bool{}, map[record.Key]bool{}
	byRecord, byKey := map[uint32]string{}, map[record.Key]string{}
	for _, p := range jt.parts {
		for at, name := range p.slips.Links() {
			if at.Row == judge.None {
				byRecord[at.Record] = jt.join(byRecord[at.Record], name)
				continue
			}
			k := jt.one(p.newKey(p.copy.raw(at.Row), at.Row))
			byKey[k] = jt.join(byKey[k], name)
			if was, moved := p.slips.Was(at.Row); moved {
				if jt.renews[was] == nil {
					jt.renews[was] = map[record.Key]bool{}
				}
				jt.renews[was][k] = true
			}
		}
	}
	for _, keys := range jt.renews {
		if len(keys) > 1 {
			for k := range keys {
				jt.rekeys[k] = true
			}
		}
	}
}

// join joins two links, and returns the name that both have now.
func (jt *joint) join(a, b string) string {
	a, b = jt.link(a), jt.link(b)
	if a == "" || a == b {
		return b
	}
	if b < a {
		a, b = b, a
	}
	jt.links[b] = a
	return a
}

// link is the name that a link has after others were joined with it.
func (jt *joint) link(name string) string { return joined(jt.links, name) }

// joined is the name that a link has, where links gives those that became others.
func joined(links map[string]string, name string) string {
	for {
		other, is := links[name]
		if !is {
			return name
		}
		name = other
	}
}

// one is the key that all forms of a key share.
func (jt *joint) one(k record.Key) record.Key { return jt.o.Layout.Schema().Key(k) }

// clashes finds values of unique fields that different copies give to different records.
func (jt *joint) clashes(ctx context.Context) error {
	unique := map[string]*layout.Field{}
	for f, fl := range jt.field {
		if fl != nil && fl.Unique {
			unique[jt.res.Fields[f]] = fl
		}
	}
	if len(unique) == 0 || jt.l == nil {
		return nil
	}
	jt.clash = map[string]map[uint64]bool{}
	type giver struct {
		part int
		key  record.Key
	}
	given := map[string]map[uint64]giver{} // the first that gives a value
	for name := range unique {
		jt.clash[name], given[name] = map[uint64]bool{}, map[uint64]giver{}
	}
	give := func(field string, v record.Value, by giver) {
		fl := unique[field]
		if fl == nil || v.Blank() {
			return
		}
		h := xxh3.HashString(fl.Canonical(v.String()))
		if other, there := given[field][h]; !there {
			given[field][h] = by
		} else if other.part != by.part && other.key != by.key { // of one copy alone, that copy says so
			jt.clash[field][h] = true
		}
	}
	for c, p := range jt.parts {
		err := p.each(ctx, nil, func(b *batch) error {
			for n, ch := range b.changes {
				by := giver{c, jt.one(ch.Key)}
				for i := range ch.Fields {
					give(ch.Fields[i].Field, ch.Fields[i].To, by)
				}
				if ch.Act != changeset.Add {
					continue
				}
				if p.copy.own(p.copy.raw(b.places[n].Row)).Blank() { // known by what it has
					by.key = record.NewKey("", string(changeset.AppendRecord(nil, ch.Record)))
				}
				for _, f := range ch.Record {
					give(f.Name, f.Value, by)
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// judgeLimits counts the changes where a limit may be reached.
func (jt *joint) judgeLimits(ctx context.Context) error {
	var all []judge.Limits
	if jt.l != nil {
		all = append(all, judge.Limits{Limits: &jt.l.Limits, Whose: "the layout", What: "the copies"})
	}
	if jt.o.Limits != nil {
		all = append(all, judge.Limits{Limits: jt.o.Limits, Whose: jt.o.LimitsOf, What: "the copies"})
	}
	if !slices.ContainsFunc(all, func(l judge.Limits) bool { return l.Amend.Set || l.Add.Set || l.Delete.Set }) {
		return nil
	}
	n := judge.Numbers{Records: jt.snap.len()}
	jt.fresh = true
	defer func() { jt.fresh = false }()
	err := jt.each(ctx, nil, func(b *batch) error {
		for _, ch := range b.changes {
			switch ch.Act {
			case changeset.Amend:
				n.Amend++
			case changeset.Add:
				n.Add++
			case changeset.Delete:
				n.Delete++
			}
		}
		return nil
	})
	for _, l := range all {
		over, findings := l.Over(n, jt.o.allows)
		for _, a := range over {
			jt.over[a] = true
		}
		for _, f := range findings {
			jt.find(f, "", "")
		}
	}
	return err
}

// each makes all changes, chunk by chunk on all cores, and hands them to take in order.
func (jt *joint) each(ctx context.Context, finish func(*batch), take func(*batch) error) error {
	return inOrder(ctx, jt.o.Cores, func(ctx context.Context, p *pipeline) error {
		for n, lo := 0, 0; lo < jt.snap.len(); n, lo = n+1, lo+chunk {
			if err := p.submit(ctx, func(b *batch) { jt.records(b, n, lo, min(lo+chunk, jt.snap.len())) }); err != nil {
				return err
			}
		}
		rest := jt.added
		for len(rest) > 0 && rest[0].key == "" { // these have no order of their own
			rest = rest[1:]
		}
		if nameless := jt.added[:len(jt.added)-len(rest)]; len(nameless) > 0 {
			if err := p.submit(ctx, func(b *batch) { jt.nameless(b, nameless) }); err != nil {
				return err
			}
		}
		for len(rest) > 0 {
			n := min(chunk, len(rest))
			for n < len(rest) && rest[n].key == rest[n-1].key {
				n++
			}
			some := rest[:n]
			if err := p.submit(ctx, func(b *batch) { jt.additions(b, some) }); err != nil {
				return err
			}
			rest = rest[n:]
		}
		return nil
	}, finish, take)
}

// records makes the amends and deletes of the records lo to hi, the n-th chunk of them.
func (jt *joint) records(b *batch, n, lo, hi int) {
	b.parts = make([]*batch, len(jt.parts))
	at := make([]int, len(jt.parts))
	for c, p := range jt.parts {
		if x := &b.parts[c]; p.kept != nil && !jt.fresh {
			*x, p.kept[n] = p.kept[n], nil
		} else {
			*x = new(batch)
			p.records(*x, lo, hi)
		}
		for k, ch := range b.parts[c].changes {
			p.slips.Mark(ch, b.parts[c].places[k])
		}
	}
	var of []draft
	for i := lo; i < hi; i++ {
		of = of[:0]
		f := fateAbsent
		for c, x := range b.parts {
			for at[c] < len(x.changes) && x.places[at[c]].Record == uint32(i) {
				of = append(of, draft{c, x.changes[at[c]]})
				at[c]++
			}
			f = max(f, x.fates[i-lo])
		}
		switch f {
		case fateChanged:
			b.changes = append(b.changes, jt.merge(b, uint32(i), of)...)
		case fateStopped:
			b.tally.stopped++
		case fateKept, fateAbsent:
			b.tally.kept++
		default:
			b.tally.unchanged++
		}
	}
}

// fate is what becomes of a record by a copy; of those of several copies the greatest counts.
type fate uint8

const (
	fateAbsent    fate = iota // the copy is a part that does not have it
	fateUnchanged             // nothing
	fateKept                  // nothing, though it differs
	fateStopped               // it is not known, since rows cannot be used
	fateChanged
)

// fateOf says what became of record i.
func (dr *drafter) fateOf(i int, changed, kept bool) fate {
	switch m := dr.mate[i]; {
	case changed:
		return fateChanged
	case m == mateRepeat:
		return fateStopped
	case kept && (m == mateApart || m == mateNone && dr.narrow):
		return fateAbsent
	case kept:
		return fateKept
	}
	return fateUnchanged
}

// write hands the changes to the sink and completes the result.
func (jt *joint) write(ctx context.Context, sink Sink) error {
	wr := &writer{judgement: jt.judgement, sink: sink, took: moves{}}
	of := make([]*writer, len(jt.parts))
	for c, p := range jt.parts {
		of[c] = &writer{judgement: p}
	}
	err := jt.each(ctx, func(b *batch) {
		for _, ch := range b.changes {
			jt.mark(ch, judge.Place{})
			if ch.Act == changeset.Delete && jt.many && len(ch.Held)+len(ch.Stop) == 0 {
				hold(&ch.Held, changeset.MissingMany)
			}
		}
		wr.encode(b)
	}, func(b *batch) error {
		for c, x := range b.parts {
			of[c].note(x)
			for _, ch := range x.changes {
				of[c].res.Changes.Count(ch)
			}
		}
		return wr.take(b)
	})
	if err != nil {
		return err
	}
	if err := jt.report(ctx, of, &wr.sum); err != nil {
		return err
	}
	wr.reportProblems(&wr.sum.problems)
	wr.reportReferred(wr.sum.referred)
	jt.res.Findings = jt.found.All()
	wr.sum.following.Tell(jt.res.Findings)
	return table.Guard(func() error { return wr.totals(ctx) })
}

// hold adds a code to others, if it is not there.
func hold(codes *[]string, code changeset.Code) {
	*codes = together(*codes, []string{code.Name})
}

// report makes the findings of each copy and then those on all of them, and says what each had.
func (jt *joint) report(ctx context.Context, of []*writer, t *tally) error {
	r := jt.res
	r.Changes.Sort(r.Fields)
	r.Wear.ByKind = map[wear.Kind]int{}
	told := map[string]bool{} // of lists, which every copy is held against
	for _, wr := range of {
		wr.report()
		if err := wr.checkAll(ctx); err != nil {
			return err
		}
		x := wr.res
		for _, f := range wr.found.All() {
			if said := f.Code + "\x00" + f.File + "\x00" + f.Text; f.Key == "" || !told[said] {
				told[said] = true
				jt.found.Add(f)
			}
		}
		r.Copies = append(r.Copies, CopyFound{Name: wr.copy.img.Name, Records: x.Records, Changes: x.Changes.Counts, Wear: x.Wear, Headings: x.Headings})
		r.Records.Edited += x.Records.Edited
		r.Records.Skipped += x.Records.Skipped
		r.Records.Stopped += x.Records.Stopped
		r.Records.Blank += x.Records.Blank
		r.Wear.Cells += x.Wear.Cells
		r.Wear.Held += x.Wear.Held
		for kind, n := range x.Wear.ByKind {
			r.Wear.ByKind[kind] += n
		}
		if r.DeletesHeld == "" {
			r.DeletesHeld = x.DeletesHeld
		}
	}
	jt.reportDisputes(t)
	return nil
}
