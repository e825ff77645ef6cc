// Package csv splits CSV bytes into rows and cells without copying them.
//
// It reads RFC 4180 as encoding/csv does, with these rules:
//
//   - a row ends at LF, CR LF or the end of the input; an empty line is no
//     row, but a spreadsheet counts it, and so does the row number here;
//   - a cell whose first byte is a quote runs to the closing quote; a doubled
//     quote inside stands for one; after the closing quote only a delimiter
//     or the row's end may follow;
//   - a quote inside a cell that does not start with one is taken as it
//     stands (real exports have them) and counted, where encoding/csv takes
//     it with LazyQuotes alone;
//   - spaces belong to the cell.
//
// Unlike encoding/csv it gives cells as the bytes of the file, quotes
// included, so that a row can be compared or written back unread. Unquote
// gives a cell's content. A CR LF inside quotes stays a CR LF.
package csv

import (
	"bytes"
	"fmt"

	"paletwin/core/table"
)

// Scanner walks the rows of CSV bytes. Its exported fields are its options
// and its findings; set Comma, and Row and Line if the bytes do not start
// the file, before the first Next.
type Scanner struct {
	Comma byte // the delimiter, "," by default
	Row   int  // the number of the current row as a spreadsheet counts, from 1
	Line  int  // the line on which the current row starts, from 1
	Bare  int  // cells seen so far with a quote inside that did not start with one
	File  string

	data  []byte
	pos   int // where the next row starts
	start int // where the current row starts
	end   int // where it ends, line end excluded
	quote int // the next quote at or after pos, or clear
	clear int // so far it is known where quotes are
	step  int // how far is looked for them next
	lines int // line ends inside the current row
	cells int // cells of the current row if it has quotes, else 0
}

// NewScanner returns a Scanner that reads data from the offset pos on.
func NewScanner(data []byte, pos int, comma byte) *Scanner {
	return &Scanner{Comma: comma, data: data, pos: pos, quote: pos, clear: pos, step: near}
}

// near and far are how many bytes are looked through for quotes at a time, just before their rows are read: more and more where rows are
// read one after the other.
const near, far = 256, 16 << 10

// quoteBefore reports whether a quote stands before an offset, at or after pos. quote is the first one then.
func (s *Scanner) quoteBefore(end int) bool {
	for s.quote < end && s.quote == s.clear && s.clear < len(s.data) {
		to := min(max(s.clear+s.step, end), len(s.data))
		if i := bytes.IndexByte(s.data[s.clear:to], '"'); i >= 0 {
			s.quote, s.clear = s.clear+i, s.clear+i+1
		} else {
			s.quote, s.clear = to, to
			s.step = min(2*s.step, far)
		}
	}
	return s.quote < end && s.quote < s.clear
}

// Jump moves the scanner to the start of a row further on, which is that many rows behind the current one, empty lines counted. Line is not
// known from there on.
func (s *Scanner) Jump(pos, rows int) {
	s.Row += rows
	s.pos, s.start, s.end, s.lines, s.cells = pos, pos, pos, 0, 0
	s.quote, s.clear, s.step = pos, pos, near
}

// Next moves to the next row that is not an empty line. It returns false at
// the end, and a *table.Error where a quote is wrong.
func (s *Scanner) Next() (bool, error) {
	for s.pos < len(s.data) {
		s.start = s.pos
		s.Row++
		s.Line += 1 + s.lines
		s.lines, s.cells = 0, 0
		end := len(s.data)
		if s.data[s.pos] == '"' {
			end++ // its end is not the next line end
		} else if i := bytes.IndexByte(s.data[s.pos:], '\n'); i >= 0 {
			end = s.pos + i
		}
		if s.quoteBefore(end) {
			var err error
			if end, err = s.quotedRow(); err != nil {
				return false, err
			}
			s.quote, s.clear = end, end
		}
		s.pos = min(end+1, len(s.data))
		if end > s.start && s.data[end-1] == '\r' {
			end--
		}
		s.end = end
		if end > s.start {
			return true, nil
		}
	}
	return false, nil
}

// Raw returns the bytes of the current row without its line end.
func (s *Scanner) Raw() []byte { return s.data[s.start:s.end:s.end] }

// Quoted reports whether the current row has a quote.
func (s *Scanner) Quoted() bool { return s.cells > 0 }

// Width returns the number of cells of the current row.
func (s *Scanner) Width() int {
	if s.cells > 0 {
		return s.cells
	}
	return 1 + bytes.Count(s.Raw(), []byte{s.Comma})
}

// Start and End are the current row's place in the data, its line end
// excluded; Pos is where the next row starts.
func (s *Scanner) Start() int { return s.start }
func (s *Scanner) End() int   { return s.end }
func (s *Scanner) Pos() int   { return s.pos }

// quotedRow finds the end of a row with a quote in it: at a run where its
// quotes are in order, else cell by cell.
func (s *Scanner) quotedRow() (int, error) {
	if end, ok := s.orderlyRow(); ok {
		return end, nil
	}
	s.lines, s.cells = 0, 0
	for p, cell := s.start, 1; ; cell++ {
		var err error
		if p < len(s.data) && s.data[p] == '"' {
			p, err = s.quotedCell(p, cell)
		} else {
			p = s.plainCell(p)
		}
		if err != nil {
			return 0, err
		}
		if p >= len(s.data) || s.data[p] == '\n' {
			s.cells = cell
			return p, nil
		}
		p++ // the delimiter
	}
}

