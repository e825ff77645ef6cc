package compare

import (
	"bytes"
	"context"
	"math/bits"
	"slices"

	"github.com/zeebo/xxh3"
	"golang.org/x/sync/errgroup"

	"paletwin/core/table"
)

// hashOf hashes an encoded key.
func hashOf(key []byte) uint32 { return uint32(xxh3.Hash(key)) }

// slots is an open-addressed table of a side's rows by the hash of their key.
// Equal hashes are confirmed on the key's bytes.
type slots struct {
	s     *side
	slot  []slot
	shift int
	n     int
}

type slot struct {
	hash uint32
	row  uint32 // row + 1; 0 is free
}

// newSlots returns an empty table with room for n rows of s.
func newSlots(s *side, n int) *slots {
	x := &slots{s: s}
	x.size(max(n, 16))
	return x
}

func (x *slots) size(n int) {
	log := bits.Len(uint(n + n/3))
	x.slot, x.shift = make([]slot, 1<<log), 32-log
}

// at is where the search for a hash begins: its high bits spread it.
func (x *slots) at(hash uint32) int {
	if x.shift <= 0 {
		return int(hash) & (len(x.slot) - 1)
	}
	return int(hash >> x.shift)
}

// insert adds a row. If one with the same key is there, that row is
// returned, and nothing is added.
func (x *slots) insert(row, hash uint32) (first uint32, there bool) {
	if x.n*4 >= len(x.slot)*3 {
		x.grow()
	}
	i := x.at(hash)
	for ; x.slot[i].row != 0; i = (i + 1) & (len(x.slot) - 1) {
		if v := x.slot[i]; v.hash == hash && x.s.sameKey(v.row-1, row) {
			return v.row - 1, true
		}
	}
	x.slot[i] = slot{hash, row + 1}
	x.n++
	return row, false
}

func (x *slots) grow() {
	old := x.slot
	x.size(2 * len(old))
	for _, v := range old {
		if v.row == 0 {
			continue
		}
		i := x.at(v.hash)
		for x.slot[i].row != 0 {
			i = (i + 1) & (len(x.slot) - 1)
		}
		x.slot[i] = v
	}
}

// find returns the row with the given encoded key.
func (x *slots) find(hash uint32, key []byte) (uint32, bool) {
	for i := x.at(hash); x.slot[i].row != 0; i = (i + 1) & (len(x.slot) - 1) {
		if v := x.slot[i]; v.hash == hash && x.s.hasKey(v.row-1, key) {
			return v.row - 1, true
		}
	}
	return 0, false
}

// hasKey reports whether row r has the encoded key.
func (s *side) hasKey(r uint32, key []byte) bool {
	var room [64]byte
	return bytes.Equal(s.keyEncoding(room[:0], s.rawKey(r)), key)
}

// sameKey reports whether two rows have one key.
func (s *side) sameKey(a, b uint32) bool {
	var room [64]byte
	return s.hasKey(a, s.keyEncoding(room[:0], s.rawKey(b)))
}

// index finds a side's rows by key. It is built on all cores: the low bits of
// a hash say in which of its tables a row is.
type index struct {
	s     *side
	parts []*slots
}

// buildIndex indexes all rows of s. twice lists the rows whose key stands on
// several rows, in order.
func buildIndex(ctx context.Context, s *side, cores int) (x *index, twice []uint32, err error) {
	n := 1 << bits.Len(uint(cores-1))
	x = &index{s: s, parts: make([]*slots, n)}
	hashes, err := s.hashes(ctx, cores)
	if err != nil {
		return nil, nil, err
	}
	found := make([][]uint32, n)
	err = each(n, func(p int) error {
		part := newSlots(s, len(hashes)/n+len(hashes)/n/16)
		x.parts[p] = part
		for i, h := range hashes {
			if int(h)&(n-1) != p {
				continue
			}
			if first, there := part.insert(uint32(i), h); there {
				found[p] = append(found[p], first, uint32(i))
			}
		}
		return nil
	})
	twice = slices.Concat(found...)
	slices.Sort(twice)
	return x, slices.Compact(twice), err
}

// find returns the row with the given encoded key, whose hash is h.
func (x *index) find(h uint32, key []byte) (uint32, bool) {
	return x.parts[int(h)&(len(x.parts)-1)].find(h, key)
}

// prepare brings the rows that are likely to have the given hashes close, so
// that find does not wait for each of them alone.
func (x *index) prepare(hashes []uint32) byte {
	var rows [group]uint32
	n := 0
	for _, h := range hashes {
		part := x.parts[int(h)&(len(x.parts)-1)]
		if v := part.slot[part.at(h)]; v.row != 0 {
			rows[n] = v.row - 1
			n++
		}
	}
	return x.s.touch(rows[:n], false)
}

// hashes returns the hash of each row's key.
func (s *side) hashes(ctx context.Context, cores int) ([]uint32, error) {
	h := make([]uint32, s.len())
	return h, s.ranges(ctx, cores, 0, func(lo, hi int) {
		var key []byte
		for i := lo; i < hi; i++ {
			key = s.keyEncoding(key[:0], s.rawKey(uint32(i)))
			h[i] = hashOf(key)
		}
	})
}

// ranges calls f on all cores for ranges of the rows from the given one on.
func (s *side) ranges(ctx context.Context, cores, from int, f func(lo, hi int)) error {
	const step = 1 << 14
	return each(cores, func(w int) error {
		for lo := from + w*step; lo < s.len(); lo += cores * step {
			if err := ctx.Err(); err != nil {
				return err
			}
			f(lo, min(lo+step, s.len()))
		}
		return nil
	})
}

// each runs f(0) … f(n-1) at once, each guarded against files that go away.
func each(n int, f func(i int) error) error {
	var g errgroup.Group
	for i := range n {
		g.Go(func() error { return table.Guard(func() error { return f(i) }) })
	}
	return g.Wait()
}
