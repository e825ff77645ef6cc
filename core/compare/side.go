package compare

import (
	"fmt"
	"slices"
	"sort"

	"paletwin/core/record"
	"paletwin/core/slip"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// side is one table scanned: its rows as offsets.
type side struct {
	img    *table.Image
	keyCol []int
	form   func(part string) string // how a part of a key is compared; nil is its bytes

	start offsets          // where each row starts; one more at the end, for the last row's end
	gaps  []gap            // rows that a spreadsheet counts and that are no records
	ends  map[uint32]int64 // where a row ends that such rows follow
	last  int64            // where the row before ends
	blank int              // wholly blank rows, rows with nothing at all not counted
	bare  int

	quoted bool // a row has a quote
	wider  bool // a row has cells beyond the last heading

	unsorted  bool // the keys do not ascend strictly, so they may repeat
	noKey     []uint32
	short     []uint32
	long      []uint32
	first     []byte // the key of the first row
	before    []byte // the key of the row before: its cell, or the encoding of several
	spare     []byte // room for the encoding of the next
	kept      []byte // the room that before is in
	wantCells int
	lowest    *slip.BottomK // takes in the keys' digests, or nil
	keyInside bool          // a cell follows the key's in every row, so that line ends do not touch it
	row       int           // how a spreadsheet counts the last row that was scanned
}

// gap says that skipped rows, all in all, stand before the row of that index.
type gap struct {
	index   int
	skipped int
}

func newSide(img *table.Image, keyCol []int) *side {
	return &side{img: img, keyCol: keyCol, wantCells: len(img.Heading), keyInside: slices.Max(keyCol) < len(img.Heading)-1, row: img.HeadingRow}
}

// again is a scanned side for another comparison: what was found is shared, and no room is.
func (s *side) again() *side {
	c := *s
	c.before, c.spare, c.kept = nil, nil, nil
	return &c
}

func (s *side) len() int { return max(s.start.len()-1, 0) }

// rowKey returns what the order of keys is judged by, and whether a part of
// the key is blank: for a key of one field its cell, else the encoding.
func (s *side) rowKey(raw []byte) (key []byte, blank bool) {
	if len(s.keyCol) == 1 {
		cell, _ := csv.Cell(raw, s.keyCol[0], s.img.Comma)
		key = csv.Unquote(cell)
		return key, len(key) == 0
	}
	s.spare = s.keyEncoding(s.spare[:0], raw)
	return s.spare, record.KeyOf(s.spare).Blank()
}

// blankBeyond reports whether the cells beyond the headings are empty.
func (s *side) blankBeyond(raw []byte) bool {
	for _, c := range csv.Split(nil, raw, s.img.Comma)[s.wantCells:] {
		if len(csv.Unquote(c)) > 0 {
			return false
		}
	}
	return true
}

// keyEncoding appends the key of a row to dst, as record.Key encodes it.
func (s *side) keyEncoding(dst, raw []byte) []byte {
	if s.form != nil {
		return s.formEncoding(dst, raw)
	}
	return csv.AppendKey(dst, raw, s.keyCol, s.img.Comma)
}

// formEncoding is keyEncoding where keys are recognised that are not written
// alike.
func (s *side) formEncoding(dst, raw []byte) []byte {
	for _, p := range record.KeyOf(csv.AppendKey(nil, raw, s.keyCol, s.img.Comma)).Parts() {
		dst = record.AppendPart(dst, s.form(p))
	}
	return dst
}

// own returns a row's key as the row has it.
func (s *side) own(raw []byte) record.Key {
	return record.KeyOf(csv.AppendKey(nil, raw, s.keyCol, s.img.Comma))
}

// raw returns the bytes of a row without its line end.
func (s *side) raw(i uint32) []byte {
	return s.between(i, s.start.at(i), s.start.at(i+1))
}

// between is raw of a row from whose start on so much is known to come before the next.
func (s *side) between(i uint32, from, to int64) []byte {
	if s.ends != nil {
		if end, ok := s.ends[i]; ok {
			return s.img.Data[from:end:end]
		}
	}
	for _, c := range []byte("\n\r") {
		if to > from && s.img.Data[to-1] == c {
			to--
		}
	}
	return s.img.Data[from:to:to]
}

// rawKey returns bytes of a row from which its key can be read: the row, and
// perhaps its line end. It does not touch the row's end, which may be far
// from its beginning where rows are read in no order.
func (s *side) rawKey(i uint32) []byte {
	if s.keyInside {
		return s.img.Data[s.start.at(i):s.start.at(i+1)]
	}
	return s.raw(i)
}

// touch reads the first byte of each of the given rows, and the last if whole
// says so: first all that tells where they are and then all of them, so that
// the memory's answers overlap.
func (s *side) touch(rows []uint32, whole bool) (sum byte) {
	var at, end [group]int64
	for k, i := range rows {
		at[k], end[k] = s.start.at(i), s.start.at(i+1)
	}
	for k := range rows {
		sum ^= s.img.Data[at[k]]
		if whole {
			sum ^= s.img.Data[end[k]-1]
		}
	}
	return sum
}

// group is how many rows are touched at once.
const group = 32

func (s *side) key(i uint32) record.Key { return s.own(s.raw(i)) }

// rowNumber returns the number a spreadsheet gives to a row.
func (s *side) rowNumber(i uint32) int {
	if s.img.Rows != nil {
		return s.img.Rows[i]
	}
	n := sort.Search(len(s.gaps), func(g int) bool { return s.gaps[g].index > int(i) })
	row := s.img.HeadingRow + 1 + int(i)
	if n > 0 {
		row += s.gaps[n-1].skipped
	}
	return row
}

// refuse says why a table cannot be a snapshot, or returns nil; called is what
// stands before its name.
func (s *side) refuse(called string) error {
	for _, bad := range []struct {
		rows []uint32
		code table.Code
		text string
	}{
		{s.short, table.ShortRow, "fewer cells than headings"},
		{s.long, table.LongRow, "filled cells beyond the last heading"},
		{s.noKey, KeyBlank, "no key"},
	} {
		if len(bad.rows) > 0 {
			return s.refusal(bad.code, bad.rows, fmt.Sprintf("%s%s has %s with %s", called, s.img.Name, words.Count(len(bad.rows), "row"), bad.text))
		}
	}
	return nil
}

// isNothing reports whether a row has nothing in the field without which it is no record.
func (s *side) isNothing(j uint32) bool {
	if s.img.Sparse == "" {
		return false
	}
	cell, _ := csv.Cell(s.raw(j), s.img.Column(s.img.Sparse), s.img.Comma)
	return len(csv.Unquote(cell)) == 0
}

// rowOf is the row on which the file has a field of a row.
func (s *side) rowOf(i uint32, field string) int {
	row := s.rowNumber(i)
	if s.img.At != nil && field != "" {
		return s.img.At(row, field)
	}
	return row
}

// refusal refuses a table because of some of its rows.
func (s *side) refusal(code table.Code, at []uint32, text string) *Refusal {
	rows := s.rowNumbers(at)
	if s.img.Sheets != nil {
		return &Refusal{Code: code, File: s.img.Name, Text: text + ": " + s.img.Where(rows)}
	}
	return &Refusal{Code: code, File: s.img.Name, Rows: rows, Text: text}
}

func (s *side) rowNumbers(rows []uint32) []int {
	n := make([]int, len(rows))
	for i, r := range rows {
		n[i] = s.rowNumber(r)
	}
	return n
}
