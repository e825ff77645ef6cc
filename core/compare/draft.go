package compare

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/judge"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// chunk is how many rows one worker takes at a time.
const chunk = 4096

// batch is what one worker made of a chunk.
type batch struct {
	changes []*changeset.Change
	places  []judge.Place // of the changes
	worn    []Cell        // cells that are not read as they are seen, where somebody asks for them
	lines   []byte        // the changes, encoded once they are judged
	tally   tally
	fates   []fate   // of each record of the chunk, where there are several copies
	parts   []*batch // of several copies, what each of them says
}

// tally counts what a worker saw.
type tally struct {
	unchanged, kept, skipped int
	blankKept                int                       // cells emptied in the copy and kept
	blanked                  int                       // cells emptied in the copy and held
	blankRow                 uint32                    // the file's
	refused                  [changeset.Delete + 1]int // acts that are not allowed
	listedAmended            []record.Key
	referred                 []referred
	problems                 layout.Tally
	following                changeset.Following
	wornTally
	copiesTally
}

// drafter makes drafts of changes of pairs of rows. It changes nothing of itself,
// so that the drafts can be made again where they are too many to be kept.
type drafter struct {
	*reading
	values map[int]map[uint64]uint32 // of unique fields: how many rows of the copy have a value
	named  map[string]bool           // the keys by which new records go, that values may name
}

// drafts prepares the making of drafts.
func (r *reading) drafts(ctx context.Context) (*drafter, error) {
	dr := &drafter{reading: r}
	if r.l == nil {
		return dr, nil
	}
	return dr, table.Guard(func() error {
		dr.nameNew()
		return dr.countValues(ctx)
	})
}

// nameNew lists the keys by which new records go, where the system gives them theirs.
func (dr *drafter) nameNew() {
	if !dr.l.Schema().Assigned() {
		return
	}
	dr.named = map[string]bool{}
	for _, j := range dr.adds {
		if k := dr.newKey(dr.copy.raw(j), j); schema.IsNew(k) {
			dr.named[k.String()] = true
		}
	}
}

// takeText reads the copy's text for a field as the layout says; one that names a new
// record is taken as it stands.
func (dr *drafter) takeText(fl *layout.Field, text string) (string, []layout.Problem) {
	if dr.named[text] {
		return text, nil
	}
	return fl.Take(text)
}

// each makes the drafts, chunk by chunk on all cores, and hands them to take in
// order: amends and deletes as the snapshot goes, adds as the copy. finish, if
// not nil, is called for each on the core that made it.
func (dr *drafter) each(ctx context.Context, finish func(*batch), take func(*batch) error) error {
	return inOrder(ctx, dr.o.Cores, dr.chunks, finish, take)
}

// inOrder has chunks submit work, does it on all cores, and hands what comes of it to take in
// the order in which it was submitted.
func inOrder(ctx context.Context, cores int, chunks func(context.Context, *pipeline) error, finish func(*batch), take func(*batch) error) error {
	g, ctx := errgroup.WithContext(ctx)
	p := &pipeline{queue: make(chan chan *batch, 2*cores), work: make(chan func(), cores), finish: finish}
	g.Go(func() error {
		defer close(p.queue)
		defer close(p.work)
		return chunks(ctx, p)
	})
	for range cores {
		g.Go(func() error {
			return table.Guard(func() error {
				for task := range p.work {
					task()
				}
				return nil
			})
		})
	}
	g.Go(func() error { return p.collect(ctx, take) })
	return g.Wait()
}

