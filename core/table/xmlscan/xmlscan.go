// Package xmlscan reads the XML of office documents: elements, attributes and
// text, as fast as the bytes come and in bounded memory. It knows no document
// types, so that no entity can be defined and none can expand; it checks no
// more than it needs. It is for the spreadsheet formats, and no XML parser
// for anything else.
package xmlscan

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"strconv"
	"unicode/utf8"
)

// Kind is what a Scanner stands on.
type Kind uint8

const (
	End   Kind = iota // of the input
	Open              // of an element
	Close             // of an element; an empty element has both
	Text
)

// What can be wrong.
var (
	ErrDoctype = errors.New("the document defines a document type, which spreadsheets never do")
	ErrLong    = errors.New("a tag or a piece of text is longer than a spreadsheet's can be")
	ErrCut     = errors.New("the document ends in the middle")
)

// Longest is the most bytes of one tag or piece of text: a cell's 32,767
// characters, each as the longest reference, and room.
const Longest = 1 << 20

// Scanner gives the pieces of a document one after the other. Slices that it
// gives are good until the next call.
type Scanner struct {
	r     io.Reader
	buf   []byte
	at    int // what is not taken yet starts here
	eof   bool
	empty bool // the element that was opened is empty

	full  []byte // the name with its prefix
	name  []byte
	attrs []attr
	text  []byte
	room  []byte

	raw    []byte // the piece as it is written
	passed []byte // what was passed over before it
	keeps  bool   // passed is kept
	most   int    // bytes of one piece, if not Longest
	start  []byte
	stop   []byte
}

// maxRest is the most bytes of an element that Rest takes: a row of all columns, with room.
const maxRest = 256 << 20

// Rest takes what is left of the element that was opened as it is written, its end tag included. It is good until the next call.
func (s *Scanner) Rest() ([]byte, error) {
	s.passed = s.passed[:0]
	if s.empty {
		s.empty, s.raw = false, nil
		return nil, nil
	}
	s.stop = append(append(s.stop[:0], "</"...), s.full...)
	s.start = append(append(s.start[:0], '<'), s.full...)
	ends := 0 // of elements of the name inside it
	s.most = maxRest
	defer func() { s.most = 0 }()
	for from := 0; ; {
		i := index(s.buf[s.at+from:], s.stop)
		end := from + i + len(s.stop)
		for i >= 0 && s.at+end < len(s.buf) && space(s.buf[s.at+end]) {
			end++
		}
		if i < 0 || s.at+end == len(s.buf) {
			if i < 0 {
				from = max(len(s.buf)-s.at-len(s.stop)+1, from)
			}
			if err := s.fill(); err != nil {
				if err == io.EOF {
					err = ErrCut
				}
				return nil, err
			}
			continue
		}
		rest := s.buf[s.at : s.at+end+1]
		if rest[end] != '>' || bytes.IndexByte(rest, '!') >= 0 && !whole(rest[:from+i]) {
			from = end
			continue
		}
		if ends < begun(rest[:from+i], s.start) {
			ends++
			from = end
			continue
		}
		s.raw = rest
		s.at += end + 1
		return rest, nil
	}
}

// begun counts the elements that a piece opens, and does not close by the same tag; start is how these begin.
func begun(b, start []byte) int {
	n := 0
	for {
		i := index(b, start)
		if i < 0 {
			return n
		}
		if b = b[i+len(start):]; len(b) > 0 && (space(b[0]) || b[0] == '>' || b[0] == '/') {
			if end := bytes.IndexByte(b, '>'); end > 0 && b[end-1] == '/' {
				continue
			}
			n++
		}
	}
}

// index is bytes.Index for the end of an element. It looks for its last letter, which is rarer in tables than what tags begin with.
func index(b, stop []byte) int {
	last := stop[len(stop)-1]
	for from := len(stop) - 1; from < len(b); {
		i := bytes.IndexByte(b[from:], last)
		if i < 0 {
			return -1
		}
		if from += i + 1; bytes.HasSuffix(b[:from], stop) {
			return from - len(stop)
		}
	}
	return -1
}

// whole reports whether a piece of a document ends outside of comments and texts that are marked as such.
func whole(b []byte) bool {
	for {
		i := bytes.Index(b, []byte("<!"))
		if i < 0 {
			return true
		}
		b = b[i:]
		stop := "-->"
		if bytes.HasPrefix(b, []byte("<![CDATA[")) {
			stop = "]]>"
		}
		if i = bytes.Index(b, []byte(stop)); i < 0 {
			return false
		}
		b = b[i+len(stop):]
	}
}

// Keep has Raw give what is passed over, too.
func (s *Scanner) Keep() { s.keeps = true }

// Raw returns the piece as it is written, with what was passed over before it. Of an empty element, which is opened and closed by
// one tag, the closing has none.
func (s *Scanner) Raw() []byte {
	if len(s.passed) > 0 {
		return append(s.passed, s.raw...)
	}
	return s.raw
}

// Empty reports whether the element that was opened is closed by its own tag.
func (s *Scanner) Empty() bool { return s.empty }

