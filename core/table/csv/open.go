package csv

import (
	"bytes"
	"fmt"
	"unicode/utf8"

	"paletwin/core/table"
)

// sniffed is how many bytes at the start of a file decide its delimiter.
const sniffed = 64 << 10

// Open reads the heading of a CSV file given as its bytes and finds its
// delimiter, line end and byte-order mark; see CheckText for the rest. The name is for messages. Errors
// are *table.Error.
func Open(name string, data []byte) (*table.Image, error) {
	m := &table.Image{Name: name, Data: data, Found: table.Found{Format: "csv", Encoding: "utf-8", Newline: "lf"}}
	if len(data) == 0 {
		return nil, &table.Error{Code: table.Empty, File: name, Text: "the file is empty"}
	}
	if err := checkHead(name, data); err != nil {
		return nil, err
	}
	pos := 0
	if bytes.HasPrefix(data, []byte("\ufeff")) {
		m.Found.BOM, pos = true, len("\ufeff")
	}
	m.Comma = delimiter(data[pos:min(len(data), sniffed)])
	m.Found.Delimiter = string(m.Comma)
	s := NewScanner(data, pos, m.Comma)
	s.File = name
	for {
		ok, err := s.Next()
		if err != nil {
			return nil, err
		}
		if !ok {
			return nil, &table.Error{Code: table.Empty, File: name, Text: "the file holds no row"}
		}
		if !BlankRow(s.Raw(), m.Comma) {
			break
		}
	}
	cells := Split(nil, s.Raw(), m.Comma)
	m.Found.Quoted = true
	for _, c := range cells {
		m.Heading = append(m.Heading, string(Unquote(c)))
		m.Found.Quoted = m.Found.Quoted && len(c) > 0 && c[0] == '"'
	}
	for n := len(m.Heading); n > 0 && m.Heading[n-1] == ""; n-- {
		m.Heading = m.Heading[:n-1]
	}
	if s.end < len(data) && data[s.end] == '\r' {
		m.Found.Newline = "crlf"
	}
	m.HeadingRow, m.Body, m.BodyLine = s.Row, s.pos, s.Line+s.lines+1
	return m, nil
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
	case bytes.HasPrefix(head, []byte("\xff\xfe")), bytes.HasPrefix(head, []byte("\xfe\xff")):
		return &table.Error{Code: table.NotUTF8, File: name, Row: 1, Text: "the file is UTF-16, not UTF-8"}
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
// columns, all rows alike if one does.
func delimiter(head []byte) byte {
	best, bestScore := byte(','), 0
	for _, comma := range []byte{',', ';', '\t'} {
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
