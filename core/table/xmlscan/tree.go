package xmlscan

import (
	"bytes"
	"errors"
	"io"
	"strings"
)

// Node is an element or a text of a document, as it is written, so that what is not changed is written again to the letter.
// It is for parts of a document that are small.
type Node struct {
	Name string // of an element, without its prefix; "" is a text, or what is passed over
	Kids []*Node

	open, end []byte // the tags of an element; a text is in open. One that is closed by its own tag has no end
	full      string // the name with its prefix
}

// maxTree is the most bytes that are made a tree of.
const maxTree = 512 << 20

// ErrTree says that a part is larger than such parts are.
var ErrTree = errors.New("a part of the workbook that describes it is larger than such parts are")

// Tree reads a document. Tags that do not match, as in drawings of old, are taken as they come.
func Tree(r io.Reader) (*Node, error) {
	s := New(r)
	s.Keep()
	root := &Node{}
	return root, s.into(root, false)
}

// Node reads the element that was opened.
func (s *Scanner) Node() (*Node, error) {
	n := s.opened()
	if s.empty {
		s.empty = false
		return n, nil
	}
	return n, s.into(n, true)
}

func (s *Scanner) opened() *Node {
	return &Node{Name: string(s.name), full: string(s.full), open: bytes.Clone(s.Raw())}
}

// into reads what is inside an element, up to its end where one tells that it is over.
func (s *Scanner) into(n *Node, one bool) error {
	stack := []*Node{n}
	size := 0
	for {
		k, err := s.Next()
		if err != nil {
			return err
		}
		top := stack[len(stack)-1]
		if size += len(s.raw) + 64; size > maxTree {
			return ErrTree
		}
		switch k {
		case End:
			if raw := s.Raw(); len(raw) > 0 {
				top.Kids = append(top.Kids, &Node{open: bytes.Clone(raw)})
			}
			if one {
				return ErrCut
			}
			return nil
		case Text:
			top.Kids = append(top.Kids, &Node{open: bytes.Clone(s.Raw())})
		case Open:
			kid := s.opened()
			top.Kids = append(top.Kids, kid)
			if s.empty {
				s.empty = false
			} else {
				stack = append(stack, kid)
			}
		case Close:
			at := len(stack) - 1
			for at > 0 && stack[at].full != string(s.full) {
				at--
			}
			if stack[at].full != string(s.full) || at == 0 && !one {
				top.Kids = append(top.Kids, &Node{open: bytes.Clone(s.Raw())}) // closes nothing
				continue
			}
			stack[at].end = bytes.Clone(s.Raw())
			if stack = stack[:at]; at == 0 {
				return nil
			}
		}
	}
}

// Append writes the node.
func (n *Node) Append(b []byte) []byte {
	b = append(b, n.open...)
	for _, k := range n.Kids {
		b = k.Append(b)
	}
	return append(b, n.end...)
}

// Attr returns an attribute, its references replaced; the prefix of its name does not count.
func (n *Node) Attr(name string) (string, bool) {
	from, to := AttrIn(n.open, name)
	if from < 0 {
		return "", false
	}
	var s Scanner
	return string(s.decode(n.open[from:to])), true
}

// SetAttr gives an attribute another value, or the element the attribute.
func (n *Node) SetAttr(name, value string) { n.open = SetAttr(n.open, name, value) }

// DropAttr takes an attribute away.
func (n *Node) DropAttr(name string) { n.open = DropAttr(n.open, name) }

// Text is all text inside, its references replaced.
func (n *Node) Text() string {
	if n.Name == "" && n.full == "" && len(n.Kids) == 0 {
		var s Scanner
		if cdata := []byte("<![CDATA["); bytes.HasPrefix(n.open, cdata) {
			return string(bytes.TrimSuffix(n.open[len(cdata):], []byte("]]>")))
		}
		if bytes.HasPrefix(n.open, []byte("<")) {
			return ""
		}
		return string(s.decode(n.open))
	}
	var b strings.Builder
	for _, k := range n.Kids {
		b.WriteString(k.Text())
	}
	return b.String()
}

// SetText puts a text in the place of all that is inside.
func (n *Node) SetText(text string) {
	n.widen()
	n.Kids = []*Node{{open: AppendEscaped(nil, text)}}
}

