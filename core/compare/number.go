package compare

import (
	"bytes"
	"encoding/binary"
	"math/bits"
)

// number reads a plain decimal: an optional minus, digits without leading
// zeros, and decimals after a point. It returns the digits as an integer.
func number(cell []byte) (n int64, decimals int, ok bool) {
	b := cell
	if b[0] == '-' {
		b = b[1:]
	}
	if len(b) == 0 || len(b) > maxDigits || len(b) > 1 && b[0] == '0' && b[1] != '.' {
		return 0, 0, false
	}
	switch rest := len(b) - 8; {
	case rest <= 0:
		n, decimals, ok = shortNumber(b)
	case rest <= 8 && bytes.IndexByte(b, '.') < 0:
		first, _, is := shortNumber(b[:rest])
		n, _, ok = shortNumber(b[rest:])
		n, ok = first*1e8+n, ok && is
	default:
		n, decimals, ok = digitByDigit(b)
	}
	if cell[0] == '-' {
		n = -n
	}
	return n, decimals, ok
}

// digitByDigit reads digits, perhaps with a point among them.
func digitByDigit(b []byte) (n int64, decimals int, ok bool) {
	point := -1
	for i, c := range b {
		if d := c - '0'; d <= 9 {
			n = n*10 + int64(d)
		} else if c == '.' && point < 0 && i > 0 && i < len(b)-1 {
			point = i
		} else {
			return 0, 0, false
		}
	}
	if point >= 0 {
		decimals = len(b) - 1 - point
	}
	return n, decimals, true
}

// shortNumber is digitByDigit of one to eight bytes, which it looks at all at once: as a word, the last of them in its highest byte.
func shortNumber(b []byte) (n int64, decimals int, ok bool) {
	const (
		each  = 0x0101010101010101
		zeros = '0' * each
		high  = 0x80 * each
	)
	var w uint64
	size := len(b)
	switch {
	case size >= 4: // the two halves share bytes
		w = uint64(binary.LittleEndian.Uint32(b[size-4:]))<<32 | uint64(binary.LittleEndian.Uint32(b))<<(8*(8-size))
	case size >= 2:
		w = uint64(binary.LittleEndian.Uint16(b[size-2:]))<<48 | uint64(binary.LittleEndian.Uint16(b))<<(8*(8-size))
	default:
		w = uint64(b[0]) << 56
	}
	w |= zeros & (1<<(8*(8-size)) - 1) // zeros before the first
	x := w ^ '.'*each
	if points := (x - each) &^ x & high; points != 0 { // its lowest bit is that of the first point
		at := bits.TrailingZeros64(points) / 8
		if decimals = 7 - at; decimals == 0 || at == 8-size {
			return 0, 0, false
		}
		before := uint64(1)<<(8*at) - 1 // the digits before the point move up to those behind it
		w = w&^(before<<8|0xff) | w&before<<8 | '0'
	}
	if w&(0xf0*each) != zeros || (w+6*each)&(0xf0*each) != zeros {
		return 0, 0, false
	}
	// Neighbours are put together, then pairs, then fours.
	w -= zeros
	w = w*10 + w>>8
	w = ((w&0x000000ff000000ff)*(100+1000000<<32) + (w>>16&0x000000ff000000ff)*(1+10000<<32)) >> 32
	return int64(w), decimals, true
}
