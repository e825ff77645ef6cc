package compare

import (
	"bytes"
	"context"
	"slices"

	"github.com/zeebo/xxh3"

	"paletwin/core/slip"
	"paletwin/core/table/csv"
)

// scan walks the table's rows on so many cores and notes what is wrong with them.
func (s *side) scan(ctx context.Context, cores int) error {
	s.reserve()
	if err := s.scanFrom(ctx, s.img.Body, cores); err != nil {
		return err
	}
	s.finish()
	return nil
}

// finish notes where the last row ends.
func (s *side) finish() {
	if s.row > s.img.HeadingRow+s.start.len() {
		s.endHere(s.start.len())
	}
	s.start.append(int64(len(s.img.Data)))
}

// partSize is how many bytes a part has at least that is scanned by a core of its own; fewer in tests.
var partSize = 4 << 20

// scanFrom scans from a row's start on to the end, in parts that are scanned at once. That a part starts with a row is known once the
// one before it is scanned, from a row's start up to where it starts: there a line ends, and had that been inside of quotes these would
// not be closed. If so, or if anything else is wrong, the rows are scanned anew, one after the other, which also says where it is.
func (s *side) scanFrom(ctx context.Context, from, cores int) error {
	cuts := s.cuts(from, min(cores, (len(s.img.Data)-from)/partSize))
	if len(cuts) == 0 {
		return s.scanPart(ctx, from, len(s.img.Data))
	}
	cuts = append(append([]int{from}, cuts...), len(s.img.Data))
	parts := make([]*side, len(cuts)-1)
	err := each(len(parts), func(k int) error {
		parts[k] = s.part()
		parts[k].start.reserve(s.rowsIn(cuts[k+1] - cuts[k]))
		return parts[k].scanPart(ctx, cuts[k], cuts[k+1])
	})
	if err != nil {
		if ctx.Err() != nil {
			return err
		}
		return s.scanPart(ctx, from, len(s.img.Data))
	}
	for k, p := range parts {
		s.join(p)
		parts[k] = nil
	}
	return nil
}

// cuts are places behind line ends at even distances, so that so many parts come of the bytes from a place on. Each is one where, by
// the look of the next rows, a row starts.
func (s *side) cuts(from, parts int) (cuts []int) {
	const tries, rows = 64, 3
	for k := 1; k < parts; k++ {
		at := from + k*((len(s.img.Data)-from)/parts)
		for range tries {
			i := bytes.IndexByte(s.img.Data[at:], '\n')
			if i < 0 {
				return cuts
			}
			if at += i + 1; s.looksLikeRows(at, rows) {
				break
			}
		}
		if len(cuts) == 0 || at > cuts[len(cuts)-1] {
			cuts = append(cuts, at)
		}
	}
	return cuts
}

// looksLikeRows reports whether rows of as many cells as there are headings follow a place.
func (s *side) looksLikeRows(at, rows int) bool {
	sc := csv.NewScanner(s.img.Data[at:min(at+1<<16, len(s.img.Data))], 0, s.img.Comma)
	for range rows {
		if ok, err := sc.Next(); !ok || err != nil || sc.Width() != s.wantCells {
			return false
		}
	}
	return true
}

// part is a side for some of the rows, which are counted as if they were the first.
func (s *side) part() *side {
	p := &side{img: s.img, keyCol: s.keyCol, form: s.form, wantCells: s.wantCells, keyInside: s.keyInside, row: s.img.HeadingRow}
	if s.lowest != nil {
		p.lowest = new(slip.BottomK)
	}
	return p
}

// scanPart takes in the rows from a row's start up to a place, which is behind a line end or the end.
func (s *side) scanPart(ctx context.Context, from, to int) error {
	sc := csv.NewScanner(s.img.Data[:to], from, s.img.Comma)
	sc.File, sc.Row, sc.Line = s.img.Name, s.row, s.img.BodyLine-1
	checked := from
	if from == s.img.Body {
		checked = 0
	}
	for n := 0; ; n++ {
		if n&0xffff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		ok, err := sc.Next()
		if err != nil {
			return err
		}
		if !ok {
			break
		}
		if sc.Pos() > checked && s.isText() {
			end := min(checked+checkBlock+(sc.Pos()-checked), to)
			if err := csv.CheckText(s.img.Name, s.img.Data, checked, end); err != nil {
				return err
			}
			checked = end
		}
		s.take(sc)
	}
	s.bare += sc.Bare
	s.row = sc.Row
	if s.isText() {
		return csv.CheckText(s.img.Name, s.img.Data, checked, to)
	}
	return nil
}

// isText reports whether the table's bytes are those of a file, which may be no text.
func (s *side) isText() bool { return s.img.Found.Format == "csv" && !s.img.Built }

