package compare

// bitset is a set of small numbers.
type bitset []uint64

func newBits(n int) bitset { return make(bitset, (n+63)/64) }

func (b bitset) set(i uint32)      { b[i/64] |= 1 << (i % 64) }
func (b bitset) clear(i uint32)    { b[i/64] &^= 1 << (i % 64) }
func (b bitset) has(i uint32) bool { return b[i/64]&(1<<(i%64)) != 0 }
