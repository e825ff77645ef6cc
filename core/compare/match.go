package compare

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"sort"

	"paletwin/core/changeset"
	"paletwin/core/record"
)

// match finds for each row of the copy the snapshot's record, and refuses a
// snapshot in which a key repeats.
func (c *comparison) match(ctx context.Context) error {
	c.mate = make([]uint32, c.snap.len())
	c.equal = newBits(c.snap.len())
	c.repeats = map[uint32][]uint32{}
	if c.snap.unsorted {
		if err := c.indexSnapshot(ctx); err != nil {
			return err
		}
	}
	if c.copy == nil {
		return nil
	}
	return c.matchCopy(ctx)
}

// indexSnapshot indexes all of the snapshot's rows; a repeated key is a
// refusal that names all rows with one.
func (c *comparison) indexSnapshot(ctx context.Context) error {
	x, twice, err := buildIndex(ctx, c.snap, c.o.Cores)
	if err != nil {
		return err
	}
	if len(twice) > 0 {
		return &Refusal{Code: KeyRepeat, File: c.snap.img.Name, Rows: c.snap.rowNumbers(twice),
			Text: fmt.Sprintf("the snapshot %s has the same key on several rows; the first is %s", c.snap.img.Name, c.snap.key(twice[0]))}
	}
	c.byKey = x
	return nil
}

const (
	// ahead is how many rows match looks ahead for the place where both
	// files are in step again, before it asks the index.
	ahead = 4
	// strays is the share of rows, as 1/n, that may be out of step before all
	// the others are looked up at once, on all cores.
	strays = 64
)

// matchCopy walks the copy in step with the snapshot while their keys keep
// matching. next is the record expected for the next row.
func (c *comparison) matchCopy(ctx context.Context) error {
	bad := c.copy.stopped()
	same := c.sameColumns()
	var key []byte
	next, n := uint32(0), uint32(c.snap.len())
	out := 0 // rows out of step
	for j := range uint32(c.copy.len()) {
		if len(bad) > 0 && bad[0] == j {
			bad = bad[1:]
			next++
			continue
		}
		raw := c.copy.raw(j)
		if same && next < n && bytes.Equal(c.snap.raw(next), raw) {
			if c.pairUp(next, j) {
				c.equal.set(next)
			}
			next++
			continue
		}
		key = c.copy.keyEncoding(key[:0], raw)
		i, ok := next, false
		for ; i < min(next+ahead, n) && !ok; i++ {
			ok = c.snap.hasKey(i, key)
		}
		i--
		if !ok {
			if out++; out > strays+c.copy.len()/strays {
				return c.matchRest(ctx, j, bad)
			}
			if i, ok = c.seek(key); !ok {
				c.add(j, hashOf(key))
				continue
			}
		}
		c.pairUp(i, j)
		next = i + 1
	}
	c.dropRepeatedAdds()
	return nil
}

// seek looks one key up: in the index, or, in a snapshot whose keys ascend
// and which needs no index, by halving.
func (c *comparison) seek(key []byte) (uint32, bool) {
	if c.byKey != nil {
		return c.byKey.find(hashOf(key), key)
	}
	want := key
	if len(c.snap.keyCol) == 1 {
		want = []byte(record.KeyOf(key).Parts()[0])
	}
	i := sort.Search(c.snap.len(), func(i int) bool {
		at, _ := c.snap.rowKey(c.snap.raw(uint32(i)))
		return bytes.Compare(at, want) >= 0
	})
	return uint32(i), i < c.snap.len() && c.snap.hasKey(uint32(i), key)
}

