package csv

import (
	"bytes"
	"fmt"
	"io"
	"unicode/utf8"

	"paletwin/core/table"
)

// sniffed is how many bytes at the start of a file decide its delimiter.
const sniffed = 64 << 10

// Open reads the heading of a CSV file given as its bytes and finds its
// delimiter, line end and byte-order mark; see CheckText for the rest. The
// name is for messages. Errors are *table.Error.
func Open(name string, data []byte) (*table.Image, error) {
	return OpenWith(name, data, table.Options{})
}

// OpenWith is Open for a file of which something is known. Bytes in another
// encoding than UTF-8 are decoded first.
func OpenWith(name string, data []byte, o table.Options) (*table.Image, error) {
	if len(data) == 0 {
		return nil, &table.Error{Code: table.Empty, File: name, Text: "the file is empty"}
	}
	data, encoding, err := toUTF8(name, data, o.Encoding, o.Known.Encoding)
	if err != nil {
		return nil, err
	}
	if err := checkHead(name, data); err != nil {
		return nil, err
	}
	data, cr := fromCR(data)
	m, err := readHeading(name, data, encoding, o)
	if err == nil && cr {
		m.Found.Newline = "cr"
	}
	if err == nil && o.Known.Nulls {
		m.Nulls, m.Found.Nulls = true, true
	}
	return m, err
}

// fromCR turns the line ends of a text that has CR alone into LF, and reports
// whether it did. ToCR is its inverse.
func fromCR(data []byte) ([]byte, bool) {
	head := data[:min(len(data), sniffed)]
	if bytes.IndexByte(head, '\r') < 0 || bytes.IndexByte(head, '\n') >= 0 || bytes.IndexByte(data, '\n') >= 0 {
		return data, false
	}
	return bytes.ReplaceAll(data, []byte{'\r'}, newline), true
}

// ToCR returns a writer that turns LF into CR.
func ToCR(w io.Writer) io.Writer { return &crWriter{w: w} }

type crWriter struct {
	w    io.Writer
	room []byte
}

func (c *crWriter) Write(p []byte) (int, error) {
	c.room = append(c.room[:0], p...)
	for i, b := range c.room {
		if b == '\n' {
			c.room[i] = '\r'
		}
	}
	return c.w.Write(c.room)
}

// readHeading makes the image of CSV bytes that are UTF-8.
func readHeading(name string, data []byte, encoding string, o table.Options) (*table.Image, error) {
	m := &table.Image{Name: name, Data: data, Found: table.Found{Format: "csv", Encoding: encoding, Newline: "lf"}}
	pos := 0
	if bytes.HasPrefix(data, []byte("\ufeff")) {
		m.Found.BOM, pos = true, len("\ufeff")
	}
	s, err := headingBy(m, pos, o)
	if err != nil {
		return nil, err
	}
	m.Found.Delimiter = string(m.Comma)
	m.Found.Quoted = true
	for _, c := range Split(nil, s.Raw(), m.Comma) {
		m.Heading = append(m.Heading, string(Unquote(c)))
		m.Found.Quoted = m.Found.Quoted && len(c) > 0 && c[0] == '"'
	}
	for n := len(m.Heading); n > 0 && m.Heading[n-1] == ""; n-- {
		m.Heading = m.Heading[:n-1]
	}
	switch {
	case s.end < len(data) && data[s.end] == '\r':
		m.Found.Newline = "crlf"
	case s.end >= len(data) && o.Known.Newline != "": // the heading alone, without a line end
		m.Found.Newline = o.Known.Newline
	}
	m.HeadingRow, m.Body, m.BodyLine = s.Row, s.pos, s.Line+s.lines+1
	return m, nil
}

// headingBy finds the heading with the delimiter that is given, or that is
// known and parts the heading, or that is found.
func headingBy(m *table.Image, pos int, o table.Options) (*Scanner, error) {
	by := func(comma string) (*Scanner, error) {
		m.Comma = comma[0]
		s := NewScanner(m.Data, pos, m.Comma)
		s.File = m.Name
		return s, findHeading(s, m, o.HeadingRow)
	}
	if o.Delimiter != "" {
		return by(o.Delimiter)
	}
	if o.Known.Delimiter != "" {
		notes := m.Notes
		if s, err := by(o.Known.Delimiter); err == nil && len(Split(nil, s.Raw(), m.Comma)) > 1 {
			return s, nil
		}
		m.Notes, m.Found.HeadingRow = notes, 0
	}
	return by(string(delimiter(m.Data[pos:min(len(m.Data), sniffed)])))
}