// widen gives an element that is closed by its own tag an end.
func (n *Node) widen() {
	if n.end == nil && bytes.HasSuffix(n.open, []byte("/>")) {
		n.open = append(bytes.TrimRight(n.open[:len(n.open)-2], " \t\r\n"), '>')
		n.end = []byte("</" + n.full + ">")
	}
}

// Add puts an element as it is written behind the others inside.
func (n *Node) Add(name string, raw []byte) {
	n.widen()
	n.Kids = append(n.Kids, &Node{Name: name, open: raw})
}

// Insert is Add at a place among them.
func (n *Node) Insert(at int, name string, raw []byte) {
	n.Add(name, raw)
	copy(n.Kids[at+1:], n.Kids[at:len(n.Kids)-1])
	n.Kids[at] = &Node{Name: name, open: raw}
}

// Prefix is the prefix of the element's name with its colon, or "".
func (n *Node) Prefix() string { return strings.TrimSuffix(n.full, n.Name) }

// Kid returns the first element inside with a name, or nil.
func (n *Node) Kid(name string) *Node {
	for _, k := range n.Kids {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// Root is the outermost element of a document, or nil.
func (n *Node) Root() *Node {
	for _, k := range n.Kids {
		if k.Name != "" {
			return k
		}
	}
	return nil
}

// Elements counts the elements inside.
func (n *Node) Elements() int {
	c := 0
	for _, k := range n.Kids {
		if k.Name != "" {
			c++
		}
	}
	return c
}

// AttrIn returns where the value of an attribute stands in a tag, or -1.
func AttrIn(tag []byte, name string) (from, to int) {
	start := bytes.IndexByte(tag, '<')
	if start < 0 {
		return -1, -1
	}
	for i := start + 1; i < len(tag); {
		for i < len(tag) && !space(tag[i]) && tag[i] != '"' && tag[i] != '\'' { // a name, or the rest of one
			i++
		}
		for i < len(tag) && space(tag[i]) {
			i++
		}
		at := i
		for i < len(tag) && tag[i] != '=' && !space(tag[i]) && tag[i] != '>' {
			if tag[i] == ':' {
				at = i + 1
			}
			i++
		}
		called := tag[at:i]
		for i < len(tag) && (space(tag[i]) || tag[i] == '=') {
			i++
		}
		if i >= len(tag) || tag[i] != '"' && tag[i] != '\'' {
			return -1, -1
		}
		end := bytes.IndexByte(tag[i+1:], tag[i])
		if end < 0 {
			return -1, -1
		}
		if string(called) == name {
			return i + 1, i + 1 + end
		}
		i += end + 2
	}
	return -1, -1
}

// SetAttr returns a tag with an attribute set: in its place if it has it, else behind the others.
func SetAttr(tag []byte, name, value string) []byte {
	escaped := bytes.ReplaceAll(AppendEscaped(nil, value), []byte(`"`), []byte("&quot;"))
	if from, to := AttrIn(tag, name); from >= 0 {
		return bytes.Join([][]byte{tag[:from], escaped, tag[to:]}, nil)
	}
	end := len(tag) - 1
	if bytes.HasSuffix(tag, []byte("/>")) {
		end--
	}
	for end > 0 && space(tag[end-1]) {
		end--
	}
	return bytes.Join([][]byte{tag[:end], []byte(" " + name + `="`), escaped, []byte(`"`), tag[end:]}, nil)
}

// DropAttr returns a tag without an attribute.
func DropAttr(tag []byte, name string) []byte {
	from, to := AttrIn(tag, name)
	if from < 0 {
		return tag
	}
	for from--; !space(tag[from]); from-- {
	}
	for from > 0 && space(tag[from-1]) {
		from--
	}
	return bytes.Join([][]byte{tag[:from], tag[to+1:]}, nil)
}

// AppendEscaped appends a text as it stands in a document between tags.
func AppendEscaped(b []byte, text string) []byte {
	for i := range len(text) {
		switch c := text[i]; c {
		case '&':
			b = append(b, "&amp;"...)
		case '<':
			b = append(b, "&lt;"...)
		case '>':
			b = append(b, "&gt;"...)
		case '\r':
			b = append(b, "&#13;"...)
		default:
			b = append(b, c)
		}
	}
	return b
}
