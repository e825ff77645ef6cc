package compare

import (
	"bytes"
	"context"
	"slices"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// chunk is how many rows one worker takes at a time.
const chunk = 4096

// batch is what one worker made of a chunk.
type batch struct {
	lines   []byte
	changes []*changeset.Change
	places  []place // of the changes
	tally   tally
}

// tally counts what a worker saw.
type tally struct {
	unchanged, kept, skipped int
	blankKept                int // cells emptied in the copy and kept
	blanked                  int // cells emptied in the copy and held
	blankRow                 uint32
	refused                  [changeset.Delete + 1]int // acts that are not allowed
	listedAmended            []record.Key
	problems                 problems
	wornTally
}

// emit makes the changes, chunk by chunk on all cores, and hands them to the
// sink in order: amends and deletes as the snapshot goes, adds as the copy.
func (c *comparison) emit(ctx context.Context) error {
	if c.drafted == nil {
		return c.emitTo(ctx, c.take)
	}
	for _, b := range c.drafted {
		for k, ch := range b.changes {
			b.finish(c, ch, b.places[k])
		}
		if err := c.take(b); err != nil {
			return err
		}
	}
	c.drafted = nil
	return ctx.Err()
}

// emitTo makes the changes and hands them to take, in order.
func (c *comparison) emitTo(ctx context.Context, take func(*batch) error) error {
	g, ctx := errgroup.WithContext(ctx)
	p := &pipeline{queue: make(chan chan *batch, 2*c.o.Cores), work: make(chan func(), c.o.Cores)}
	g.Go(func() error {
		defer close(p.queue)
		defer close(p.work)
		return c.chunks(ctx, p)
	})
	for range c.o.Cores {
		g.Go(func() error {
			return table.Guard(func() error {
				for task := range p.work {
					task()
				}
				return nil
			})
		})
	}
	g.Go(func() error { return c.collect(ctx, p, take) })
	return g.Wait()
}

// pipeline hands chunks to workers and keeps the order of what comes back.
type pipeline struct {
	queue chan chan *batch // where each chunk's batch will come, in order
	work  chan func()
}

// submit hands one chunk over.
func (p *pipeline) submit(ctx context.Context, f func(*batch)) error {
	out := make(chan *batch, 1)
	select {
	case p.queue <- out:
	case <-ctx.Done():
		return ctx.Err()
	}
	task := func() {
		b := new(batch)
		f(b)
		out <- b
	}
	select {
	case p.work <- task:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// chunks submits all of the work.
func (c *comparison) chunks(ctx context.Context, p *pipeline) error {
	for lo := 0; lo < c.snap.len(); lo += chunk {
		if err := p.submit(ctx, func(b *batch) { c.records(b, lo, min(lo+chunk, c.snap.len())) }); err != nil {
			return err
		}
	}
	for lo := 0; lo < len(c.adds); lo += chunk {
		if err := p.submit(ctx, func(b *batch) { c.additions(b, c.adds[lo:min(lo+chunk, len(c.adds))]) }); err != nil {
			return err
		}
	}
	return nil
}

// collect takes the batches in order.
func (c *comparison) collect(ctx context.Context, p *pipeline, take func(*batch) error) error {
	for out := range p.queue {
		select {
		case b := <-out:
			if err := take(b); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// records makes the amends and deletes of the records lo to hi.
func (c *comparison) records(b *batch, lo, hi int) {
	d := differ{c: c, same: c.copy != nil && c.sameColumns()}
	for i := lo; i < hi; i++ {
		if (i-lo)%group == 0 && c.copy != nil {
			c.nextMates(i, min(i+group, hi))
		}
		switch m := c.mate[i]; m {
		case mateNone:
			if c.copy != nil {
				c.lacking(b, uint32(i))
			} else {
				b.tally.unchanged++
			}
		case mateRepeat:
		case mateListed:
			b.delete(c, uint32(i), nil)
		default:
			if c.o.DeleteList == nil && c.equal.has(uint32(i)) {
				b.tally.unchanged++
				continue
			}
			d.pair(b, uint32(i), m-mateRow)
		}
	}
}

// nextMates brings the copy's rows for the records lo to hi close.
func (c *comparison) nextMates(lo, hi int) byte {
	var rows [group]uint32
	n := 0
	for i := lo; i < hi; i++ {
		if m := c.mate[i]; m >= mateRow && !c.equal.has(uint32(i)) {
			rows[n] = m - mateRow
			n++
		}
	}
	return c.copy.touch(rows[:n], true)
}

// lacking handles a record that the copy does not have.
func (c *comparison) lacking(b *batch, i uint32) {
	switch {
	case c.o.Missing == Ignore:
		b.tally.kept++
	default:
		b.delete(c, i, c.deleteHold)
	}
}

func (b *batch) delete(c *comparison, i uint32, held []string) {
	if !c.o.allows(changeset.Delete) {
		b.tally.refused[changeset.Delete]++
		b.tally.kept++
		return
	}
	raw := c.snap.raw(i)
	ch := &changeset.Change{Act: changeset.Delete, Key: c.snap.own(raw), Held: held}
	cells := csv.Split(nil, raw, c.snap.img.Comma)
	for f, name := range c.res.Fields {
		if v, there := csv.Value(c.snap.img, cells[f]); there {
			ch.Record = append(ch.Record, record.Field{Name: name, Value: v})
		}
	}
	if c.l != nil && len(c.l.Rules) > 0 {
		c.judgeDelete(b, ch, i)
	}
	b.add(c, ch, place{i, noRow})
}

// place is where a change was found; either may be noRow.
type place struct{ record, row uint32 }

// add takes a change in. While slips are looked for it is only drafted.
func (b *batch) add(c *comparison, ch *changeset.Change, at place) {
	ch.ID = changeset.MakeID(c.o.RecordSet, ch.Key, ch.Act)
	if c.over[ch.Act] {
		ch.Held = append(ch.Held[:len(ch.Held):len(ch.Held)], changeset.OverLimit.Name)
	}
	b.changes = append(b.changes, ch)
	b.places = append(b.places, at)
	if !c.drafting {
		b.finish(c, ch, at)
	}
}

// finish puts slips on a change, has it judged, and writes it.
func (b *batch) finish(c *comparison, ch *changeset.Change, at place) {
	c.slips.mark(ch, at)
	if c.o.Judge != nil {
		c.o.Judge(ch)
	}
	b.lines = changeset.AppendLine(b.lines, ch)
}

// differ compares pairs of rows; it keeps the room for their cells.
type differ struct {
	c        *comparison
	same     bool // rows of equal bytes are equal records
	old, new csv.Row
}

// pair compares record i with row j of the copy.
func (d *differ) pair(b *batch, i, j uint32) {
	c := d.c
	was, is := c.snap.raw(i), c.copy.raw(j)
	listed := c.o.DeleteList != nil && c.listed(c.snap.own(was))
	var fields []changeset.FieldChange
	kept := b.tally.blankKept
	if !d.same || !bytes.Equal(was, is) {
		d.old.Split(was, c.snap.img.Comma, 0)
		if d.same && d.old.Same(is, c.copy.img.Comma) {
			is = nil
		}
	} else {
		is = nil
	}
	if is != nil {
		d.new.Split(is, c.copy.img.Comma, 0)
		fields = d.fields(b, i, j)
		if c.l != nil && len(fields) > 0 {
			d.judgeAmend(b, fields, j)
		}
	}
	switch {
	case len(fields) == 0 && listed:
		b.tally.skipped++
		b.delete(c, i, nil)
	case len(fields) == 0 && b.tally.blankKept > kept:
		b.tally.kept++
		b.tally.skipped++
	case len(fields) == 0:
		b.tally.unchanged++
	case !c.o.allows(changeset.Amend):
		b.tally.refused[changeset.Amend]++
		b.tally.kept++
		b.tally.skipped++
	default:
		ch := &changeset.Change{Act: changeset.Amend, Key: c.snap.own(was), Fields: fields}
		if c.evidence[i] {
			ch.Held = []string{changeset.KeyEvidence.Name}
		}
		if c.notLent != nil && !c.notLent.Has(int(i)) {
			ch.Held = append(ch.Held, changeset.NotLent.Name)
		}
		if listed {
			ch.Stop = []string{changeset.ListedAmended.Name}
			b.tally.listedAmended = append(b.tally.listedAmended, ch.Key)
		}
		b.add(c, ch, place{i, j})
	}
}

// sameColumns reports whether rows of equal bytes are equal records.
func (c *comparison) sameColumns() bool {
	if c.snap.img.Comma != c.copy.img.Comma || slices.Contains(c.always, true) {
		return false
	}
	for f, col := range c.pair {
		if col >= 0 && col != f {
			return false
		}
	}
	return true
}

// fields returns the field changes of the pair whose cells stand in d.
func (d *differ) fields(b *batch, i, j uint32) []changeset.FieldChange {
	c := d.c
	var fields []changeset.FieldChange
	for f, col := range c.pair {
		if col < 0 || (c.snap.form != nil || c.keyWorn) && slices.Contains(c.snap.keyCol, f) {
			continue
		}
		was, is := d.old.Cell(f), d.new.Cell(col)
		if bytes.Equal(was, is) && !c.always[f] {
			continue
		}
		name := c.res.Fields[f]
		if !c.nulls && !c.always[f] && bytes.Equal(csv.Unquote(was), csv.Unquote(is)) {
			continue
		}
		from, _ := csv.Value(c.snap.img, was)
		to, there := csv.Value(c.copy.img, is)
		// A field that the copy's record does not have is left untouched; where
		// two states of one set are compared, it was taken away.
		if !there && !c.o.SameOnly || from.Blank() && to.Blank() || from == to && !c.always[f] {
			continue
		}
		fc := changeset.FieldChange{Field: name, From: from, To: to}
		if c.o.Wear && !c.readWorn(b, f, i, j, &fc) {
			continue
		}
		if c.field != nil && !c.takeValue(b, f, j, &fc) {
			continue
		}
		if fc.To.Blank() {
			switch c.blank[f] {
			case Clear:
			case Ignore:
				b.tally.blankKept++
				continue
			default:
				fc.Held = []string{changeset.Blanked.Name}
				if b.tally.blanked == 0 {
					b.tally.blankRow = j
				}
				b.tally.blanked++
			}
			c.clearTo(f, &fc)
		}
		fields = append(fields, fc)
	}
	return fields
}

// additions makes the adds of the given rows of the copy.
func (c *comparison) additions(b *batch, rows []uint32) {
	for _, j := range rows {
		if !c.o.allows(changeset.Add) {
			b.tally.refused[changeset.Add]++
			b.tally.skipped++
			continue
		}
		raw := c.copy.raw(j)
		ch := &changeset.Change{Act: changeset.Add, Key: c.copy.own(raw)}
		cells := csv.Split(nil, raw, c.copy.img.Comma)
		for f, col := range c.pair {
			if col < 0 || c.o.AddFields != nil && !slices.Contains(c.o.AddFields, c.res.Fields[f]) {
				continue
			}
			if v, there := csv.Value(c.copy.img, cells[col]); there {
				ch.Record = append(ch.Record, record.Field{Name: c.res.Fields[f], Value: v})
			}
		}
		if c.lentLost {
			ch.Held = []string{changeset.LentLost.Name}
		}
		if c.o.Wear {
			c.readAdd(b, ch, j)
		}
		if c.l != nil {
			c.judgeAdd(b, ch, j)
		}
		b.add(c, ch, place{noRow, j})
	}
}

// take adds a worker's batch to the result and hands it to the sink.
func (c *comparison) take(b *batch) error {
	r, t := c.res, &b.tally
	r.Records.Unchanged += t.unchanged
	r.Records.Kept += t.kept
	r.Records.Skipped += t.skipped
	for _, ch := range b.changes {
		r.Changes.Count(ch)
		if ch.Act != changeset.Delete || len(ch.Held)+len(ch.Stop) == 0 {
			c.moved.take(ch)
		}
	}
	c.sum.add(t)
	if c.sink == nil || len(b.changes) == 0 {
		return nil
	}
	return c.sink.WriteEncoded(b.lines, b.changes)
}

// add merges another tally in.
func (t *tally) add(o *tally) {
	if t.blanked == 0 {
		t.blankRow = o.blankRow
	}
	t.blanked += o.blanked
	t.blankKept += o.blankKept
	for a, n := range o.refused {
		t.refused[a] += n
	}
	t.listedAmended = append(t.listedAmended, o.listedAmended...)
	t.problems.merge(&o.problems)
	t.wornTally.merge(&o.wornTally)
}

// report makes the findings that are known once all pairs were seen, and
// puts everything in its order.
func (c *comparison) report() {
	r, t := c.res, &c.sum
	r.Changes.Sort(r.Fields)
	if t.blanked > 0 {
		f := changeset.Blanked.Finding("%s emptied in the copy; the changes are held", words.Count(t.blanked, "cell"))
		f.Count, f.Row = t.blanked, c.copy.rowNumber(t.blankRow)
		c.find(f, c.copy.img.Name, "")
	}
	if t.blankKept > 0 {
		f := changeset.BlankKept.Finding("%s empty in the copy; the snapshot's values stand", words.Count(t.blankKept, "cell"))
		f.Count = t.blankKept
		c.find(f, c.copy.img.Name, "")
	}
	for _, a := range []changeset.Act{changeset.Amend, changeset.Add, changeset.Delete} {
		if n := t.refused[a]; n > 0 {
			f := changeset.NotAllowed.Finding("the copy would %s %s, which is not allowed here", a, words.Count(n, "record"))
			f.Count = n
			c.find(f, "", "")
		}
	}
	c.reportWear(&t.wornTally)
	c.reportProblems(&t.problems)
	c.reportBulk()
	for _, k := range t.listedAmended {
		f := changeset.ListedAmended.Finding("%s is on the delete list and amended in the copy", k)
		f.Key = k.String()
		c.find(f, c.o.DeleteList.Name, "")
	}
}
