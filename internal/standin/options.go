package standin

import (
	"strings"

	"paletwin/internal/odata"
)

// projection is what of a record an answer has: $select and $expand.
type projection struct {
	fields []int // nil is all
	expand []expansion
	said   string // as the context URL has it
}

type expansion struct {
	nav  *Nav
	what *projection
}

// maxExpand is how deep expansions may be nested.
const maxExpand = 8

// project reads $select and $expand.
func (s *Set) project(sel, expand string, depth int) (*projection, error) {
	p := &projection{}
	if depth > maxExpand {
		return nil, badRequest("$expand is nested too deep")
	}
	var said []string
	every := strings.TrimSpace(sel) == ""
	chosen := make([]bool, len(s.Fields))
	for _, item := range splitOutside(sel, ',') {
		name := strings.TrimSpace(item)
		i, ok := s.byName[name]
		switch {
		case name == "" && every:
		case name == "*":
			every = true
		case ok:
			chosen[i] = true
			said = append(said, name)
		case s.nav(name) != nil:
			said = append(said, name)
		default:
			return nil, badRequest("$select: %s has no property %s%s", s.Name, name, near(name, s.fieldNames()))
		}
	}
	if !every {
		p.fields = []int{}
		for i, is := range chosen {
			if is {
				p.fields = append(p.fields, i)
			}
		}
	}
	if err := s.expand(p, expand, depth, &said); err != nil {
		return nil, err
	}
	if len(said) > 0 {
		p.said = "(" + strings.Join(said, ",") + ")"
	}
	return p, nil
}

func (s *Set) expand(p *projection, expand string, depth int, said *[]string) error {
	if strings.TrimSpace(expand) == "" {
		return nil
	}
	for _, item := range splitOutside(expand, ',') {
		name, inner, nested := strings.Cut(strings.TrimSpace(item), "(")
		name = strings.TrimSpace(name)
		if nested && !strings.HasSuffix(inner, ")") {
			return badRequest("$expand: %s has no closing parenthesis", short(item))
		}
		inner = strings.TrimSuffix(inner, ")")
		navs := s.Navs
		if name != "*" {
			n := s.nav(name)
			if n == nil {
				return badRequest("$expand: %s has no reference %s%s", s.Name, name, near(name, s.navNames()))
			}
			navs = []*Nav{n}
		}
		sel, deeper, err := nestedOptions(inner)
		if err != nil {
			return err
		}
		for _, n := range navs {
			what, err := n.Target.project(sel, deeper, depth+1)
			if err != nil {
				return err
			}
			for _, e := range p.expand {
				if e.nav == n {
					return badRequest("$expand: %s stands there twice", n.Name)
				}
			}
			p.expand = append(p.expand, expansion{n, what})
			part := what.said
			if part == "" {
				part = "()"
			}
			*said = append(*said, n.Name+part)
		}
	}
	return nil
}

// nestedOptions reads the options of one expansion: $select=…;$expand=….
func nestedOptions(text string) (sel, expand string, err error) {
	for _, option := range splitOutside(text, ';') {
		if strings.TrimSpace(option) == "" {
			continue
		}
		name, value, _ := strings.Cut(option, "=")
		switch name = strings.ToLower(strings.TrimPrefix(strings.TrimSpace(name), "$")); name {
		case "select":
			sel = value
		case "expand":
			expand = value
		default:
			return "", "", notHere("$%s within $expand", name)
		}
	}
	return sel, expand, nil
}

// splitOutside splits at a sign that stands outside parentheses and texts in quotes.
func splitOutside(text string, sep byte) []string {
	var all []string
	depth, start, inText := 0, 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\'':
			inText = !inText
		case inText:
		case c == '(':
			depth++
		case c == ')':
			depth--
		case c == sep && depth == 0:
			all, start = append(all, text[start:i]), i+1
		}
	}
	return append(all, text[start:])
}

// ordering is $orderby.
type ordering []orderItem

type orderItem struct {
	by   *expression
	down bool
}

// parseOrder reads $orderby.
func (s *Service) parseOrder(set *Set, text string, o options) (all ordering, err error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	for _, item := range splitOutside(text, ',') {
		item = strings.TrimSpace(item)
		lower, down := strings.ToLower(item), false
		switch {
		case strings.HasSuffix(lower, " desc"):
			item, down = item[:len(item)-5], true
		case strings.HasSuffix(lower, " asc"):
			item = item[:len(item)-4]
		}
		e, err := s.parseExpression(set, item, o)
		if err != nil {
			return nil, err
		}
		all = append(all, orderItem{e, down})
	}
	return all, nil
}

func (s *Service) parseExpression(set *Set, text string, o options) (*expression, error) {
	p := &parser{text: text, set: set, st: s.st, aliases: o.aliases, now: s.now()}
	return p.parseWhole()
}

// parseFilter reads $filter; nil is none.
func (s *Service) parseFilter(set *Set, o options) (*expression, error) {
	text, said := o.all["filter"]
	if !said {
		return nil, nil
	}
	if strings.TrimSpace(text) == "" {
		return nil, badRequest("$filter is empty")
	}
	e, err := s.parseExpression(set, text, o)
	if err != nil {
		return nil, err
	}
	if e.kind != odata.Boolean && e.kind != odata.Null {
		return nil, badRequest("$filter is to be true or false, and %s is %s", short(text), e.kind)
	}
	return e, nil
}

// values evaluates what a record is ordered by.
func (o ordering) values(r *Record) []odata.Value {
	v := make([]odata.Value, len(o))
	for i, item := range o {
		v[i] = item.by.eval(r)
	}
	return v
}

// compare orders two records by these; null is before all else.
func (o ordering) compare(a, b []odata.Value) int {
	for i, item := range o {
		c, ok := a[i].Compare(b[i])
		if !ok {
			switch {
			case a[i].IsNull() && b[i].IsNull():
				c = 0
			case a[i].IsNull():
				c = -1
			case b[i].IsNull():
				c = 1
			}
		}
		if item.down {
			c = -c
		}
		if c != 0 {
			return c
		}
	}
	return 0
}