// New returns a Scanner that reads from r.
func New(r io.Reader) *Scanner { return &Scanner{r: r} }

// Over returns a Scanner of a document, or a piece of one, that is there as a whole.
func Over(b []byte) *Scanner { return &Scanner{buf: b[:len(b):len(b)], eof: true} }

// Offset is how many bytes of what is there as a whole were taken.
func (s *Scanner) Offset() int { return s.at }

// Prefix is the prefix of the element's name with its colon, or empty.
func (s *Scanner) Prefix() []byte { return s.full[:len(s.full)-len(s.name)] }

// Name returns the element's name without its prefix.
func (s *Scanner) Name() string { return string(s.name) }

// Is reports whether the element has the given name, prefix aside.
func (s *Scanner) Is(name string) bool { return string(s.name) == name }

// Text returns the text, its references replaced.
func (s *Scanner) Text() []byte { return s.text }

// Next moves to the next piece. Comments, declarations and instructions are
// passed over.
func (s *Scanner) Next() (Kind, error) {
	s.passed = s.passed[:0]
	if s.empty {
		s.empty, s.raw = false, nil
		return Close, nil
	}
	for {
		if s.at == len(s.buf) {
			if err := s.fill(); err != nil {
				if err == io.EOF {
					s.raw = nil
					return End, nil
				}
				return End, err
			}
		}
		if s.buf[s.at] != '<' {
			return s.takeText()
		}
		kind, err := s.takeTag()
		if err != nil || kind != End {
			return kind, err
		}
		if s.keeps {
			s.passed = append(s.passed, s.raw...)
		}
	}
}

// fill reads more, behind what is not taken yet.
func (s *Scanner) fill() error {
	if s.eof {
		return io.EOF
	}
	if len(s.buf)-s.at > max(Longest, s.most) {
		return ErrLong
	}
	rest := copy(s.buf, s.buf[s.at:])
	s.buf, s.at = s.buf[:rest], 0
	if cap(s.buf)-rest < 32<<10 {
		grown := make([]byte, rest, 2*cap(s.buf)+128<<10)
		copy(grown, s.buf)
		s.buf = grown
	}
	for {
		n, err := s.r.Read(s.buf[rest:cap(s.buf)])
		s.buf = s.buf[:rest+n]
		if err == io.EOF {
			s.eof = true
			err = nil
			if n == 0 {
				return io.EOF
			}
		}
		if n > 0 || err != nil {
			return err
		}
	}
}

// until returns what stands before the given bytes, from offset on, and takes
// it with them.
func (s *Scanner) until(stop string, offset int) ([]byte, error) {
	for from := offset; ; {
		if i := bytes.Index(s.buf[s.at+from:], []byte(stop)); i >= 0 {
			b := s.buf[s.at : s.at+from+i]
			s.raw = s.buf[s.at : s.at+from+i+len(stop)]
			s.at += from + i + len(stop)
			return b, nil
		}
		from = max(len(s.buf)-s.at-len(stop)+1, offset)
		if err := s.fill(); err != nil {
			if err == io.EOF {
				err = ErrCut
			}
			return nil, err
		}
	}
}

// takeText takes text up to the next tag.
func (s *Scanner) takeText() (Kind, error) {
	for from := 0; ; {
		if i := bytes.IndexByte(s.buf[s.at+from:], '<'); i >= 0 {
			s.raw = s.buf[s.at : s.at+from+i]
			s.text = s.decode(s.raw)
			s.at += from + i
			return Text, nil
		}
		from = len(s.buf) - s.at
		if err := s.fill(); err == io.EOF {
			s.raw = s.buf[s.at:]
			s.text = s.decode(s.raw)
			s.at = len(s.buf)
			return Text, nil
		} else if err != nil {
			return End, err
		}
	}
}

// takeTag takes a tag; End means that it is one that is passed over.
func (s *Scanner) takeTag() (Kind, error) {
	for len(s.buf)-s.at < 9 && !s.eof {
		if err := s.fill(); err != nil && err != io.EOF {
			return End, err
		}
	}
	head := s.buf[s.at:]
	switch {
	case bytes.HasPrefix(head, []byte("<!--")):
		_, err := s.until("-->", 4)
		return End, err
	case bytes.HasPrefix(head, []byte("<![CDATA[")):
		b, err := s.until("]]>", 9)
		if err == nil {
			s.text = b[9:]
		}
		return Text, err
	case bytes.HasPrefix(head, []byte("<!")):
		return End, ErrDoctype
	case bytes.HasPrefix(head, []byte("<?")):
		_, err := s.until("?>", 2)
		return End, err
	}
	b, err := s.tag()
	if err != nil {
		return End, err
	}
	if b[0] == '/' {
		s.setName(bytes.TrimRight(b[1:], " \t\r\n"))
		return Close, nil
	}
	if s.empty = b[len(b)-1] == '/'; s.empty {
		b = b[:len(b)-1]
	}
	n := 0
	for n < len(b) && !space(b[n]) {
		n++
	}
	s.setName(b[:n])
	s.setAttrs(b[n:])
	return Open, nil
}

