package csv

import "math/bits"

// Picker takes single cells out of many rows. It walks eight bytes at a time, from whichever end of a row is nearer, and counts the
// delimiters before the cells that it is asked for, so that the others cost little.
type Picker struct {
	comma, quote uint64 // patterns; quote is zero where there are none
	width        int
	front, back  []int // the delimiters around the cells, by their number from the row's start, and from its end
	at           []int // of each delimiter where it is, by its number from the start; -1 is not there
	cols         []int
	cells        [][]byte
}

// NewPicker returns a Picker of the cells of the given numbers, from 0 on, in ascending order. width is how many
// cells each of the rows has, 0 if they do not all have as many; quotes is false where no row has any.
func NewPicker(comma byte, cols []int, width int, quotes bool) *Picker {
	p := &Picker{comma: uint64(comma) * lows, width: width, cols: cols, cells: make([][]byte, len(cols))}
	if quotes {
		p.quote = '"' * lows
	}
	all := map[int]bool{}
	for _, c := range cols {
		all[c], all[c+1] = true, true
	}
	last := 0
	if len(cols) > 0 {
		last = cols[len(cols)-1] + 1
	}
	p.at = make([]int, last+1)
	for n := 1; n <= last; n++ {
		switch {
		case !all[n] || width > 0 && n >= width:
		case width > 0 && n > width/2:
			p.back = append([]int{width - n}, p.back...)
		default:
			p.front = append(p.front, n)
		}
	}
	return p
}

// Cells returns the cells of a row that a Scanner gave, quotes included, nil for those that the row has not. No cell of the row may have a
// quote inside that does not start with one. They are good until the next call.
func (p *Picker) Cells(raw []byte) [][]byte {
	p.forward(raw)
	p.backward(raw)
	for n, c := range p.cols {
		if p.width > 0 && c >= p.width {
			p.cells[n] = nil
			continue
		}
		from, to := 0, len(raw)
		if c > 0 {
			from = p.at[c] + 1
		}
		if p.at[c+1] >= 0 && c+1 != p.width {
			to = p.at[c+1]
		}
		if c > 0 && from == 0 {
			p.cells[n] = nil
		} else {
			p.cells[n] = raw[from:to:to]
		}
	}
	return p.cells
}

// forward finds the delimiters that are counted from the start.
func (p *Picker) forward(raw []byte) {
	if len(p.front) == 0 {
		return
	}
	count, found, inside, mark := 0, 0, false, p.front[0]
	for at := 0; at < len(raw); at += 8 {
		hits := p.hits(word(raw, at), &inside)
		n := bits.OnesCount64(hits)
		if count += n; count < mark {
			continue
		}
		for count -= n; hits != 0; hits &= hits - 1 {
			if count++; count == mark {
				p.at[mark] = at + bits.TrailingZeros64(hits)/8
				if found++; found == len(p.front) {
					return
				}
				mark = p.front[found]
			}
		}
	}
	for _, mark := range p.front[found:] {
		p.at[mark] = -1
	}
}

// backward finds the delimiters that are counted from the end. As many quotes stand behind a delimiter as before it, odd or even.
func (p *Picker) backward(raw []byte) {
	if len(p.back) == 0 {
		return
	}
	count, found, inside, mark := 0, 0, false, p.back[0]
	for end := len(raw); end > 0; end -= 8 {
		from := max(end-8, 0)
		w := word(raw[:end], from)
		hits := equal8(w, p.comma)
		if p.quote != 0 {
			if q := equal8(w, p.quote); q != 0 {
				inside = inside != (bits.OnesCount64(q)%2 == 1) // what is known from here on is how it is before the word
				hits, _ = outside(hits, q, inside)
			} else if inside {
				continue
			}
		}
		n := bits.OnesCount64(hits)
		if count += n; count < mark {
			continue
		}
		for count -= n; hits != 0; {
			top := 63 - bits.LeadingZeros64(hits)
			hits &^= 1 << top
			if count++; count == mark {
				p.at[p.width-mark] = from + top/8
				if found++; found == len(p.back) {
					return
				}
				mark = p.back[found]
			}
		}
	}
}

// hits are the delimiters of a word that stand outside of quotes.
func (p *Picker) hits(w uint64, inside *bool) uint64 {
	hits := equal8(w, p.comma)
	if p.quote == 0 {
		return hits
	}
	if q := equal8(w, p.quote); q != 0 {
		hits, *inside = outside(hits, q, *inside)
	} else if *inside {
		return 0
	}
	return hits
}

// outside are those of the hits that stand outside of quotes, where quotes are among the eight bytes, and whether these end inside.
func outside(hits, quotes uint64, inside bool) (uint64, bool) {
	var in uint64 // the bytes that stand inside
	for ; quotes != 0; quotes &= quotes - 1 {
		in ^= -(quotes & -quotes) // from this quote on it is the other way round
	}
	if inside {
		in = ^in
	}
	return hits &^ in, in>>63 == 1
}
