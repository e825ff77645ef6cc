package odata

import (
	"fmt"
	"net/url"
	"strings"
)

// KeyPart is a part of a key; Name is "" where a key of one part goes unnamed.
type KeyPart struct {
	Name string
	Text string // the literal, not read yet
}

// ParseKey takes apart what stands in the parentheses behind an entity set. A quote ends
// a text only where a comma or the end follows, so that a client that forgot
// to double it is understood.
func ParseKey(text string) ([]KeyPart, error) {
	var all []KeyPart
	for rest := text; ; {
		part := rest
		rest = ""
		name, value := "", part
		if i := strings.IndexAny(part, "='"); i > 0 && part[i] == '=' {
			name, value = strings.TrimSpace(part[:i]), part[i+1:]
		}
		value = strings.TrimLeft(value, " ")
		end := literalEnd(value)
		if end < len(value) {
			rest = value[end+1:]
			if rest == "" {
				return nil, fmt.Errorf("the key (%s) ends with a comma", text)
			}
		}
		literal := strings.TrimRight(value[:end], " ")
		if literal == "" {
			return nil, fmt.Errorf("the key (%s) lacks a value", text)
		}
		all = append(all, KeyPart{name, doubled(literal)})
		if rest == "" {
			return all, nil
		}
	}
}

// literalEnd is where the literal ends with which s begins: at a comma or the end.
func literalEnd(s string) int {
	if !strings.HasPrefix(s, "'") {
		if i := strings.IndexByte(s, ','); i >= 0 {
			return i
		}
		return len(s)
	}
	for i := 1; i < len(s); i++ {
		if s[i] != '\'' {
			continue
		}
		if i+1 < len(s) && s[i+1] == '\'' {
			i++
			continue
		}
		after := strings.TrimLeft(s[i+1:], " ")
		if after == "" {
			return len(s)
		}
		if after[0] == ',' && looksLikePart(after[1:]) {
			return len(s) - len(after)
		}
	}
	return len(s)
}

// looksLikePart reports whether name= follows: only keys with named parts have several.
func looksLikePart(s string) bool {
	i := strings.IndexByte(s, '=')
	return i > 0 && !strings.ContainsAny(s[:i], "'(), ")
}

// doubled doubles the quotes within a text in quotes that are not.
func doubled(s string) string {
	if len(s) < 2 || s[0] != '\'' || s[len(s)-1] != '\'' {
		return s
	}
	inner := strings.ReplaceAll(s[1:len(s)-1], "''", "'")
	return Text(inner).Literal()
}

// AppendKey appends a key in its parentheses, percent-encoded. names has a name for each
// value; that of a key of one part is left out.
func AppendKey(dst []byte, names []string, values []Value) []byte {
	dst = append(dst, '(')
	for i, v := range values {
		if i > 0 {
			dst = append(dst, ',')
		}
		if len(values) > 1 {
			dst = append(dst, names[i]...)
			dst = append(dst, '=')
		}
		dst = append(dst, Escape(v.Literal())...)
	}
	return append(dst, ')')
}

// Escape percent-encodes a literal so that it can stand in a path.
func Escape(literal string) string {
	return strings.NewReplacer("%27", "'", "+", "%2B").Replace(url.PathEscape(literal))
}

// SplitPath splits the path of a URL, as it was sent, at its slashes, and decodes each
// segment. A slash within a text in quotes is none that splits.
func SplitPath(path string) ([]string, error) {
	var all []string
	start, quoted := 0, false
	flush := func(end int) error {
		if end > start {
			s, err := url.PathUnescape(path[start:end])
			if err != nil {
				return fmt.Errorf("the URL has a %% that is followed by no two hexadecimal digits")
			}
			all = append(all, s)
		}
		start = end + 1
		return nil
	}
	for i := 0; i < len(path); i++ {
		switch {
		case path[i] == '\'', strings.HasPrefix(path[i:], "%27"):
			quoted = !quoted
		case path[i] == '/' && !quoted:
			if err := flush(i); err != nil {
				return nil, err
			}
		}
	}
	if quoted { // a quote that nothing closes splits as if it were none
		all, start = nil, 0
		for i := range len(path) {
			if path[i] == '/' {
				if err := flush(i); err != nil {
					return nil, err
				}
			}
		}
	}
	return all, flush(len(path))
}