// tag takes "<…>" and returns what is inside; a ">" may stand in quotes.
func (s *Scanner) tag() ([]byte, error) {
	offset := 1
	for {
		b, err := s.until(">", offset)
		if err != nil {
			return nil, err
		}
		if !quoted(b) {
			if len(b) < 2 {
				return nil, fmt.Errorf("an empty tag: %w", ErrCut)
			}
			return b[1:], nil
		}
		s.at -= len(b) + 1
		offset = len(b) + 1
	}
}

func (s *Scanner) setName(b []byte) {
	s.full = b
	if i := bytes.IndexByte(b, ':'); i >= 0 {
		b = b[i+1:]
	}
	s.name = b
}

// attr is an attribute: its name without prefix, and its value as written.
type attr struct{ name, value []byte }

// Attr returns an attribute of the element that was opened, its references
// replaced; the prefix of its name does not count.
func (s *Scanner) Attr(name string) (string, bool) {
	b := s.RawAttr(name)
	return string(s.decode(b)), b != nil
}

// RawAttr is Attr as the bytes that are written, good until the next call of
// Next; nil if there is none.
func (s *Scanner) RawAttr(name string) []byte {
	for i := range s.attrs {
		if string(s.attrs[i].name) == name {
			return s.attrs[i].value
		}
	}
	return nil
}

func space(c byte) bool { return c == ' ' || c == '\t' || c == '\r' || c == '\n' }

// setAttrs takes a tag's attributes apart; what is none ends them.
// Attrs gives the attributes of the element that was opened, as Attr does.
func (s *Scanner) Attrs() iter.Seq2[string, string] {
	return func(yield func(string, string) bool) {
		for i := range s.attrs {
			if !yield(string(s.attrs[i].name), string(s.decode(s.attrs[i].value))) {
				return
			}
		}
	}
}

func (s *Scanner) setAttrs(b []byte) {
	s.attrs = s.attrs[:0]
	for i := 0; ; {
		for i < len(b) && space(b[i]) {
			i++
		}
		from := i
		for i < len(b) && b[i] != '=' && !space(b[i]) {
			if b[i] == ':' {
				from = i + 1
			}
			i++
		}
		name := b[from:i]
		for i < len(b) && (space(b[i]) || b[i] == '=') {
			i++
		}
		if i >= len(b) || b[i] != '"' && b[i] != '\'' || len(s.attrs) == maxAttrs {
			return
		}
		end := bytes.IndexByte(b[i+1:], b[i])
		if end < 0 {
			return
		}
		s.attrs = append(s.attrs, attr{name, b[i+1 : i+1+end]})
		i += end + 2
	}
}

// maxAttrs is the most attributes of one element that are looked at.
const maxAttrs = 200

// quoted reports whether b ends inside quotes.
func quoted(b []byte) bool {
	var in byte
	for _, c := range b {
		switch {
		case in == 0 && (c == '"' || c == '\''):
			in = c
		case c == in:
			in = 0
		}
	}
	return in != 0
}

// Skip passes over the rest of the element that was opened.
func (s *Scanner) Skip() error {
	for depth := 1; depth > 0; {
		k, err := s.Next()
		switch {
		case err != nil:
			return err
		case k == Open:
			depth++
		case k == Close:
			depth--
		case k == End:
			return ErrCut
		}
	}
	return nil
}

// decode replaces the references of XML 1.0 and makes line ends LF. What
// is no reference stays as it is.
func (s *Scanner) decode(b []byte) []byte {
	if bytes.IndexByte(b, '&') < 0 && bytes.IndexByte(b, '\r') < 0 {
		return b
	}
	out := s.room[:0]
	for i := 0; i < len(b); {
		switch c := b[i]; {
		case c == '\r':
			out = append(out, '\n')
			if i+1 < len(b) && b[i+1] == '\n' {
				i++
			}
			i++
		case c == '&':
			end := bytes.IndexByte(b[i:min(len(b), i+12)], ';')
			r, ok := rune(0), false
			if end > 0 {
				r, ok = reference(string(b[i+1 : i+end]))
			}
			if !ok {
				out = append(out, c)
				i++
				continue
			}
			out = utf8.AppendRune(out, r)
			i += end + 1
		default:
			out = append(out, c)
			i++
		}
	}
	s.room = out
	return out
}

// Decode replaces the references in a piece of text or in a value; what it returns may be the piece itself.
func Decode(b []byte) []byte {
	var s Scanner
	return s.decode(b)
}

func reference(name string) (rune, bool) {
	switch name {
	case "lt":
		return '<', true
	case "gt":
		return '>', true
	case "amp":
		return '&', true
	case "quot":
		return '"', true
	case "apos":
		return '\'', true
	}
	if len(name) < 2 || name[0] != '#' {
		return 0, false
	}
	var n uint64
	var err error
	if name[1] == 'x' {
		n, err = strconv.ParseUint(name[2:], 16, 32)
	} else {
		n, err = strconv.ParseUint(name[1:], 10, 32)
	}
	return rune(n), err == nil && n <= utf8.MaxRune
}