// matchRest looks up the rows from j on, all at once on all cores; bad are
// those among them that have a stop.
func (c *comparison) matchRest(ctx context.Context, j uint32, bad []uint32) error {
	if c.byKey == nil {
		if err := c.indexSnapshot(ctx); err != nil {
			return err
		}
	}
	found := make([]uint32, c.copy.len()-int(j)) // row + 1, or 0
	err := c.copy.ranges(ctx, c.o.Cores, int(j), func(lo, hi int) {
		c.lookUp(lo, hi, found[lo-int(j):])
	})
	if err != nil {
		return err
	}
	var key []byte
	for k, f := range found {
		r := j + uint32(k)
		switch {
		case len(bad) > 0 && bad[0] == r:
			bad = bad[1:]
		case f > 0:
			c.pairUp(f-1, r)
		default:
			key = c.copy.keyEncoding(key[:0], c.copy.raw(r))
			c.add(r, hashOf(key))
		}
	}
	c.dropRepeatedAdds()
	return nil
}

// lookUp finds the records of the copy's rows lo to hi, a group at a time:
// found gets the record + 1, or 0.
func (c *comparison) lookUp(lo, hi int, found []uint32) {
	var keys []byte
	var ends [group]int
	var hashes [group]uint32
	for from := lo; from < hi; from += group {
		n := min(group, hi-from)
		keys = keys[:0]
		for k := range n {
			start := len(keys)
			keys = c.copy.keyEncoding(keys, c.copy.rawKey(uint32(from+k)))
			ends[k], hashes[k] = len(keys), hashOf(keys[start:])
		}
		c.byKey.prepare(hashes[:n])
		start := 0
		for k := range n {
			if i, ok := c.byKey.find(hashes[k], keys[start:ends[k]]); ok {
				found[from+k-lo] = i + 1
			}
			start = ends[k]
		}
	}
}

// add notes that row j of the copy matches no record.
func (c *comparison) add(j, hash uint32) {
	if c.others == nil {
		c.others = newSlots(c.copy, 16)
	}
	if first, there := c.others.insert(j, hash); there {
		c.repeatAdd(first, j)
	} else {
		c.adds = append(c.adds, j)
	}
}

// stopped lists the copy's rows that have a stop on their key, in order.
func (s *side) stopped() []uint32 {
	bad := slices.Concat(s.noKey, s.short, s.long)
	slices.Sort(bad)
	return bad
}

// pairUp notes that row j of the copy is record i, or that it repeats it. It
// reports whether it is the first that is.
func (c *comparison) pairUp(i, j uint32) bool {
	c.matched++
	switch m := c.mate[i]; {
	case m == mateNone:
		c.mate[i] = j + mateRow
		return true
	case m == mateRepeat:
		c.repeats[i] = append(c.repeats[i], j)
	default:
		c.repeats[i] = []uint32{m - mateRow, j}
		c.mate[i] = mateRepeat
	}
	return false
}

// repeatAdd notes that row j has the key of row first, which no record has.
// Such groups are kept beside the snapshot's by a number beyond its records.
func (c *comparison) repeatAdd(first, j uint32) {
	g := uint32(c.snap.len()) + first
	if len(c.repeats[g]) == 0 {
		c.repeats[g] = []uint32{first}
	}
	c.repeats[g] = append(c.repeats[g], j)
}

func (c *comparison) dropRepeatedAdds() {
	n := uint32(c.snap.len())
	c.adds = slices.DeleteFunc(c.adds, func(j uint32) bool { return len(c.repeats[n+j]) > 0 })
}

// judgeFile decides, once keys are matched, whether the copy is a copy at
// all, what becomes of missing records, and what the delete list asks for.
func (c *comparison) judgeFile() error {
	if c.copy != nil {
		if err := c.judgeCopy(); err != nil {
			return err
		}
	}
	if c.o.DeleteList != nil {
		c.takeList()
	}
	if c.copy == nil {
		return nil
	}
	for _, m := range c.mate {
		if m == mateNone {
			c.missing++
		}
	}
	c.judgeMissing()
	return nil
}

func (c *comparison) judgeCopy() error {
	rows := c.copy.len()
	if 2*c.matched < rows || rows == 0 && c.snap.len() > 0 {
		text := fmt.Sprintf("%s is not a copy of %s: %d of its %s match", c.copy.img.Name, c.snap.img.Name, c.matched, count(rows, "row"))
		if !c.o.OtherRegister {
			return &Refusal{Code: NotACopy, File: c.copy.img.Name, Text: text}
		}
		c.find(changeset.OtherRegist.Finding("%s; compared because --other-register was given", text), c.copy.img.Name, "")
	}
	c.stops()
	return nil
}

