package compare

// offsets is a list of ascending offsets in a file, kept in two and a half
// bytes each: a base for every block of rows, and each row's distance from
// it. A block whose distances do not fit is kept whole.
type offsets struct {
	base []int64  // of each block; negative for one in whole
	rel  []uint16 // of each row
	long map[int][]int64
}

// block is how many rows share a base: rows up to 4 KB fit two bytes.
const block = 16

func (o *offsets) len() int { return len(o.rel) }

// reserve makes room for n offsets.
func (o *offsets) reserve(n int) {
	o.base, o.rel = make([]int64, 0, n/block+1), make([]uint16, 0, n)
}

// append adds an offset, which is not below the one before.
func (o *offsets) append(at int64) {
	i := len(o.rel)
	b := i / block
	if i%block == 0 {
		o.base = append(o.base, at)
	}
	d := at - o.base[b]
	if o.base[b] < 0 || d > 0xffff {
		o.whole(b, at)
		d = 0
	}
	o.rel = append(o.rel, uint16(d))
}

// extend adds n offsets of another list, from the i-th on, each so much further on.
func (o *offsets) extend(from *offsets, i, n uint32, shift int64) {
	for k := i; k < i+n; k++ {
		at := from.at(k) + shift
		if len(o.rel)%block != 0 {
			if b := o.base[len(o.base)-1]; b >= 0 && at-b <= 0xffff {
				o.rel = append(o.rel, uint16(at-b))
				continue
			}
		}
		o.append(at)
	}
}

// whole keeps the last block's offsets as they are, with at behind them.
func (o *offsets) whole(b int, at int64) {
	if o.long == nil {
		o.long = map[int][]int64{}
	}
	if o.base[b] >= 0 {
		for _, d := range o.rel[b*block:] {
			o.long[b] = append(o.long[b], o.base[b]+int64(d))
		}
		o.base[b] = -1
	}
	o.long[b] = append(o.long[b], at)
}

// at returns the i-th offset.
func (o *offsets) at(i uint32) int64 {
	if b := o.base[i/block]; b >= 0 {
		return b + int64(o.rel[i])
	}
	return o.long[int(i/block)][i%block]
}