// findHeading moves the scanner to the row of headings: the one given, or the
// first that is not blank. A row with a single filled cell above wider ones
// is a title, and is passed over with a note.
func findHeading(s *Scanner, m *table.Image, given int) error {
	wide := given == 0 && widest(*s) > 2
	titles := 0
	for {
		ok, err := s.Next()
		if err != nil {
			return err
		}
		if !ok {
			text := "the file holds no row"
			if given > 0 {
				text = fmt.Sprintf("the file has no row %d that could be the heading", given)
			}
			return &table.Error{Code: table.Empty, File: m.Name, Text: text}
		}
		switch {
		case given > 0 && s.Row < given, given == 0 && BlankRow(s.Raw(), m.Comma):
			continue
		case wide && filled(s.Raw(), m.Comma) == 1:
			titles++
			continue
		}
		if given > 0 && s.Row != given || BlankRow(s.Raw(), m.Comma) {
			return &table.Error{Code: table.BlankHeading, File: m.Name, Row: given, Text: "the row that should be the heading is blank"}
		}
		if s.Row > 1 {
			m.Found.HeadingRow = s.Row
		}
		if titles > 0 {
			m.Notes = append(m.Notes, table.Note{Code: "heading-lower", Text: fmt.Sprintf("the headings are taken from row %d; what stands above is passed over", s.Row), Count: titles})
		}
		return nil
	}
}

// widest returns the most filled cells in one of the first rows.
func widest(s Scanner) int {
	most := 0
	for range 20 {
		ok, err := s.Next()
		if !ok || err != nil {
			break
		}
		most = max(most, filled(s.Raw(), s.Comma))
	}
	return most
}

func filled(raw []byte, comma byte) int {
	n := 0
	for _, c := range Split(nil, raw, comma) {
		if len(Unquote(c)) > 0 {
			n++
		}
	}
	return n
}

// Body returns a Scanner on the rows below an image's heading, which counts
// rows and lines as the file does.
func Body(m *table.Image) *Scanner {
	s := NewScanner(m.Data, m.Body, m.Comma)
	s.File, s.Row, s.Line = m.Name, m.HeadingRow, m.BodyLine-1
	return s
}

// checkHead refuses what is no text by the look of its first bytes.
func checkHead(name string, data []byte) error {
	head := data[:min(len(data), 8<<10)]
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		return &table.Error{Code: table.Binary, File: name, Text: "the file is a workbook or another zip archive, not CSV"}
	case bytes.Count(head, []byte{0}) > len(head)/64+1:
		return &table.Error{Code: table.Binary, File: name, Text: "the file is binary, not text"}
	}
	return CheckText(name, data, 0, len(head))
}

// CheckText refuses NUL bytes and what is not UTF-8 in the bytes from one
// offset up to another, where a character may be cut, and says where. Open
// checks a file's first bytes alone: whoever reads on checks on, close to
// where it reads, since the bytes are at hand then.
func CheckText(name string, data []byte, from, to int) error {
	part := data[from:to]
	if i := bytes.IndexByte(part, 0); i >= 0 {
		return textError(table.NUL, name, data, from+i, "a NUL byte stands in the text")
	}
	if utf8.Valid(part) {
		return nil
	}
	for to < len(data) && to < from+len(part)+utf8.UTFMax && !utf8.RuneStart(data[to]) {
		to++
	}
	for from > 0 && !utf8.RuneStart(data[from]) {
		from--
	}
	if i := invalidUTF8(data[from:to]); i >= 0 {
		return textError(table.NotUTF8, name, data, from+i, fmt.Sprintf("the byte %02X is not UTF-8", data[from+i]))
	}
	return nil
}

// textError places the byte at offset at: its row where the quotes before it
// are in order, and its line.
func textError(code table.Code, name string, data []byte, at int, text string) error {
	line := 1 + bytes.Count(data[:at], newline)
	row := line
	comma := delimiter(data[:min(len(data), sniffed)])
	s := NewScanner(data, 0, comma)
	for {
		ok, err := s.Next()
		if !ok || err != nil {
			break
		}
		if s.start <= at && at <= s.end {
			row = s.Row
			break
		}
	}
	return &table.Error{Code: code, File: name, Row: row, Line: line, Text: text}
}

// invalidUTF8 returns the offset of the first byte that is not UTF-8, or -1.
func invalidUTF8(data []byte) int {
	for at := 0; at < len(data); {
		r, w := utf8.DecodeRune(data[at:])
		if r == utf8.RuneError && w == 1 {
			return at
		}
		at += w
	}
	return -1
}

// delimiter returns the delimiter that splits the first rows into the most
// columns, all rows alike if one does. An upright bar is one only where no other
// sign splits them: it stands in texts, too.
func delimiter(head []byte) byte {
	best, bestScore := byte(','), 0
	for _, comma := range []byte{',', ';', '\t', '|'} {
		if comma == '|' && bestScore > 0 {
			break
		}
		s := NewScanner(head, 0, comma)
		want, alike, rows := 0, 0, 0
		for rows < 100 {
			ok, err := s.Next()
			if !ok || err != nil || s.pos == len(head) && rows > 0 {
				break
			}
			n := len(Split(nil, s.Raw(), comma))
			if rows == 0 {
				want = n
			}
			if n == want {
				alike++
			}
			rows++
		}
		if want < 2 {
			continue
		}
		score := want
		if alike == rows {
			score += 10_000
		}
		if score > bestScore {
			best, bestScore = comma, score
		}
	}
	return best
}