// stops makes the findings on rows of the copy whose key cannot be used.
func (c *comparison) stops() {
	rec, name := &c.res.Records, c.copy.img.Name
	for _, bad := range []struct {
		rows []uint32
		code changeset.Code
		text string
	}{
		{c.copy.noKey, changeset.KeyBlank, "no key"},
		{c.copy.short, changeset.ShortRow, "fewer cells than there are headings"},
		{c.copy.long, changeset.LongRow, "filled cells beyond the last heading"},
	} {
		if len(bad.rows) == 0 {
			continue
		}
		rec.Stopped += len(bad.rows)
		f := bad.code.Finding("%s with %s: nothing is taken from there", count(len(bad.rows), "row"), bad.text)
		f.Count = len(bad.rows)
		c.findRows(f, name, c.copy.rowNumbers(bad.rows))
	}
	groups := make([]uint32, 0, len(c.repeats))
	for g := range c.repeats {
		groups = append(groups, g)
	}
	slices.SortFunc(groups, func(a, b uint32) int { return int(c.repeats[a][0]) - int(c.repeats[b][0]) })
	for _, g := range groups {
		rows := c.repeats[g]
		rec.Stopped += len(rows)
		if g < uint32(c.snap.len()) {
			rec.StoppedRecords++
		}
		key := c.copy.key(rows[0])
		f := changeset.Repeat.Finding("%s stands on %s of the copy: none of them is taken", key, count(len(rows), "row"))
		f.Count, f.Key = len(rows), key.String()
		c.findRows(f, name, c.copy.rowNumbers(rows))
	}
	if c.copy.blank > 0 {
		f := changeset.BlankRow.Finding("%s of the copy are blank and skipped", count(c.copy.blank, "row"))
		f.Count = c.copy.blank
		c.find(f, name, "")
	}
}

// findRows adds a finding about the given rows.
func (c *comparison) findRows(f changeset.Finding, file string, rows []int) {
	f.Row = rows[0]
	if len(rows) > 1 {
		f.Rows = rows[:min(len(rows), changeset.MaxRows)]
	}
	c.find(f, file, "")
}

// tooManyMissing is the share of records, as 1/n, beyond which deletes that
// were asked for are held all the same: a filtered file is not 500 deletions.
const tooManyMissing = 10

// judgeMissing decides whether the deletes of missing records are held.
func (c *comparison) judgeMissing() {
	if c.missing == 0 {
		return
	}
	name, what := c.copy.img.Name, count(c.missing, "record")+" of the snapshot are not in the copy"
	if c.missing == 1 {
		what = "1 record of the snapshot is not in the copy"
	}
	var f changeset.Finding
	switch {
	case c.o.Missing == Ignore || !c.o.allows(changeset.Delete):
		f = changeset.MissingKept.Finding("%s; nothing follows from that", what)
	case c.o.Missing != Asked:
		c.deleteHold = []string{changeset.Missing.Name}
		f = changeset.Missing.Finding("%s; their deletes are held", what)
	case c.res.Records.Stopped > 0:
		c.deleteHold = []string{changeset.MissingMany.Name}
		c.res.DeletesHeld = fmt.Sprintf("%s, and %s of the copy cannot be matched, so those may be among them; the deletes are held", what, count(c.res.Records.Stopped, "row"))
		f = changeset.MissingMany.Finding("%s", c.res.DeletesHeld)
	case c.missing*tooManyMissing > c.snap.len() && !c.o.AllMissing:
		c.deleteHold = []string{changeset.MissingMany.Name}
		c.res.DeletesHeld = fmt.Sprintf("%s, more than one in %d; the deletes are held", what, tooManyMissing)
		f = changeset.MissingMany.Finding("%s", c.res.DeletesHeld)
	default:
		return
	}
	f.Count = c.missing
	c.find(f, name, "")
}