// plainCell returns the offset of the delimiter or line end after the
// unquoted cell at p.
func (s *Scanner) plainCell(p int) int {
	bare := false
	for ; p < len(s.data); p++ {
		switch c := s.data[p]; {
		case c == s.Comma || c == '\n':
			if bare {
				s.Bare++
			}
			return p
		case c == '"':
			bare = true
		}
	}
	if bare {
		s.Bare++
	}
	return p
}

// quotedCell returns the offset of the delimiter or line end after the
// quoted cell that opens at p.
func (s *Scanner) quotedCell(open, cell int) (int, error) {
	p := open + 1
	for {
		i := bytes.IndexByte(s.data[p:], '"')
		if i < 0 {
			return 0, s.fail(table.Unclosed, open, cell, "a quote opens here and is never closed")
		}
		if i > 0 {
			s.lines += bytes.Count(s.data[p:p+i], newline)
		}
		p += i + 1
		switch {
		case p == len(s.data), s.data[p] == s.Comma, s.data[p] == '\n':
			return p, nil
		case s.data[p] == '"':
			p++
		case s.data[p] == '\r' && (p+1 == len(s.data) || s.data[p+1] == '\n'):
			return p + 1, nil
		default:
			return 0, s.fail(table.StrayQuote, p-1, cell,
				fmt.Sprintf("a quoted cell is closed and then goes on with %q", clip(s.data[p:])))
		}
	}
}

var newline = []byte{'\n'}

// clip returns the first bytes of b up to its line end, for a message.
func clip(b []byte) string {
	b = b[:min(len(b), 12)]
	if i := bytes.IndexByte(b, '\n'); i >= 0 {
		b = b[:i]
	}
	return string(bytes.ToValidUTF8(b, nil))
}

func (s *Scanner) fail(code table.Code, at, cell int, text string) error {
	line := s.Line + bytes.Count(s.data[s.start:at], newline)
	return &table.Error{Code: code, File: s.File, Row: s.Row, Line: line, Column: cell,
		Text: fmt.Sprintf("cell %d: %s", cell, text)}
}

// Split appends the cells of a row that a Scanner gave to dst, as slices of
// it, quotes included. Row.Split is the faster way over many rows.
func Split(dst [][]byte, raw []byte, comma byte) [][]byte {
	for {
		n := cellEnd(raw, comma)
		dst = append(dst, raw[:n:n])
		if n == len(raw) {
			return dst
		}
		raw = raw[n+1:]
	}
}

// Cell returns the cell of the given number, from 0, of a row that a Scanner
// gave, and whether the row has that many.
func Cell(raw []byte, n int, comma byte) ([]byte, bool) {
	for ; ; n-- {
		e := cellEnd(raw, comma)
		if n == 0 {
			return raw[:e:e], true
		}
		if e == len(raw) {
			return nil, false
		}
		raw = raw[e+1:]
	}
}

// Skip returns how many bytes so many cells of a row have, with the delimiters behind them; -1 where it has no cell behind those.
func Skip(raw []byte, cells int, comma byte) int {
	at := 0
	for range cells {
		e := cellEnd(raw[at:], comma)
		if at+e == len(raw) {
			return -1
		}
		at += e + 1
	}
	return at
}

// cellEnd returns the length of the row's first cell.
func cellEnd(raw []byte, comma byte) int {
	if len(raw) > 0 && raw[0] == '"' {
		p := 1
		for {
			i := bytes.IndexByte(raw[p:], '"')
			if i < 0 {
				return len(raw)
			}
			p += i + 1
			if p == len(raw) || raw[p] != '"' {
				return p
			}
			p++
		}
	}
	// Cells are short: a plain loop beats a call for them.
	for i, c := range raw {
		if c == comma {
			return i
		}
		if i == 24 {
			if j := bytes.IndexByte(raw[i:], comma); j >= 0 {
				return i + j
			}
			return len(raw)
		}
	}
	return len(raw)
}

// Unquote returns the content of a cell. It shares the cell's bytes unless
// a doubled quote has to be undone.
func Unquote(cell []byte) []byte {
	if len(cell) < 2 || cell[0] != '"' {
		if absent(cell) {
			return nil
		}
		return cell
	}
	cell = cell[1 : len(cell)-1]
	if bytes.IndexByte(cell, '"') < 0 {
		return cell
	}
	return bytes.ReplaceAll(cell, []byte(`""`), []byte(`"`))
}

// AppendCell appends value as a cell, quoted where RFC 4180 asks for it or
// where quoted says so.
func AppendCell[T string | []byte](dst []byte, value T, comma byte, quoted bool) []byte {
	if !quoted && !needsQuotes(value, comma) {
		return append(dst, value...)
	}
	dst = append(dst, '"')
	for i := range len(value) {
		if value[i] == '"' {
			dst = append(dst, '"')
		}
		dst = append(dst, value[i])
	}
	return append(dst, '"')
}

func needsQuotes[T string | []byte](s T, comma byte) bool {
	for i := range len(s) {
		switch s[i] {
		case comma, '"', '\n', '\r':
			return true
		}
	}
	return false
}

// BlankRow reports whether every cell of the row is empty.
func BlankRow(raw []byte, comma byte) bool {
	for len(raw) > 0 {
		switch {
		case raw[0] == comma:
			raw = raw[1:]
		case len(raw) >= 2 && raw[0] == '"' && raw[1] == '"' && (len(raw) == 2 || raw[2] == comma):
			raw = raw[2:]
		default:
			return false
		}
	}
	return true
}
