package csv

import (
	"bytes"
	"encoding/binary"
	"math/bits"
)

// Row is one row split into cells: where each ends. It is made anew by Split
// and keeps its room.
type Row struct {
	raw  []byte
	ends []int32
}

// Len returns the number of cells.
func (r *Row) Len() int { return len(r.ends) }

// Cell returns a cell, from 0, as the bytes of the file, quotes included.
func (r *Row) Cell(n int) []byte {
	from := int32(0)
	if n > 0 {
		from = r.ends[n-1] + 1
	}
	return r.raw[from:r.ends[n]:r.ends[n]]
}

// Split splits a row that a Scanner gave into its cells, at most most of
// them; the last may then be the rest of the row's cells, and 0 means all.
func (r *Row) Split(raw []byte, comma byte, most int) {
	r.raw, r.ends = raw, r.ends[:0]
	if most <= 0 {
		most = 1 << 30
	}
	if bytes.IndexByte(raw, '"') < 0 {
		r.plain(comma, most)
		return
	}
	if r.orderly(comma, most) {
		return
	}
	r.ends = r.ends[:0]
	for at := 0; ; {
		at += cellEnd(raw[at:], comma)
		r.ends = append(r.ends, int32(at))
		if at == len(raw) || len(r.ends) == most {
			return
		}
		at++
	}
}

const (
	lows  = 0x0101010101010101
	highs = 0x8080808080808080
)

// equal8 returns a word whose bytes have their high bit set where the bytes
// of w are those of the pattern, and are zero elsewhere.
func equal8(w, pattern uint64) uint64 {
	x := w ^ pattern
	return ^((x&^highs + ^uint64(highs)) | x) & highs
}

// word returns the eight bytes of b from at on; beyond its end they are zero.
func word(b []byte, at int) uint64 {
	if at+8 <= len(b) {
		return binary.LittleEndian.Uint64(b[at:])
	}
	var w uint64
	for i, c := range b[at:] {
		w |= uint64(c) << (8 * i)
	}
	return w
}

// cellState follows quotes through a row whose quotes are in order: each
// opens a cell, closes it, or is one of a doubled pair.
type cellState struct {
	start  int  // of the current cell
	closed int  // where its quote closed, or -1
	inside bool // of quotes
}

// quote takes in a quote; false means that it is out of order.
func (c *cellState) quote(at int) bool {
	if c.inside {
		c.inside, c.closed = false, at
		return true
	}
	c.inside = true
	return at == c.start || c.closed >= c.start && at == c.closed+1
}

// end reports whether the current cell may end before at.
func (c *cellState) end(at int) bool { return c.closed < c.start || c.closed == at-1 }

// orderly splits a row with quotes, eight bytes at a time. It gives up and
// returns false where a quote is out of order.
func (r *Row) orderly(comma byte, most int) bool {
	c := cellState{closed: -1}
	commas, quotes := uint64(comma)*lows, uint64('"')*lows
	for at := 0; at < len(r.raw); at += 8 {
		w := word(r.raw, at)
		hitQuotes := equal8(w, quotes)
		for hits := hitQuotes | equal8(w, commas); hits != 0; hits &= hits - 1 {
			p := at + bits.TrailingZeros64(hits)/8
			switch {
			case hitQuotes&(hits&-hits) != 0:
				if !c.quote(p) {
					return false
				}
			case c.inside:
			case !c.end(p):
				return false
			default:
				r.ends = append(r.ends, int32(p))
				if len(r.ends) == most {
					return true
				}
				c.start = p + 1
			}
		}
	}
	r.ends = append(r.ends, int32(len(r.raw)))
	return !c.inside && c.end(len(r.raw))
}

// orderlyRow finds the end of the current row if its quotes are in order, and
// counts its cells and the line ends in them.
func (s *Scanner) orderlyRow() (int, bool) {
	c := cellState{start: s.start, closed: -1}
	commas, quotes, newlines := uint64(s.Comma)*lows, uint64('"')*lows, uint64('\n')*lows
	s.cells = 1
	for at := s.start; at < len(s.data); at += 8 {
		w := word(s.data, at)
		hitQuotes, hitLines := equal8(w, quotes), equal8(w, newlines)
		for hits := hitQuotes | hitLines | equal8(w, commas); hits != 0; hits &= hits - 1 {
			p, bit := at+bits.TrailingZeros64(hits)/8, hits&-hits
			switch {
			case hitQuotes&bit != 0:
				if !c.quote(p) {
					return 0, false
				}
			case c.inside:
				if hitLines&bit != 0 {
					s.lines++
				}
			case hitLines&bit != 0:
				return p, c.end(p) || c.closed == p-2 && s.data[p-1] == '\r'
			case !c.end(p):
				return 0, false
			default:
				s.cells++
				c.start = p + 1
			}
		}
	}
	return len(s.data), !c.inside && c.end(len(s.data))
}

// plain splits a row without quotes.
func (r *Row) plain(comma byte, most int) {
	raw := r.raw
	pattern := uint64(comma) * lows
	at := 0
	for ; at+8 <= len(raw); at += 8 {
		for hit := equal8(binary.LittleEndian.Uint64(raw[at:]), pattern); hit != 0; hit &= hit - 1 {
			r.ends = append(r.ends, int32(at+bits.TrailingZeros64(hit)/8))
			if len(r.ends) == most {
				return
			}
		}
	}
	for ; at < len(raw); at++ {
		if raw[at] == comma {
			r.ends = append(r.ends, int32(at))
			if len(r.ends) == most {
				return
			}
		}
	}
	r.ends = append(r.ends, int32(len(raw)))
}

// Same reports whether another row has the cells of r of the given numbers, in that order and no others, each as it stands
// there or with quotes round it. False may mean no more than that the rows
// have to be looked at cell by cell.
func (r *Row) Same(raw []byte, comma byte, order []int) bool {
	at := 0
	for n, of := range order {
		if n > 0 {
			if at >= len(raw) || raw[at] != comma {
				return false
			}
			at++
		}
		if of >= len(r.ends) {
			return false
		}
		cell := r.Cell(of)
		if at < len(raw) && raw[at] == '"' && (len(cell) == 0 || cell[0] != '"') {
			end := at + 1 + len(cell)
			if end >= len(raw) || raw[end] != '"' || !bytes.Equal(raw[at+1:end], cell) || bytes.IndexByte(cell, '"') >= 0 {
				return false
			}
			at = end + 1
			continue
		}
		if len(raw)-at < len(cell) || !bytes.Equal(raw[at:at+len(cell)], cell) {
			return false
		}
		at += len(cell)
	}
	return at == len(raw)
}
