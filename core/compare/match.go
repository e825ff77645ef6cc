package compare

import (
	"bytes"
	"context"
	"fmt"
	"math/bits"
	"slices"
	"sort"
	"unsafe"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/words"
)

// match finds for each row of the copy the snapshot's record, and refuses a
// snapshot in which a key repeats. The copy is walked in step with the
// snapshot while their keys keep matching; the rows that are out of step are
// looked up afterwards, all at once.
func (c *comparison) match(ctx context.Context) error {
	c.mate = make([]uint32, c.snap.len())
	c.equal = newBits(c.snap.len())
	c.repeats = map[uint32][]uint32{}
	s := new(strays)
	if c.copy != nil {
		s.end = uint32(c.copy.len())
		c.inStep(s)
	}
	switch {
	case c.snap.unsorted || s.many:
		if err := c.resolve(ctx, s); err != nil {
			return err
		}
	default:
		for _, j := range s.rows {
			c.halve(j)
		}
	}
	c.sortRows()
	return nil
}

// strays are the copy's rows that are out of step: those listed, and, once
// there are many, all from rest on.
type strays struct {
	rows []uint32
	many bool
	rest uint32
	end  uint32
}

func (s *strays) len() int {
	if s.many {
		return len(s.rows) + int(s.end-s.rest)
	}
	return len(s.rows)
}

// row returns the k-th stray.
func (s *strays) row(k int) uint32 {
	if k < len(s.rows) {
		return s.rows[k]
	}
	return s.rest + uint32(k-len(s.rows))
}

const (
	// ahead is how many rows match looks ahead for the place where both
	// files are in step again.
	ahead = 4
	// fewStrays is the share of rows, as 1/n, that may be out of step before
	// all that follow are looked up.
	fewStrays = 64
)

// inStep walks the copy in step with the snapshot and notes the strays. next
// is the record expected for the next row.
func (c *comparison) inStep(s *strays) {
	bad := c.copy.stopped()
	same := c.sameColumns()
	var key []byte
	next, n := uint32(0), uint32(c.snap.len())
	for j := range s.end {
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
		if ok {
			c.pairUp(i-1, j)
			next = i
			continue
		}
		if len(s.rows) > fewStrays+int(s.end)/fewStrays {
			s.many, s.rest = true, j
			return
		}
		s.rows = append(s.rows, j)
	}
}

// halve looks one stray up in a snapshot whose keys ascend.
func (c *comparison) halve(j uint32) {
	key := c.copy.keyEncoding(nil, c.copy.raw(j))
	want := key
	if len(c.snap.keyCol) == 1 {
		want = []byte(record.KeyOf(key).Parts()[0])
	}
	i := uint32(sort.Search(c.snap.len(), func(i int) bool {
		at, _ := c.snap.rowKey(c.snap.raw(uint32(i)))
		return bytes.Compare(at, want) >= 0
	}))
	if int(i) < c.snap.len() && c.snap.hasKey(i, key) {
		c.pairUp(i, j)
	} else {
		c.add(j, hashOf(key))
	}
}

// resolve indexes the snapshot, refuses it if a key repeats, and looks the
// strays up: all at once if memory allows, else a part of the index after
// the other, with the arrays that are only gone through in order spilled.
func (c *comparison) resolve(ctx context.Context, s *strays) error {
	n, m := c.snap.len(), s.len()
	rounds := c.rounds(m)
	cores := 1 << bits.Len(uint(c.o.Cores-1))
	hashes, err := c.array(n, rounds > 1)
	if err != nil {
		return err
	}
	if err := c.snap.hashKeys(ctx, c.o.Cores, hashes, func(k int) uint32 { return uint32(k) }); err != nil {
		return err
	}
	wanted, err := c.array(m, rounds > 1)
	if err != nil {
		return err
	}
	if err := c.copyHashes(ctx, wanted, s); err != nil {
		return err
	}
	found, err := c.array(m, rounds > 1) // the record + 1, or 0
	if err != nil {
		return err
	}
	x := &index{s: c.snap, parts: make([]*slots, cores*rounds)}
	var twice []uint32
	for r := range rounds {
		more, err := x.build(hashes, r*cores, (r+1)*cores)
		if err != nil {
			return err
		}
		twice = append(twice, more...)
		if err := ranges(ctx, c.o.Cores, m, func(lo, hi int) { c.lookUp(x, s, wanted, found, lo, hi) }); err != nil {
			return err
		}
	}
	if len(twice) > 0 {
		slices.Sort(twice)
		twice = slices.Compact(twice)
		return &Refusal{Code: KeyRepeat, File: c.snap.img.Name, Rows: c.snap.rowNumbers(twice),
			Text: fmt.Sprintf("%s%s has the same key on several rows; the first is %s", c.called, c.snap.img.Name, c.snap.key(twice[0]))}
	}
	c.takeFound(s, wanted, found)
	return nil
}

func (c *comparison) copyHashes(ctx context.Context, h []uint32, s *strays) error {
	if c.copy == nil {
		return nil
	}
	return c.copy.hashKeys(ctx, c.o.Cores, h, s.row)
}