// pipeline hands chunks to workers and keeps the order of what comes back.
type pipeline struct {
	queue chan chan *batch // where each chunk's batch will come, in order
	work  chan func()
	// finish, if not nil, completes a batch where it was made.
	finish func(*batch)
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
		if p.finish != nil {
			p.finish(b)
		}
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
func (dr *drafter) chunks(ctx context.Context, p *pipeline) error {
	for lo := 0; lo < dr.snap.len(); lo += chunk {
		if err := p.submit(ctx, func(b *batch) { dr.records(b, lo, min(lo+chunk, dr.snap.len())) }); err != nil {
			return err
		}
	}
	for lo := 0; lo < len(dr.adds); lo += chunk {
		if err := p.submit(ctx, func(b *batch) { dr.additions(b, dr.adds[lo:min(lo+chunk, len(dr.adds))]) }); err != nil {
			return err
		}
	}
	return nil
}

// collect takes the batches in order.
func (p *pipeline) collect(ctx context.Context, take func(*batch) error) error {
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
func (dr *drafter) records(b *batch, lo, hi int) {
	d := differ{drafter: dr}
	if dr.copy != nil {
		d.same, d.order = dr.sameColumns(), dr.columnOrder()
	}
	if dr.several > 1 {
		b.fates = make([]fate, hi-lo)
	}
	for i := lo; i < hi; i++ {
		if i%64 == 0 && i+64 <= hi && b.fates == nil && dr.o.DeleteList == nil && dr.equal[i/64] == ^uint64(0) { // they are as they were
			b.tally.unchanged += 64
			i += 63
			continue
		}
		if (i-lo)%group == 0 && dr.copy != nil {
			dr.nextMates(i, min(i+group, hi))
		}
		if dr.o.DeleteList == nil && dr.mate[i] >= mateRow && dr.equal.has(uint32(i)) {
			b.tally.unchanged++
			if b.fates != nil {
				b.fates[i-lo] = fateUnchanged
			}
			continue
		}
		if b.fates == nil {
			d.record(b, uint32(i))
			continue
		}
		changes, kept := len(b.changes), b.tally.kept
		d.record(b, uint32(i))
		b.fates[i-lo] = dr.fateOf(i, len(b.changes) > changes, b.tally.kept > kept)
	}
}

// record makes what becomes of a record.
func (d *differ) record(b *batch, i uint32) {
	switch m := d.mate[i]; m {
	case mateNone:
		if d.copy != nil {
			d.lacking(b, i)
		} else {
			b.tally.unchanged++
		}
	case mateRepeat:
	case mateListed:
		d.delete(b, i, d.listHold)
	case mateApart:
		b.tally.kept++
	default:
		d.compare(b, i, m-mateRow)
	}
}

// nextMates brings the copy's rows for the records lo to hi close.
func (dr *drafter) nextMates(lo, hi int) byte {
	var rows [group]uint32
	n := 0
	for i := lo; i < hi; i++ {
		if m := dr.mate[i]; m >= mateRow && !dr.equal.has(uint32(i)) {
			rows[n] = m - mateRow
			n++
		}
	}
	return dr.copy.touch(rows[:n], true)
}

// lacking handles a record that the copy does not have.
func (dr *drafter) lacking(b *batch, i uint32) {
	switch {
	case dr.o.Missing == Ignore:
		b.tally.kept++
	default:
		dr.delete(b, i, dr.deleteHold)
	}
}

func (dr *drafter) delete(b *batch, i uint32, held []string) {
	if !dr.o.allows(changeset.Delete) {
		b.tally.refused[changeset.Delete]++
		b.tally.kept++
		return
	}
	raw := dr.snap.raw(i)
	ch := &changeset.Change{Act: changeset.Delete, Key: dr.snap.own(raw), Held: held}
	cells := csv.Split(nil, raw, dr.snap.img.Comma)
	for f, name := range dr.res.Fields {
		if v, there := csv.Value(dr.snap.img, cells[f]); there {
			ch.Record = append(ch.Record, record.Field{Name: name, Value: v})
		}
	}
	if dr.l != nil && len(dr.l.Rules) > 0 {
		dr.judgeDelete(b, ch, i)
	}
	dr.add(b, ch, judge.Place{Record: i, Row: judge.None})
}

// add takes the draft of a change in.
func (dr *drafter) add(b *batch, ch *changeset.Change, at judge.Place) {
	ch.ID = changeset.MakeID(dr.o.RecordSet, ch.Key, ch.Act)
	b.changes = append(b.changes, ch)
	b.places = append(b.places, at)
}

// differ compares pairs of rows; it keeps the room for their cells.
type differ struct {
	*drafter
	same     bool  // rows of equal bytes are equal records
	order    []int // of the copy's columns the snapshot's; nil where cells that are the same are not enough
	old, new csv.Row
}

// compare compares record i with row j of the copy.
func (d *differ) compare(b *batch, i, j uint32) {
	was, is := d.snap.raw(i), d.copy.raw(j)
	listed := d.o.DeleteList != nil && d.listed(d.snap.own(was))
	var fields []changeset.FieldChange
	kept := b.tally.blankKept
	if !d.same || !bytes.Equal(was, is) {
		d.old.Split(was, d.snap.img.Comma, 0)
		if d.order != nil && d.old.Same(is, d.copy.img.Comma, d.order) {
			is = nil
		}
	} else {
		is = nil
	}
	if is != nil {
		d.new.Split(is, d.copy.img.Comma, 0)
		fields = d.fields(b, i, j)
		if d.l != nil && len(fields) > 0 {
			d.judgeAmend(b, fields, j)
		}
	}
	switch {
	case len(fields) == 0 && listed:
		b.tally.skipped++
		d.delete(b, i, nil)
	case len(fields) == 0 && b.tally.blankKept > kept:
		b.tally.kept++
		b.tally.skipped++
	case len(fields) == 0:
		b.tally.unchanged++
	case !d.o.allows(changeset.Amend):
		b.tally.refused[changeset.Amend]++
		b.tally.kept++
		b.tally.skipped++
	default:
		ch := &changeset.Change{Act: changeset.Amend, Key: d.snap.own(was), Fields: fields}
		if d.evidence[i] {
			ch.Held = []string{changeset.KeyEvidence.Name}
		}
		if d.notLent != nil && !d.notLent.Has(int(i)) {
			ch.Held = append(ch.Held, changeset.NotLent.Name)
		}
		if listed {
			ch.Stop = []string{changeset.ListedAmended.Name}
			b.tally.listedAmended = append(b.tally.listedAmended, ch.Key)
		}
		d.add(b, ch, judge.Place{Record: i, Row: j})
	}
}

// columnOrder returns for each of the copy's columns the snapshot's that it is; nil where it has others, or where cells of equal bytes
// may have other values.
func (t *tables) columnOrder() []int {
	if t.tells || t.snap.img.Comma != t.copy.img.Comma || slices.Contains(t.always, true) {
		return nil
	}
	order := make([]int, len(t.copy.img.Heading))
	for c := range order {
		if order[c] = slices.Index(t.pair, c); order[c] < 0 {
			return nil
		}
	}
	return order
}

// sameColumns reports whether rows of equal bytes are equal records.
func (t *tables) sameColumns() bool {
	if t.snap.img.Comma != t.copy.img.Comma || slices.Contains(t.always, true) {
		return false
	}
	for f, col := range t.pair {
		if col >= 0 && col != f {
			return false
		}
	}
	return true
}

// fields returns the field changes of the pair whose cells stand in d.
func (d *differ) fields(b *batch, i, j uint32) []changeset.FieldChange {
	var fields []changeset.FieldChange
	for f, col := range d.pair {
		if col < 0 || (d.snap.form != nil || d.keyWorn) && slices.Contains(d.snap.keyCol, f) {
			continue
		}
		was, is := d.old.Cell(f), d.new.Cell(col)
		if bytes.Equal(was, is) && !d.always[f] {
			continue
		}
		name := d.res.Fields[f]
		if !d.nulls && !d.always[f] && bytes.Equal(csv.Unquote(was), csv.Unquote(is)) {
			continue
		}
		from, _ := csv.Value(d.snap.img, was)
		to, there := csv.Value(d.copy.img, is)
		// A field that the copy's record does not have is left untouched; where
		// two states of one set are compared, it was taken away.
		blank := from.Blank() && to.Blank()
		if !there && !d.o.SameOnly || blank && (!d.tells || from == to) || from == to && !d.always[f] {
			continue
		}
		fc := changeset.FieldChange{Edit: changeset.Edit{Field: name, From: from, To: to}}
		if blank { // null became the empty text, or the other way: nobody's wear, and nothing is lost
			fields = append(fields, fc)
			continue
		}
		if d.o.Wear && !d.readWorn(b, f, i, j, &fc) {
			continue
		}
		if d.field != nil && !d.takeValue(b, f, j, &fc) {
			continue
		}
		d.checkOld(b, i, j, col, &fc)
		if fc.To.Blank() {
			switch d.blank[f] {
			case Clear:
			case Ignore:
				b.tally.blankKept++
				continue
			default:
				fc.Held = []string{changeset.Blanked.Name}
				if b.tally.blanked == 0 {
					b.tally.blankRow = uint32(d.copy.rowOf(j, name))
				}
				b.tally.blanked++
			}
			d.clearTo(f, &fc)
		}
		fields = append(fields, fc)
	}
	return fields
}

// checkOld holds a change of which the copy says that something else was there.
func (d *differ) checkOld(b *batch, i, j uint32, col int, fc *changeset.FieldChange) {
	if d.tables.old == nil {
		return
	}
	cell, ok := csv.Cell(d.tables.old.raw(j), col, ',')
	said, there := csv.Value(d.tables.old.img, cell)
	if !ok || !there || d.o.Layout.Schema().Equal(fc.Field, said, fc.From) || said.Blank() && fc.From.Blank() {
		return
	}
	d.mark(b, fc, layout.Problem{Code: changeset.OldDiffers.Name, Field: fc.Field, Level: "warn",
		Text: fmt.Sprintf("%s: the list says that %s was there, the snapshot has %s, and it is to be %s", d.snap.key(i), said.Quoted(), fc.From.Quoted(), fc.To.Quoted())}, j)
}

// newKey is the key of a row that no record has. One without a key, where the
// system gives it, goes by its row.
func (dr *drafter) newKey(raw []byte, j uint32) record.Key {
	k := dr.copy.own(raw)
	if k.Blank() {
		file, row := dr.copy.img.Place(dr.copy.rowNumber(j))
		name := fmt.Sprint("row ", row)
		if dr.several > 1 || dr.copy.img.Sheets != nil {
			name += " of " + file
		}
		k = schema.NewKey(name)
	}
	return k
}

// additions makes the adds of the given rows of the copy.
func (dr *drafter) additions(b *batch, rows []uint32) {
	for _, j := range rows {
		if dr.copy.isNothing(j) {
			b.tally.skipped++
			continue
		}
		if !dr.o.allows(changeset.Add) {
			b.tally.refused[changeset.Add]++
			b.tally.skipped++
			continue
		}
		raw := dr.copy.raw(j)
		ch := &changeset.Change{Act: changeset.Add, Key: dr.newKey(raw, j)}
		isNew := dr.l.Schema().Assigned() && schema.IsNew(ch.Key)
		cells := csv.Split(nil, raw, dr.copy.img.Comma)
		for f, col := range dr.pair {
			if col < 0 || isNew && f == dr.snap.keyCol[0] || dr.o.AddFields != nil && !slices.Contains(dr.o.AddFields, dr.res.Fields[f]) {
				continue
			}
			if v, there := csv.Value(dr.copy.img, cells[col]); there {
				ch.Record = append(ch.Record, record.Field{Name: dr.res.Fields[f], Value: v})
			}
		}
		if dr.lentLost {
			ch.Held = []string{changeset.LentLost.Name}
		}
		if dr.o.Wear {
			dr.readAdd(b, ch, j)
		}
		if dr.l != nil {
			dr.judgeAdd(b, ch, j)
		}
		dr.add(b, ch, judge.Place{Record: judge.None, Row: j})
	}
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
	t.referred = append(t.referred, o.referred...)
	t.problems.Merge(&o.problems)
	t.following.Merge(&o.following)
	t.wornTally.merge(&o.wornTally)
	t.copiesTally.merge(&o.copiesTally)
}
