package layout

import (
	"cmp"
	"errors"
	"fmt"
	"sort"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"

	"paletwin/core/expr"
	"paletwin/core/yamltext"
)

// Error is something in a layout that cannot be used: where, what and what to
// do.
type Error struct {
	File         string
	Line, Column int // from 1; 0 is unknown
	Text, Hint   string
}

func (e *Error) Error() string {
	s := e.File
	if e.Line > 0 {
		s += fmt.Sprintf(" line %d, column %d", e.Line, e.Column)
	}
	return s + ": " + e.Text
}

// Errors are all that is wrong with a layout, by line.
type Errors []*Error

func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i, x := range e {
		lines[i] = x.Error()
	}
	return strings.Join(lines, "\n")
}

// document is a YAML file that is read node by node; what is wrong with it is
// collected.
type document struct {
	file   string
	what   string // what it is; "" is a layout
	first  string // how a first one is made
	errors Errors
}

func (d *document) fail(n ast.Node, hint, format string, args ...any) {
	e := &Error{File: d.file, Text: fmt.Sprintf(format, args...), Hint: hint}
	if t := tokenOf(n); t != nil && t.Position != nil {
		e.Line, e.Column = t.Position.Line, t.Position.Column
	}
	d.errors = append(d.errors, e)
}

// tokenOf is the token that starts a node, where there is one.
func tokenOf(n ast.Node) *token.Token {
	switch x := n.(type) {
	case nil:
		return nil
	case *ast.MappingNode:
		if len(x.Values) > 0 {
			return x.Values[0].Key.GetToken()
		}
	case *ast.MappingValueNode:
		return x.Key.GetToken()
	}
	return n.GetToken()
}

// parse reads a YAML document; nil with an error noted where it is none.
func (d *document) parse(data []byte) ast.Node {
	what := cmp.Or(d.what, "layout")
	f, err := yamltext.Parse(data)
	if err != nil {
		e := &Error{File: d.file, Text: err.Error()}
		var y yaml.Error
		if errors.As(err, &y) {
			e.Text = y.GetMessage()
			if t := y.GetToken(); t != nil && t.Position != nil {
				e.Line, e.Column = t.Position.Line, t.Position.Column
			}
		}
		if lines := strings.Split(string(data), "\n"); e.Line > 0 && e.Line <= len(lines) && strings.Contains(lines[e.Line-1], "\t") {
			e.Text, e.Hint = "a tab stands where the line is indented", "indent with spaces: YAML takes no tabs there"
		}
		d.errors = append(d.errors, e)
		return nil
	}
	switch {
	case len(f.Docs) == 0 || f.Docs[0].Body == nil:
		d.errors = append(d.errors, &Error{File: d.file, Text: "the " + what + " is empty", Hint: cmp.Or(d.first, "paletwin layout draft SNAPSHOT writes a first one")})
		return nil
	case len(f.Docs) > 1:
		d.fail(f.Docs[1].Body, "take the second out, and the line --- before it", "a %s is one document, and here are several", what)
		return nil
	}
	return f.Docs[0].Body
}

// pair is an entry of a mapping.
type pair struct {
	key   string
	at    ast.Node
	value ast.Node
}

// mapping lists the entries of a mapping in their order. Keys that are not
// among those known are errors with a suggestion; nil knows all.
func (d *document) mapping(n ast.Node, what string, known []string) []pair {
	var values []*ast.MappingValueNode
	switch x := n.(type) {
	case *ast.MappingNode:
		values = x.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{x}
	case *ast.NullNode, nil:
		return nil
	default:
		d.fail(n, "write it as \"name: value\" lines", "%s is not a mapping", what)
		return nil
	}
	var all []pair
	seen := map[string]bool{}
	for _, v := range values {
		p := pair{keyText(v.Key), v.Key, v.Value}
		switch {
		case seen[p.key]:
			d.fail(p.at, "", "%s says %q twice", what, p.key)
			continue
		case known != nil && !contains(known, p.key):
			d.fail(p.at, suggest(p.key, known), "%s does not know %q", what, p.key)
			continue
		}
		seen[p.key] = true
		all = append(all, p)
	}
	return all
}

func keyText(k ast.MapKeyNode) string {
	if s, ok := k.(*ast.StringNode); ok {
		return s.Value
	}
	return k.GetToken().Value
}

func contains(all []string, s string) bool {
	for _, a := range all {
		if a == s {
			return true
		}
	}
	return false
}

// suggest names what is probably meant, or all there is.
func suggest(word string, known []string) string {
	if near := expr.Near(word, known); len(near) > 0 {
		return "do you mean " + strings.Join(near, " or ") + "?"
	}
	sorted := append([]string(nil), known...)
	sort.Strings(sorted)
	return "it knows " + strings.Join(sorted, ", ")
}

// text reads a scalar as it is written.
func (d *document) text(n ast.Node, what string) string {
	switch x := n.(type) {
	case *ast.StringNode:
		return x.Value
	case *ast.LiteralNode:
		return x.Value.Value
	case nil:
		return ""
	case *ast.NullNode:
		if t := x.GetToken(); strings.TrimSpace(t.Origin) != "" {
			return t.Value // the word null, or NULL, and not nothing
		}
		return ""
	case ast.ScalarNode:
		return x.GetToken().Value
	}
	d.fail(n, "", "%s is not a single value", what)
	return ""
}

// texts reads a list of scalars, or one.
func (d *document) texts(n ast.Node, what string) []string {
	s, ok := n.(*ast.SequenceNode)
	if !ok {
		if t := d.text(n, what); t != "" {
			return []string{t}
		}
		return nil
	}
	var all []string
	for _, v := range s.Values {
		all = append(all, d.text(v, what))
	}
	return all
}

// word reads one of the given words; the first where none is said.
func (d *document) word(n ast.Node, what string, words []string) string {
	t := d.text(n, what)
	if !contains(words, t) {
		d.fail(n, suggest(t, words), "%s is not %q", what, t)
		return words[0]
	}
	return t
}

func (d *document) truth(n ast.Node, what string) bool {
	t := d.text(n, what)
	if t != "true" && t != "false" {
		d.fail(n, "write true or false", "%s is not %q", what, t)
	}
	return t == "true"
}

// whole reads a whole number from low to high.
func (d *document) whole(n ast.Node, what string, low, high int) int {
	t := d.text(n, what)
	v := 0
	if _, err := fmt.Sscanf(t, "%d", &v); err != nil || fmt.Sprint(v) != t || v < low || v > high {
		d.fail(n, "", "%s is a whole number from %d to %d, not %q", what, low, high, t)
		return low
	}
	return v
}