// checkBlock is how many bytes are checked to be text at a time, just before
// their rows are read.
const checkBlock = 256 << 10

// reserve makes room for the rows that the file's first rows let expect.
func (s *side) reserve() { s.start.reserve(s.rowsIn(len(s.img.Data)-s.img.Body) + 1) }

// rowsIn is how many rows so many bytes have, or a few more, as the file's first rows let expect; 0 is not known.
func (s *side) rowsIn(size int) int {
	body := s.img.Data[s.img.Body:]
	head := body[:min(len(body), 64<<10)]
	rows := bytes.Count(head, []byte{'\n'})
	if rows == 0 {
		return 0
	}
	n := size / (len(head) / rows)
	return n + n/32 + 16
}

// take takes in the scanner's current row.
func (s *side) take(sc *csv.Scanner) {
	raw := sc.Raw()
	key, noKey := s.rowKey(raw)
	if noKey && csv.BlankRow(raw, s.img.Comma) {
		s.blank++
		return
	}
	i := s.start.len()
	if skipped := sc.Row - s.img.HeadingRow - 1 - i; skipped > s.skipped() {
		s.skip(i, skipped)
	}
	w := sc.Width()
	s.quoted, s.wider = s.quoted || sc.Quoted(), s.wider || w > s.wantCells
	switch {
	case w < s.wantCells:
		s.short = append(s.short, uint32(i))
	case w > s.wantCells && !s.blankBeyond(raw):
		s.long = append(s.long, uint32(i))
	case noKey:
		s.noKey = append(s.noKey, uint32(i))
	}
	s.start.append(int64(sc.Start()))
	if s.lowest != nil {
		s.lowest.Take(xxh3.Hash(key), uint32(i))
	}
	s.comesNext(key)
	s.last = int64(sc.End())
}

// comesNext notes the key of a row that comes next.
func (s *side) comesNext(key []byte) {
	switch {
	case s.start.len() == 1:
		s.first = slices.Clone(key)
	case !s.unsorted && bytes.Compare(s.before, key) >= 0:
		s.unsorted = true
	}
	if s.form != nil {
		s.unsorted = true
	}
	if s.before = key; len(s.keyCol) > 1 {
		s.spare, s.kept = s.kept, key // the two take turns
	}
}

// skipped is how many rows that are no records stand before the last of those that are.
func (s *side) skipped() int {
	if len(s.gaps) == 0 {
		return 0
	}
	return s.gaps[len(s.gaps)-1].skipped
}

// skip notes that so many rows, all in all, stand before row i that are no records.
func (s *side) skip(i, skipped int) {
	s.gaps = append(s.gaps, gap{i, skipped})
	s.endHere(i)
}

// endHere notes where the row before row i ends, since blank rows follow it.
func (s *side) endHere(i int) {
	if i > 0 {
		if s.ends == nil {
			s.ends = map[uint32]int64{}
		}
		s.ends[uint32(i-1)] = s.last
	}
}

// join takes in the rows of a part that follows.
func (s *side) join(p *side) {
	n := s.start.len()
	skipped := s.row - s.img.HeadingRow - n // before the part's first row
	shift := func(to, rows []uint32) []uint32 {
		for _, i := range rows {
			to = append(to, i+uint32(n))
		}
		return to
	}
	if p.start.len() > 0 {
		here := skipped
		if len(p.gaps) > 0 && p.gaps[0].index == 0 {
			here += p.gaps[0].skipped
			p.gaps = p.gaps[1:]
		}
		if here > s.skipped() {
			s.skip(n, here)
		}
		if !s.unsorted && n > 0 && bytes.Compare(s.before, p.first) >= 0 {
			s.unsorted = true
		}
		if n == 0 {
			s.first = p.first
		}
		s.unsorted = s.unsorted || p.unsorted
		s.before, s.last = slices.Clone(p.before), p.last
		s.spare, s.kept = nil, nil
	}
	for _, g := range p.gaps {
		s.gaps = append(s.gaps, gap{g.index + n, g.skipped + skipped})
	}
	for i, end := range p.ends {
		if s.ends == nil {
			s.ends = map[uint32]int64{}
		}
		s.ends[i+uint32(n)] = end
	}
	s.short, s.long, s.noKey = shift(s.short, p.short), shift(s.long, p.long), shift(s.noKey, p.noKey)
	s.quoted, s.wider = s.quoted || p.quoted, s.wider || p.wider
	s.blank += p.blank
	s.bare += p.bare
	s.row += p.row - s.img.HeadingRow
	s.start.extend(&p.start, 0, uint32(p.start.len()), 0)
	if p.lowest != nil {
		for key, i := range p.lowest.All() {
			s.lowest.Take(key, i+uint32(n))
		}
	}
}
