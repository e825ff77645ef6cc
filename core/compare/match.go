package compare

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"math/bits"
	"slices"
	"unsafe"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/words"
)

// pairs are the records of two tables, paired by their keys, and what is known of
// the copy as a whole.
type pairs struct {
	*tables
	mate     []uint32            // for each snapshot record its state, or the copy's row + mateRow
	adds     []uint32            // the copy's rows that match no record
	equal    bitset              // the records that have a mate whose row is known to have the same bytes
	others   *slots              // the copy's rows that match no record
	repeats  map[uint32][]uint32 // rows of the copy that share a snapshot record
	matched  int                 // the copy's rows that match, with those that were left out
	keyWorn  bool                // keys were matched that are not written alike
	evidence map[uint32]bool     // records that were matched by their other fields

	missing    int        // snapshot records that the copy lacks, listed ones aside
	lentLost   bool       // records that were lent are not in the copy, and new ones may be these
	notLent    table.Bits // of a narrow copy, which records were lent: others are held; nil is any
	deleteHold []string   // the code that holds deletes of missing records, if any
	listHold   []string   // the code that holds deletes of records that are not on the list of those to keep
}

// States of a snapshot record in pairs.mate; a value of mateRow or more
// is the copy's row + mateRow.
const (
	mateNone   = iota // not in the copy
	mateRepeat        // on several rows of the copy
	mateListed        // on the delete list, and not in the copy or unchanged there
	mateApart         // the copy could not have it, and says nothing
	mateRow
)

func newPairs(t *tables) (*pairs, error) {
	p := &pairs{tables: t, equal: newBits(t.snap.len()), repeats: map[uint32][]uint32{}, matched: t.alike()}
	var err error
	p.mate, err = p.array(t.snap.len(), t.tight())
	return p, err
}

// tight reports whether several copies are too many for the memory that is allowed, so that what
// is kept of each does without it.
func (t *tables) tight() bool {
	const perRow, perMate = 3, 5 // bytes
	const beside = 4             // as much again is drafts, and what is not collected yet
	return t.several > 1 && t.o.Memory > 0 && t.o.Spill != nil && beside*int64(t.several)*(perRow*int64(t.copy.len())+perMate*int64(t.snap.len())) > t.o.Memory
}

// pairUp pairs the rows of both tables, and judges the copy as a whole.
func (t *tables) pairUp(ctx context.Context) (*pairs, error) {
	p, err := t.matched(ctx)
	if err != nil {
		return nil, err
	}
	return p, p.judgeFile()
}

// matched pairs rows with records, and judges nothing.
func (t *tables) matched(ctx context.Context) (*pairs, error) {
	p, err := newPairs(t)
	if err != nil {
		return nil, err
	}
	if err := table.Guard(func() error { return p.match(ctx) }); err != nil {
		return nil, err
	}
	return p, p.guardedWornKeys()
}

