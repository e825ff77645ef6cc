package compare

import (
	"bytes"
	"context"
	"math/bits"
	"slices"
	"sync/atomic"

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

// index finds the snapshot's rows by key. The low bits of a hash say in which
// of its parts a row is; a part is built by one goroutine, and where memory
// is short only some of the parts stand at a time (pairs.resolve).
type index struct {
	s     *side
	parts []*slots // nil where a part does not stand
}

func (x *index) part(hash uint32) *slots { return x.parts[int(hash)&(len(x.parts)-1)] }

// build builds the parts lo to hi from the hashes of all rows, a goroutine a
// part, and returns the rows whose key stands on several rows.
func (x *index) build(hashes []uint32, lo, hi int) (twice []uint32, err error) {
	clear(x.parts)
	found := make([][]uint32, hi-lo)
	err = each(hi-lo, func(p int) error {
		part := newSlots(x.s, len(hashes)/len(x.parts)+len(hashes)/len(x.parts)/16)
		x.parts[lo+p] = part
		for i, h := range hashes {
			if int(h)&(len(x.parts)-1) != lo+p {
				continue
			}
			if first, there := part.insert(uint32(i), h); there {
				found[p] = append(found[p], first, uint32(i))
			}
		}
		return nil
	})
	return slices.Concat(found...), err
}

// prepare brings the rows that are likely to have the given hashes close, so
// that find does not wait for each of them alone.
func (x *index) prepare(hashes []uint32) byte {
	var rows [group]uint32
	n := 0
	for _, h := range hashes {
		if part := x.part(h); part != nil {
			if v := part.slot[part.at(h)]; v.row != 0 {
				rows[n] = v.row - 1
				n++
			}
		}
	}
	return x.s.touch(rows[:n], false)
}

// hashKeys fills h with the hashes of the keys of the rows that row names.
func (s *side) hashKeys(ctx context.Context, cores int, h []uint32, row func(k int) uint32) error {
	return ranges(ctx, cores, len(h), func(lo, hi int) {
		var key []byte
		for k := lo; k < hi; k++ {
			key = s.keyEncoding(key[:0], s.rawKey(row(k)))
			h[k] = hashOf(key)
		}
	})
}

// ranges calls f on all cores for ranges of the numbers below n.
func ranges(ctx context.Context, cores, n int, f func(lo, hi int)) error {
	const step = 1 << 14
	return each(cores, func(w int) error {
		for lo := w * step; lo < n; lo += cores * step {
			if err := ctx.Err(); err != nil {
				return err
			}
			f(lo, min(lo+step, n))
		}
		return nil
	})
}

// inTurn calls f for each of the numbers below n, on all cores: each takes the next one when it is done.
func inTurn(cores, n int, f func(i int)) error {
	var next atomic.Int64
	return each(min(cores, n), func(int) error {
		for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
			f(i)
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
