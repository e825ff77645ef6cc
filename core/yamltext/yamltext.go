// Package yamltext reads YAML that somebody else may have written: what is too large, too deep, or becomes too large by its aliases is
// refused before anything is made of it.
package yamltext

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// What a text may cost.
const (
	MaxBytes    = 4 << 20 // of the text
	MaxDepth    = 64      // of lists and objects within each other
	MaxExpanded = 1 << 20 // bytes that aliases stand for, in all
)

// ErrTooMuch says that a text would cost too much.
var ErrTooMuch = errors.New("it is no file that somebody wrote by hand")

func tooMuch(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrTooMuch, fmt.Sprintf(format, args...))
}

// Unmarshal reads a text into a value, as yaml.UnmarshalWithOptions does; an empty one gives io.EOF.
func Unmarshal(data []byte, v any, options ...yaml.DecodeOption) error {
	if _, err := Parse(data); err != nil && !errors.Is(err, io.EOF) {
		if errors.Is(err, ErrTooMuch) {
			return err
		} // else the decoder says it, with its place
	}
	return yaml.UnmarshalWithOptions(data, v, options...)
}

// Parse reads a text's nodes. Errors are ErrTooMuch, or those of the parser.
func Parse(data []byte) (*ast.File, error) {
	if len(data) > MaxBytes {
		return nil, tooMuch("it has more than %d MB", MaxBytes>>20)
	}
	if err := opens(data); err != nil {
		return nil, err
	}
	tokens := lexer.Tokenize(string(data))
	if err := depth(tokens); err != nil {
		return nil, err
	}
	f, err := parser.Parse(tokens, 0)
	if err != nil {
		return nil, err
	}
	return f, expands(f)
}

// opens refuses what would be deep before it is taken apart: very many opening signs one behind the other.
func opens(data []byte) error {
	for line := range bytes.Lines(data) {
		deep := 0
		for _, b := range line {
			switch b {
			case '[', '{', '-', '?', '&', '*', '!':
				deep++
			case ' ', '\t':
			default:
				deep = 0
			}
			if deep > 16*MaxDepth {
				return tooMuch("it has more than %d opening signs one behind the other", 16*MaxDepth)
			}
		}
	}
	return nil
}

// depth refuses lists and objects too deep within each other.
func depth(tokens token.Tokens) error {
	flow := 0
	var columns []int // at which the blocks begin that are open
	for _, t := range tokens {
		switch t.Type {
		case token.SequenceStartType, token.MappingStartType:
			flow++
		case token.SequenceEndType, token.MappingEndType:
			flow = max(0, flow-1)
		case token.SequenceEntryType, token.MappingKeyType, token.MappingValueType:
			if flow > 0 || t.Position == nil {
				break
			}
			at := t.Position.Column
			if t.Type == token.MappingValueType && t.Prev != nil && t.Prev.Position != nil {
				at = t.Prev.Position.Column // where its key begins
			}
			for len(columns) > 0 && columns[len(columns)-1] > at {
				columns = columns[:len(columns)-1]
			}
			if len(columns) == 0 || columns[len(columns)-1] < at {
				columns = append(columns, at)
			}
		}
		if flow+len(columns) > MaxDepth {
			line := 0
			if t.Position != nil {
				line = t.Position.Line
			}
			return tooMuch("line %d is more than %d lists and objects deep", line, MaxDepth)
		}
	}
	return nil
}

// expands refuses aliases that stand for too much: what a node costs is its text, and what its aliases stand for.
func expands(f *ast.File) error {
	a := &aliases{nodes: map[string]ast.Node{}, sizes: map[string]int{}}
	for _, d := range f.Docs {
		if d.Body != nil {
			ast.Walk(finder{a}, d.Body)
		}
	}
	if len(a.nodes) == 0 {
		return nil
	}
	total := 0
	for _, d := range f.Docs {
		if d.Body == nil {
			continue
		}
		total += a.size(d.Body)
		if a.err != nil {
			return a.err
		}
	}
	return nil
}

// aliases are the nodes that have a name, and what they cost; a size of -1 is being found out.
type aliases struct {
	nodes map[string]ast.Node
	sizes map[string]int
	all   int // bytes that aliases stand for
	err   error
}

// finder finds the nodes that have a name.
type finder struct{ a *aliases }

func (f finder) Visit(n ast.Node) ast.Visitor {
	if x, ok := n.(*ast.AnchorNode); ok && x.Name != nil {
		f.a.nodes[x.Name.String()] = x.Value
	}
	return f
}

// size is what a node costs.
func (a *aliases) size(n ast.Node) int {
	s := &sizer{a: a}
	ast.Walk(s, n)
	return s.n
}

type sizer struct {
	a *aliases
	n int
}

func (s *sizer) Visit(n ast.Node) ast.Visitor {
	if s.a.err != nil {
		return nil
	}
	s.n += 8
	if t := n.GetToken(); t != nil {
		s.n += len(t.Value)
	}
	x, ok := n.(*ast.AliasNode)
	if !ok || x.Value == nil {
		return s
	}
	name := x.Value.String()
	size, known := s.a.sizes[name]
	if !known {
		node := s.a.nodes[name]
		if node == nil {
			return nil // the decoder says so
		}
		s.a.sizes[name] = -1
		size = s.a.size(node)
		s.a.sizes[name] = size
	}
	if size < 0 {
		s.a.err = tooMuch("*%s stands for something that it is a part of", name)
		return nil
	}
	s.n += size
	if s.a.all += size; s.a.all > MaxExpanded || s.n > MaxExpanded+MaxBytes*9 {
		s.a.err = tooMuch("what its aliases stand for has more than %d MB", MaxExpanded>>20)
	}
	return nil
}