// match finds for each row of the copy the snapshot's record, and refuses a
// snapshot in which a key repeats. The copy is walked in step with the
// snapshot while their keys keep matching; the rows that are out of step are
// looked up afterwards, all at once.
func (p *pairs) match(ctx context.Context) error {
	s := new(strays)
	if p.copy != nil {
		s.end = uint32(p.copy.len())
		p.inStep(s)
	}
	switch {
	case p.snap.unsorted || s.many:
		if err := p.resolve(ctx, s); err != nil {
			return err
		}
	default:
		for _, j := range s.rows {
			p.binarySearch(j)
		}
	}
	p.sortRows()
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
func (p *pairs) inStep(s *strays) {
	bad := p.copy.stopped()
	same := p.sameColumns()
	var key []byte
	next, n := uint32(0), uint32(p.snap.len())
	stretches := p.stretches
	for j := uint32(0); j < s.end; j++ {
		if len(stretches) > 0 && stretches[0].j == j {
			p.joinAll(stretches[0])
			next, j = stretches[0].i+stretches[0].n, j+stretches[0].n-1
			stretches = stretches[1:]
			continue
		}
		if len(bad) > 0 && bad[0] == j {
			bad = bad[1:]
			next++
			continue
		}
		raw := p.copy.raw(j)
		if same && next < n && bytes.Equal(p.snap.raw(next), raw) {
			if p.join(next, j) {
				p.equal.set(next)
			}
			next++
			continue
		}
		key = p.copy.keyEncoding(key[:0], raw)
		i, ok := next, false
		for ; i < min(next+ahead, n) && !ok; i++ {
			ok = p.snap.hasKey(i, key)
		}
		if ok {
			p.join(i-1, j)
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

// joinAll joins the rows of a stretch.
func (p *pairs) joinAll(s stretch) {
	for k := range s.n {
		if p.join(s.i+k, s.j+k) {
			p.equal.set(s.i + k)
		}
	}
}

// binarySearch looks one stray up in a snapshot whose keys ascend.
func (p *pairs) binarySearch(j uint32) {
	key := p.copy.keyEncoding(nil, p.copy.raw(j))
	want := key
	if len(p.snap.keyCol) == 1 {
		want = []byte(record.KeyOf(key).Parts()[0])
	}
	if i, ok := p.snap.search(want); ok {
		p.join(i, j)
	} else {
		p.add(j, hashOf(key))
	}
}

// resolve indexes the snapshot, refuses it if a key repeats, and looks the
// strays up: all at once if memory allows, else a part of the index after
// the other, with the arrays that are only gone through in order spilled.
func (p *pairs) resolve(ctx context.Context, s *strays) error {
	n, m := p.snap.len(), s.len()
	rounds := p.rounds(m)
	cores := 1 << bits.Len(uint(p.o.Cores-1))
	hashes, err := p.array(n, rounds > 1)
	if err != nil {
		return err
	}
	if err := p.snap.hashKeys(ctx, p.o.Cores, hashes, func(k int) uint32 { return uint32(k) }); err != nil {
		return err
	}
	wanted, err := p.array(m, rounds > 1)
	if err != nil {
		return err
	}
	if err := p.copyHashes(ctx, wanted, s); err != nil {
		return err
	}
	found, err := p.array(m, rounds > 1) // the record + 1, or 0
	if err != nil {
		return err
	}
	x := &index{s: p.snap, parts: make([]*slots, cores*rounds)}
	var twice []uint32
	for r := range rounds {
		more, err := x.build(hashes, r*cores, (r+1)*cores)
		if err != nil {
			return err
		}
		twice = append(twice, more...)
		if err := ranges(ctx, p.o.Cores, m, func(lo, hi int) { p.lookUp(x, s, wanted, found, lo, hi) }); err != nil {
			return err
		}
	}
	if len(twice) > 0 {
		slices.Sort(twice)
		twice = slices.Compact(twice)
		return p.snap.refusal(KeyRepeat, twice, fmt.Sprintf("%s%s has the same key on several rows; the first is %s", p.called, p.snap.img.Name, p.snap.key(twice[0])))
	}
	p.takeFound(s, wanted, found)
	return nil
}

func (p *pairs) copyHashes(ctx context.Context, h []uint32, s *strays) error {
	if p.copy == nil {
		return nil
	}
	return p.copy.hashKeys(ctx, p.o.Cores, h, s.row)
}

// lookUp looks the strays lo to hi up in the parts of the index that stand, a
// group at a time.
func (p *pairs) lookUp(x *index, s *strays, wanted, found []uint32, lo, hi int) {
	var key []byte
	for from := lo; from < hi; from += group {
		to := min(from+group, hi)
		x.prepare(wanted[from:to])
		for k := from; k < to; k++ {
			part := x.part(wanted[k])
			if part == nil {
				continue
			}
			key = p.copy.keyEncoding(key[:0], p.copy.rawKey(s.row(k)))
			if i, ok := part.find(wanted[k], key); ok {
				found[k] = i + 1
			}
		}
	}
}

// takeFound pairs the strays with what was found for them.
func (p *pairs) takeFound(s *strays, wanted, found []uint32) {
	var bad []uint32
	if p.copy != nil {
		bad = p.copy.stopped()
	}
	for k, f := range found {
		j := s.row(k)
		if _, stop := slices.BinarySearch(bad, j); stop {
			continue
		}
		if f > 0 {
			p.join(f-1, j)
		} else {
			p.add(j, wanted[k])
		}
	}
}

// rounds says in how many rounds the index has to be built so that what is
// accessed at random stays within the memory allowed.
func (p *pairs) rounds(strays int) int {
	if p.o.Memory <= 0 || p.o.Spill == nil {
		return 1
	}
	n := int64(p.snap.len())
	rows := n
	if p.copy != nil {
		rows += int64(p.copy.len())
	}
	const perRow, perMate, perHash, perSlot = 3, 4, 4, 22 // bytes; a slot's share is at most 8 * 8/3
	stays := rows*perRow + n*perMate
	whole := stays + n*perHash + int64(strays)*2*perHash + n*perSlot
	r := 1
	for whole > p.o.Memory && stays+n*perSlot/int64(r) > p.o.Memory && r < 1024 || r == 1 && whole > p.o.Memory {
		r *= 2
	}
	return r
}

// array returns n zeros, spilled if asked.
func (p *pairs) array(n int, spill bool) ([]uint32, error) {
	if !spill || n == 0 {
		return make([]uint32, n), nil
	}
	b, err := p.o.Spill(int64(n) * 4)
	if err != nil {
		return nil, err
	}
	return unsafe.Slice((*uint32)(unsafe.Pointer(&b[0])), n), nil
}

// sortRows puts what was found out of order into the copy's order, and takes
// repeated rows out of the adds.
func (p *pairs) sortRows() {
	for _, rows := range p.repeats {
		slices.Sort(rows)
	}
	slices.Sort(p.adds)
	n := uint32(p.snap.len())
	p.adds = slices.DeleteFunc(p.adds, func(j uint32) bool { return len(p.repeats[n+j]) > 0 })
}

// add notes that row j of the copy matches no record.
func (p *pairs) add(j, hash uint32) {
	if p.others == nil {
		p.others = newSlots(p.copy, 16)
	}
	if first, there := p.others.insert(j, hash); there {
		p.repeatAdd(first, j)
	} else {
		p.adds = append(p.adds, j)
	}
}

// stopped lists the copy's rows that have a stop on their key, in order.
func (s *side) stopped() []uint32 {
	bad := slices.Concat(s.noKey, s.short, s.long)
	slices.Sort(bad)
	return bad
}

// join notes that row j of the copy is record i, or that it repeats it. It
// reports whether it is the first that is.
func (p *pairs) join(i, j uint32) bool {
	p.matched++
	switch m := p.mate[i]; {
	case m == mateNone:
		p.mate[i] = j + mateRow
		return true
	case m == mateRepeat:
		p.repeats[i] = append(p.repeats[i], j)
	default:
		p.repeats[i] = []uint32{m - mateRow, j}
		p.become(i, mateRepeat)
	}
	return false
}

// become gives record i a state in the place of a row.
func (p *pairs) become(i, state uint32) {
	p.mate[i] = state
	p.equal.clear(i)
}

// repeatAdd notes that row j has the key of row first, which no record has.
// Such groups are kept beside the snapshot's by a number beyond its records.
func (p *pairs) repeatAdd(first, j uint32) {
	g := uint32(p.snap.len()) + first
	if len(p.repeats[g]) == 0 {
		p.repeats[g] = []uint32{first}
	}
	p.repeats[g] = append(p.repeats[g], j)
}

// judgeFile decides, once keys are matched, whether the copy is a copy at
// all, what becomes of missing records, and what the delete list asks for.
func (p *pairs) judgeFile() error {
	if p.copy != nil {
		p.takeNew()
		if err := p.judgeCopy(); err != nil {
			return err
		}
	}
	if p.o.DeleteList != nil {
		p.takeList()
	}
	if p.o.KeepList != nil {
		p.takeKept()
	}
	if p.copy == nil {
		return nil
	}
	covers := p.copy.img.Covers
	for i, m := range p.mate {
		switch {
		case m == mateNone && covers != nil && !covers(p.snap.key(uint32(i))):
			p.become(uint32(i), mateApart)
		case m == mateNone:
			p.missing++
		}
	}
	p.judgeMissing()
	return nil
}

// takeNew takes rows without a key for new records, where the system gives these
// their keys.
func (p *pairs) takeNew() {
	if !p.l.Schema().Assigned() {
		return
	}
	p.adds = append(p.adds, p.copy.noKey...)
	slices.Sort(p.adds)
	p.copy.noKey = nil
}

// stops makes the findings on rows of the copy whose key cannot be used.
func (p *pairs) stops() {
	rec, name := &p.res.Records, p.copy.img.Name
	for _, bad := range []struct {
		rows []uint32
		code changeset.Code
		text string
	}{
		{p.copy.noKey, changeset.KeyBlank, "no key"},
		{p.copy.short, changeset.ShortRow, "fewer cells than there are headings"},
		{p.copy.long, changeset.LongRow, "filled cells beyond the last heading"},
	} {
		if len(bad.rows) == 0 {
			continue
		}
		rec.Stopped += len(bad.rows)
		f := bad.code.Finding("%s with %s: nothing is taken from there", words.Count(len(bad.rows), "row"), bad.text)
		f.Count = len(bad.rows)
		p.findRows(f, name, "", p.copy.rowNumbers(bad.rows))
	}
	groups := make([][2]uint32, 0, len(p.repeats)) // the first row of each, and which it is
	for g, rows := range p.repeats {
		groups = append(groups, [2]uint32{rows[0], g})
	}
	slices.SortFunc(groups, func(a, b [2]uint32) int { return cmp.Compare(a[0], b[0]) })
	for _, group := range groups {
		g, rows := group[1], p.repeats[group[1]]
		rec.Stopped += len(rows)
		if g < uint32(p.snap.len()) {
			rec.StoppedRecords++
		}
		key := p.copy.key(rows[0])
		f := changeset.Repeat.Finding("%s stands on %s of the copy: none of them is taken", key, words.Count(len(rows), "row"))
		f.Count, f.Key = len(rows), key.String()
		p.findRows(f, name, "", p.copy.rowNumbers(rows))
	}
	if p.copy.blank > 0 {
		f := changeset.BlankRow.Finding("%s of the copy are blank and skipped", words.Count(p.copy.blank, "row"))
		f.Count = p.copy.blank
		p.find(f, name, "")
	}
}

// tooManyMissing is the share of records, as 1/n, beyond which deletes that
// were asked for are held all the same: a filtered file is not 500 deletions.
const tooManyMissing = 10

// judgeMissing decides whether the deletes of missing records are held.
func (p *pairs) judgeMissing() {
	if p.missing == 0 || p.copy.img.Part {
		return
	}
	name, what := p.copy.img.Name, words.Count(p.missing, "record")+" of the snapshot are not in the copy"
	if p.missing == 1 {
		what = "1 record of the snapshot is not in the copy"
	}
	many := p.missing*tooManyMissing > p.inAll()
	part := ""
	if many {
		part = "; where the copy is a part of the snapshot on purpose, --missing keep leaves the rest alone"
	}
	held := "their deletes are held" + part
	if p.missing == 1 {
		held = "its delete is held" + part
	}
	var f changeset.Finding
	switch {
	case p.o.Missing == Ignore || !p.o.allows(changeset.Delete):
		f = changeset.MissingKept.Finding("%s; nothing follows from that", what)
	case p.o.Missing != Asked:
		p.deleteHold = []string{changeset.Missing.Name}
		f = changeset.Missing.Finding("%s; %s", what, held)
	case p.res.Records.Stopped > 0:
		p.deleteHold = []string{changeset.MissingMany.Name}
		p.res.DeletesHeld = fmt.Sprintf("%s, and %s of the copy cannot be matched, so those may be among them; the deletes are held", what, words.Count(p.res.Records.Stopped, "row"))
		f = changeset.MissingMany.Finding("%s", p.res.DeletesHeld)
	case len(p.evidence) > 0:
		p.deleteHold = []string{changeset.MissingMany.Name}
		p.res.DeletesHeld = what + ", and keys were told apart by other fields; the deletes are held"
		f = changeset.MissingMany.Finding("%s", p.res.DeletesHeld)
	case many && !p.o.AllMissing:
		p.deleteHold = []string{changeset.MissingMany.Name}
		p.res.DeletesHeld = fmt.Sprintf("%s, more than one in %d; %s", what, tooManyMissing, held)
		f = changeset.MissingMany.Finding("%s", p.res.DeletesHeld)
	default:
		return
	}
	f.Count = p.missing
	p.find(f, name, "")
}
