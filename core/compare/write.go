package compare

import (
	"context"
	"fmt"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/table"
	"paletwin/core/words"
)

// writer finishes the drafts: each is marked with what was judged, encoded,
// counted and handed on.
type writer struct {
	*judgement
	sink Sink
	sum  tally // of all workers
	took moves // what the changes do to sums
}

// write hands the changes to the sink and completes the result.
func (jd *judgement) write(ctx context.Context, sink Sink) error {
	wr := &writer{judgement: jd, sink: sink, took: moves{}}
	if err := wr.all(ctx); err != nil {
		return err
	}
	wr.res.Records.Unchanged += wr.alike()
	wr.report()
	if err := wr.checkAll(ctx); err != nil {
		return err
	}
	wr.res.Findings = wr.found.All()
	wr.sum.following.Tell(wr.res.Findings)
	return table.Guard(func() error { return wr.totals(ctx) })
}

// all writes the drafts that were kept, or makes them anew.
func (wr *writer) all(ctx context.Context) error {
	if wr.kept == nil {
		return wr.each(ctx, wr.finish, wr.take)
	}
	for k, b := range wr.kept {
		wr.finish(b)
		if err := wr.take(b); err != nil {
			return err
		}
		wr.kept[k] = nil
	}
	return ctx.Err()
}

// finish puts what was judged on the changes of a batch, has them judged from
// outside, and encodes them. Several goroutines call it.
func (wr *writer) finish(b *batch) {
	for k, ch := range b.changes {
		wr.mark(ch, b.places[k])
	}
	wr.encode(b)
}

// encode is finish for changes that are marked.
func (wr *writer) encode(b *batch) {
	for _, ch := range b.changes {
		wr.refer(ch, &b.tally)
		b.tally.following.Count(ch)
		if wr.o.Judge != nil {
			wr.o.Judge(ch)
		}
		if !wr.o.Unencoded {
			b.lines = changeset.AppendLine(b.lines, ch)
		}
	}
}

// take adds a worker's batch to the result and hands it to the sink.
func (wr *writer) take(b *batch) error {
	wr.note(b)
	for _, ch := range b.changes {
		wr.res.Changes.Count(ch)
		if ch.Act != changeset.Delete || len(ch.Held)+len(ch.Stop) == 0 {
			wr.took.take(ch)
		}
	}
	if wr.sink == nil || len(b.changes) == 0 {
		return nil
	}
	return wr.sink.WriteEncoded(b.lines, b.changes)
}

// note adds what a worker saw to the result.
func (wr *writer) note(b *batch) {
	r, t := wr.res, &b.tally
	r.Records.Unchanged += t.unchanged
	r.Records.Kept += t.kept
	r.Records.Skipped += t.skipped
	r.Records.StoppedRecords += t.stopped
	r.Records.Against += t.against
	wr.sum.add(t)
	for _, x := range b.worn {
		if file, row := wr.copy.img.Place(x.Row); wr.several > 1 || wr.copy.img.Sheets != nil {
			x.File, x.Row = file, row
		}
		wr.o.Worn(x)
	}
}

// report makes the findings that are known once all pairs were seen, and
// puts everything in its order.
func (wr *writer) report() {
	r, t := wr.res, &wr.sum
	r.Changes.Sort(r.Fields)
	if t.blanked > 0 {
		f := changeset.Blanked.Finding("%s emptied in the copy; the changes are held", words.Count(t.blanked, "cell"))
		f.Count, f.Row = t.blanked, int(t.blankRow)
		wr.find(f, wr.copy.img.Name, "")
	}
	if t.blankKept > 0 {
		f := changeset.BlankKept.Finding("%s empty in the copy; the snapshot's values stand", words.Count(t.blankKept, "cell"))
		f.Count = t.blankKept
		wr.find(f, wr.copy.img.Name, "")
	}
	for _, a := range []changeset.Act{changeset.Amend, changeset.Add, changeset.Delete} {
		if n := t.refused[a]; n > 0 {
			f := changeset.NotAllowed.Finding("the copy would %s %s, which is not allowed here", a, words.Count(n, "record"))
			f.Count = n
			wr.find(f, "", "")
		}
	}
	wr.reportWear(&t.wornTally)
	wr.reportProblems(&t.problems)
	wr.reportBulk()
	wr.reportReferred(t.referred)
	for _, k := range t.listedAmended {
		f := changeset.ListedAmended.Finding("%s is on the delete list and amended in the copy", k)
		f.Key = k.String()
		wr.find(f, wr.o.DeleteList.Name, "")
	}
}

// checkAll looks at all of the copy's values.
func (wr *writer) checkAll(ctx context.Context) error {
	if wr.l == nil || wr.copy == nil || !wr.o.CheckAll {
		return nil
	}
	r, err := wr.l.Check(ctx, wr.copy.img)
	if err != nil {
		return err
	}
	for _, f := range r.Found {
		text := changeset.Unchecked.Finding("%s: %s", f.Field, f.Text)
		text.Count = f.Count
		if len(f.Rows) > 0 {
			wr.findRows(text, wr.copy.img.Name, f.Field, f.Rows)
		}
	}
	return nil
}

// reportProblems makes findings of what is wrong with values.
func (wr *writer) reportProblems(t *layout.Tally) {
	for p := range t.All() {
		f := changeset.Finding{Code: p.Code, Level: changeset.Level(p.Level), Scope: changeset.OfField, Text: p.Text, Count: p.Count}
		if p.Field == "" {
			f.Scope = changeset.OfRecord
		}
		if p.Text == "" {
			f.Text = wr.columnWords(p.Field, p.Count)
		}
		if len(p.Keys) > 0 {
			f.Key = p.Keys[0]
			f.Text += ": " + strings.Join(p.Keys, ", ")
			if p.Count > len(p.Keys) {
				f.Text += fmt.Sprintf(" and %d more", p.Count-len(p.Keys))
			}
		}
		if len(p.Rows) == 0 {
			wr.find(f, "", p.Field)
		} else {
			wr.findRows(f, wr.copy.img.Name, p.Field, p.Rows)
		}
	}
}