// lookUp looks the strays lo to hi up in the parts of the index that stand, a
// group at a time.
func (c *comparison) lookUp(x *index, s *strays, wanted, found []uint32, lo, hi int) {
	var key []byte
	for from := lo; from < hi; from += group {
		to := min(from+group, hi)
		x.prepare(wanted[from:to])
		for k := from; k < to; k++ {
			part := x.part(wanted[k])
			if part == nil {
				continue
			}
			key = c.copy.keyEncoding(key[:0], c.copy.rawKey(s.row(k)))
			if i, ok := part.find(wanted[k], key); ok {
				found[k] = i + 1
			}
		}
	}
}

// takeFound pairs the strays with what was found for them.
func (c *comparison) takeFound(s *strays, wanted, found []uint32) {
	var bad []uint32
	if c.copy != nil {
		bad = c.copy.stopped()
	}
	for k, f := range found {
		j := s.row(k)
		if _, stop := slices.BinarySearch(bad, j); stop {
			continue
		}
		if f > 0 {
			c.pairUp(f-1, j)
		} else {
			c.add(j, wanted[k])
		}
	}
}

// rounds says in how many rounds the index has to be built so that what is
// accessed at random stays within the memory allowed.
func (c *comparison) rounds(strays int) int {
	if c.o.Memory <= 0 || c.o.Spill == nil {
		return 1
	}
	n := int64(c.snap.len())
	rows := n
	if c.copy != nil {
		rows += int64(c.copy.len())
	}
	const perRow, perMate, perHash, perSlot = 3, 4, 4, 22 // bytes; a slot's share is at most 8 * 8/3
	stays := rows*perRow + n*perMate
	whole := stays + n*perHash + int64(strays)*2*perHash + n*perSlot
	r := 1
	for whole > c.o.Memory && stays+n*perSlot/int64(r) > c.o.Memory && r < 1024 || r == 1 && whole > c.o.Memory {
		r *= 2
	}
	return r
}

// array returns n zeros, spilled if asked.
func (c *comparison) array(n int, spill bool) ([]uint32, error) {
	if !spill || n == 0 {
		return make([]uint32, n), nil
	}
	b, err := c.o.Spill(int64(n) * 4)
	if err != nil {
		return nil, err
	}
	return unsafe.Slice((*uint32)(unsafe.Pointer(&b[0])), n), nil
}

// sortRows puts what was found out of order into the copy's order, and takes
// repeated rows out of the adds.
func (c *comparison) sortRows() {
	for _, rows := range c.repeats {
		slices.Sort(rows)
	}
	slices.Sort(c.adds)
	n := uint32(c.snap.len())
	c.adds = slices.DeleteFunc(c.adds, func(j uint32) bool { return len(c.repeats[n+j]) > 0 })
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
		f := bad.code.Finding("%s with %s: nothing is taken from there", words.Count(len(bad.rows), "row"), bad.text)
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
		f := changeset.Repeat.Finding("%s stands on %s of the copy: none of them is taken", key, words.Count(len(rows), "row"))
		f.Count, f.Key = len(rows), key.String()
		c.findRows(f, name, c.copy.rowNumbers(rows))
	}
	if c.copy.blank > 0 {
		f := changeset.BlankRow.Finding("%s of the copy are blank and skipped", words.Count(c.copy.blank, "row"))
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
	name, what := c.copy.img.Name, words.Count(c.missing, "record")+" of the snapshot are not in the copy"
	if c.missing == 1 {
		what = "1 record of the snapshot is not in the copy"
	}
	many := c.missing*tooManyMissing > c.snap.len()
	part := ""
	if many {
		part = "; where the copy is a part of the snapshot on purpose, --missing keep leaves the rest alone"
	}
	held := "their deletes are held" + part
	if c.missing == 1 {
		held = "its delete is held" + part
	}
	var f changeset.Finding
	switch {
	case c.o.Missing == Ignore || !c.o.allows(changeset.Delete):
		f = changeset.MissingKept.Finding("%s; nothing follows from that", what)
	case c.o.Missing != Asked:
		c.deleteHold = []string{changeset.Missing.Name}
		f = changeset.Missing.Finding("%s; %s", what, held)
	case c.res.Records.Stopped > 0:
		c.deleteHold = []string{changeset.MissingMany.Name}
		c.res.DeletesHeld = fmt.Sprintf("%s, and %s of the copy cannot be matched, so those may be among them; the deletes are held", what, words.Count(c.res.Records.Stopped, "row"))
		f = changeset.MissingMany.Finding("%s", c.res.DeletesHeld)
	case len(c.evidence) > 0:
		c.deleteHold = []string{changeset.MissingMany.Name}
		c.res.DeletesHeld = what + ", and keys were told apart by other fields; the deletes are held"
		f = changeset.MissingMany.Finding("%s", c.res.DeletesHeld)
	case many && !c.o.AllMissing:
		c.deleteHold = []string{changeset.MissingMany.Name}
		c.res.DeletesHeld = fmt.Sprintf("%s, more than one in %d; %s", what, tooManyMissing, held)
		f = changeset.MissingMany.Finding("%s", c.res.DeletesHeld)
	default:
		return
	}
	f.Count = c.missing
	c.find(f, name, "")
}
