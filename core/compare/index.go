package compare

import (
	"bytes"
	"math/bits"
)

// index finds a side's rows by key: an open-addressed table of row numbers.
// Equal hashes are confirmed on the key's bytes.
type index struct {
	s     *side
	slots []uint32 // row + 1; 0 is free
	shift int
	n     int
	buf   []byte
}

// newIndex returns an empty index with room for n rows of s.
func newIndex(s *side, n int) *index {
	x := &index{s: s}
	x.size(max(n, 16))
	return x
}

func (x *index) size(n int) {
	log := bits.Len(uint(n + n/2))
	x.slots, x.shift = make([]uint32, 1<<log), 32-log
}

// slot spreads a hash over the table by its high bits.
func (x *index) slot(hash uint32) int {
	if x.shift <= 0 {
		return int(hash) & (len(x.slots) - 1)
	}
	return int(hash >> x.shift)
}

// insert adds a row. If one with the same key is there, that row is
// returned, and nothing is added.
func (x *index) insert(row uint32) (first uint32, there bool) {
	if x.n*4 >= len(x.slots)*3 {
		x.grow()
	}
	x.buf = x.s.keyEncoding(x.buf[:0], x.s.raw(row))
	h := x.s.hash[row]
	i := x.slot(h)
	for x.slots[i] != 0 {
		if r := x.slots[i] - 1; x.s.hash[r] == h && x.s.hasKey(r, x.buf) {
			return r, true
		}
		i = (i + 1) & (len(x.slots) - 1)
	}
	x.slots[i] = row + 1
	x.n++
	return row, false
}

func (x *index) grow() {
	old := x.slots
	x.size(2 * len(old))
	for _, v := range old {
		if v == 0 {
			continue
		}
		i := x.slot(x.s.hash[v-1])
		for x.slots[i] != 0 {
			i = (i + 1) & (len(x.slots) - 1)
		}
		x.slots[i] = v
	}
}

// find returns the row with the given encoded key.
func (x *index) find(hash uint32, key []byte) (uint32, bool) {
	i := x.slot(hash)
	for x.slots[i] != 0 {
		if r := x.slots[i] - 1; x.s.hash[r] == hash && x.s.hasKey(r, key) {
			return r, true
		}
		i = (i + 1) & (len(x.slots) - 1)
	}
	return 0, false
}

// hasKey reports whether row r has the encoded key.
func (s *side) hasKey(r uint32, key []byte) bool {
	var room [64]byte
	return bytes.Equal(s.keyEncoding(room[:0], s.raw(r)), key)
}
