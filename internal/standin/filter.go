package standin

import (
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/cockroachdb/apd/v3"

	"paletwin/internal/odata"
)

// expression is a common expression of the standard (URL Conventions 5.1.1), ready to be
// evaluated. Where it is about a record's values, it asks the record.
type expression struct {
	kind odata.Kind // Null is that of the literal null, which goes with every kind
	text string     // as it stands there, for messages
	lit  *odata.Value
	eval func(r *Record) odata.Value
}

// parser reads an expression. Its methods return the first thing that is wrong as a
// refusal, by panicking with it; parse catches that.
type parser struct {
	text    string
	at      int
	tok     token
	set     *Set
	st      *store
	aliases map[string]string
	depth   int
	now     time.Time
}

// maxLength is how long an expression may be, in bytes.
const maxLength = 100_000

// maxDepth is how deep parentheses may go.
const maxDepth = 100

type token struct {
	kind  tokenKind
	text  string
	start int
}

type tokenKind byte

const (
	end tokenKind = iota
	word
	literal
	sign // ( ) , - =
	alias
)

// parseWhole reads a text that is one expression.
func (p *parser) parseWhole() (e *expression, err error) {
	if len(p.text) > maxLength {
		return nil, badRequest("an expression has %d bytes, and may have %d", len(p.text), maxLength)
	}
	defer p.caught(&err)
	p.next()
	e = p.or()
	if p.tok.kind != end {
		p.fail("%q is not expected here", p.tok.text)
	}
	return e, nil
}

func (p *parser) caught(err *error) {
	if x := recover(); x != nil {
		r, ok := x.(*refusal)
		if !ok {
			panic(x)
		}
		*err = r
	}
}

func (p *parser) fail(format string, args ...any) {
	r := badRequest(format, args...)
	place := ""
	if p.tok.start < len(p.text) {
		place = ", at character " + itoa(utf8.RuneCountInString(p.text[:min(p.tok.start, len(p.text))])+1)
	}
	r.message = "the expression " + short(p.text) + " cannot be used" + place + ": " + r.message
	panic(r)
}

func isWordStart(c byte) bool {
	return c == '_' || c == '$' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// next reads the next token.
func (p *parser) next() {
	for p.at < len(p.text) && strings.IndexByte(" \t\r\n", p.text[p.at]) >= 0 {
		p.at++
	}
	start := p.at
	p.tok = token{start: start}
	if start == len(p.text) {
		return
	}
	switch c := p.text[start]; {
	case c == '\'':
		p.at = p.textEnd(start)
		p.tok.kind = literal
	case isDigit(c), c == '-' && start+1 < len(p.text) && isDigit(p.text[start+1]):
		p.at = p.numberEnd(start + 1)
		p.tok.kind = literal
	case c == '@':
		p.at = p.wordEnd(start + 1)
		p.tok.kind = alias
	case isWordStart(c):
		p.at = p.wordEnd(start)
		p.tok.kind = word
	case strings.IndexByte("(),-=;", c) >= 0:
		p.at++
		p.tok.kind = sign
	default:
		p.fail("%q is no sign that is known here", string(c))
	}
	p.tok.text = p.text[start:p.at]
	if p.tok.kind == literal && len(p.tok.text) == 19 && strings.Contains(p.tok.text, "T") && p.at+6 <= len(p.text) && p.text[p.at] == ' ' && p.text[p.at+3] == ':' { // a plus that was not escaped
		p.tok.text += "+" + p.text[p.at+1:p.at+6]
		p.at += 6
	}
}

func (p *parser) textEnd(start int) int {
	for i := start + 1; i < len(p.text); i++ {
		if p.text[i] != '\'' {
			continue
		}
		if i+1 < len(p.text) && p.text[i+1] == '\'' {
			i++
			continue
		}
		return i + 1
	}
	p.fail("a text has no closing quote")
	return 0
}

func (p *parser) numberEnd(i int) int {
	for i < len(p.text) && (isDigit(p.text[i]) || strings.IndexByte(".:-+", p.text[i]) >= 0 || p.text[i] >= 'a' && p.text[i] <= 'z' || p.text[i] >= 'A' && p.text[i] <= 'Z') {
		i++
	}
	return i
}

func (p *parser) wordEnd(i int) int {
	for i < len(p.text) && (isWordStart(p.text[i]) || isDigit(p.text[i]) || p.text[i] == '/' || p.text[i] == '.') {
		i++
	}
	return i
}

// operator takes the next token if it is one of some words, and returns it.
func (p *parser) operator(names ...string) string {
	if p.tok.kind != word {
		return ""
	}
	w := strings.ToLower(p.tok.text)
	if !slices.Contains(names, w) {
		return ""
	}
	p.next()
	return w
}

func (p *parser) isSign(s string) bool { return p.tok.kind == sign && p.tok.text == s }

func (p *parser) expect(s string) {
	if !p.isSign(s) {
		p.fail("%q is expected here", s)
	}
	p.next()
}

func (p *parser) deeper() func() {
	if p.depth++; p.depth > maxDepth {
		p.fail("it is nested too deep")
	}
	return func() { p.depth-- }
}

func (p *parser) boolean(e *expression, what string) *expression {
	if e.kind != odata.Boolean && e.kind != odata.Null {
		p.fail("%s is not for %s, which is %s", what, e.text, e.kind)
	}
	return e
}

func (p *parser) or() *expression {
	a := p.and()
	for p.operator("or") != "" {
		a = p.logic(a, p.and(), "or", true)
	}
	return a
}

func (p *parser) and() *expression {
	a := p.equality()
	for p.operator("and") != "" {
		a = p.logic(a, p.equality(), "and", false)
	}
	return a
}

// logic makes "and" and "or" of two; decides is the value of one that decides already.
func (p *parser) logic(a, b *expression, name string, decides bool) *expression {
	p.boolean(a, name)
	p.boolean(b, name)
	stop := odata.True(decides)
	return &expression{kind: odata.Boolean, text: a.text + " " + name + " " + b.text, eval: func(r *Record) odata.Value {
		x := a.eval(r)
		if x == stop {
			return stop
		}
		y := b.eval(r)
		if y == stop {
			return stop
		}
		if x.IsNull() || y.IsNull() {
			return odata.Value{}
		}
		return odata.True(!decides)
	}}
}

func (p *parser) equality() *expression { return p.equalityFrom(p.relation()) }

func (p *parser) equalityFrom(a *expression) *expression {
	for {
		op := p.operator("eq", "ne")
		if op == "" {
			return a
		}
		a = p.compare(op, a, p.relation())
	}
}

func (p *parser) relation() *expression { return p.relationFrom(p.sum()) }

func (p *parser) relationFrom(a *expression) *expression {
	for {
		switch op := p.operator("gt", "ge", "lt", "le", "in", "has"); op {
		case "":
			return a
		case "in":
			a = p.in(a)
		case "has":
			panic(notHere("the operator has"))
		default:
			a = p.compare(op, a, p.sum())
		}
	}
}

// alike makes two expressions of one kind, or fails.
func (p *parser) alike(a, b *expression) (*expression, *expression) {
	if a.kind == b.kind || a.kind == odata.Null || b.kind == odata.Null || a.kind.Numeric() && b.kind.Numeric() {
		return a, b
	}
	for _, x := range []struct{ lit, other *expression }{{a, b}, {b, a}} {
		if x.lit.lit == nil {
			continue
		}
		if v, ok := x.lit.lit.As(x.other.kind); ok {
			c := constant(v, x.lit.text)
			if x.lit == a {
				return c, b
			}
			return a, c
		}
	}
	hint := ""
	if a.kind == odata.String && b.lit != nil {
		hint = "; put " + b.text + " in quotes"
	}
	p.fail("%s is %s, and %s is %s%s", a.text, a.kind, b.text, b.kind, hint)
	return nil, nil
}

func constant(v odata.Value, text string) *expression {
	return &expression{kind: v.Kind, text: text, lit: &v, eval: func(*Record) odata.Value { return v }}
}

// compare makes a comparison. Null equals null, and is neither more nor less than anything.
func (p *parser) compare(op string, a, b *expression) *expression {
	a, b = p.alike(a, b)
	text := a.text + " " + op + " " + b.text
	holds := map[string]func(c int) bool{
		"gt": func(c int) bool { return c > 0 }, "ge": func(c int) bool { return c >= 0 },
		"lt": func(c int) bool { return c < 0 }, "le": func(c int) bool { return c <= 0 },
		"eq": func(c int) bool { return c == 0 }, "ne": func(c int) bool { return c != 0 },
	}[op]
	return &expression{kind: odata.Boolean, text: text, eval: func(r *Record) odata.Value {
		x, y := a.eval(r), b.eval(r)
		if x.IsNull() || y.IsNull() {
			same := x.IsNull() && y.IsNull()
			return odata.True(op == "eq" && same || op == "ne" && !same)
		}
		c, ok := x.Compare(y)
		return odata.True(ok && holds(c))
	}}
}

// in makes a membership of a list of constants or expressions.
func (p *parser) in(a *expression) *expression {
	p.expect("(")
	var all []*expression
	for !p.isSign(")") {
		_, b := p.alike(a, p.sum())
		all = append(all, b)
		if !p.isSign(",") {
			break
		}
		p.next()
	}
	p.expect(")")
	set := map[string]bool{}
	constants := true
	for _, b := range all {
		if constants = constants && b.lit != nil; constants && !b.lit.IsNull() {
			set[b.lit.Canonical()] = true
		}
	}
	return &expression{kind: odata.Boolean, text: a.text + " in (…)", eval: func(r *Record) odata.Value {
		x := a.eval(r)
		if constants && !x.IsNull() {
			return odata.True(set[x.Canonical()])
		}
		for _, b := range all {
			if x.Same(b.eval(r)) {
				return odata.True(true)
			}
		}
		return odata.True(false)
	}}
}

func (p *parser) sum() *expression {
	a := p.product()
	for {
		op := p.operator("add", "sub")
		if op == "" {
			return a
		}
		a = p.arithmetic(op, a, p.product())
	}
}

func (p *parser) product() *expression {
	a := p.unary()
	for {
		op := p.operator("mul", "div", "divby", "mod")
		if op == "" {
			return a
		}
		a = p.arithmetic(op, a, p.unary())
	}
}

var exact = apd.BaseContext.WithPrecision(100)

// arithmetic makes a sum, difference, product or quotient of numbers. What has no result,
// as a division by zero, is null.
func (p *parser) arithmetic(op string, a, b *expression) *expression {
	for _, x := range []*expression{a, b} {
		if !x.kind.Numeric() && x.kind != odata.Null {
			p.fail("%s is not for %s, which is %s", op, x.text, x.kind)
		}
	}
	kind := odata.Decimal
	if a.kind == odata.Int64 && b.kind == odata.Int64 && op != "divby" {
		kind = odata.Int64
	}
	return &expression{kind: kind, text: a.text + " " + op + " " + b.text, eval: func(r *Record) odata.Value {
		x, okX := a.eval(r).Number()
		y, okY := b.eval(r).Number()
		if !okX || !okY {
			return odata.Value{}
		}
		var d apd.Decimal
		var err error
		switch {
		case op == "add":
			_, err = exact.Add(&d, x.Decimal(), y.Decimal())
		case op == "sub":
			_, err = exact.Sub(&d, x.Decimal(), y.Decimal())
		case op == "mul":
			_, err = exact.Mul(&d, x.Decimal(), y.Decimal())
		case op == "mod":
			_, err = exact.Rem(&d, x.Decimal(), y.Decimal())
		case kind == odata.Int64:
			_, err = exact.QuoInteger(&d, x.Decimal(), y.Decimal())
		default:
			_, err = exact.Quo(&d, x.Decimal(), y.Decimal())
		}
		if err != nil || d.Form != apd.Finite {
			return odata.Value{}
		}
		v, _ := odata.Parse(d.Text('f'), kind)
		return v
	}}
}

func (p *parser) unary() *expression {
	defer p.deeper()()
	if p.isSign("-") {
		p.next()
		return p.arithmetic("sub", constant(odata.Value{Kind: odata.Int64, Text: "0"}, "0"), p.unary())
	}
	if p.operator("not") == "" {
		return p.primary()
	}
	a := p.relationIn(p.unary())
	if a.kind != odata.Boolean && a.kind != odata.Null { // not a eq b, which is read as it is meant
		a = p.equalityFrom(p.relationFrom(a))
	}
	p.boolean(a, "not")
	return &expression{kind: odata.Boolean, text: "not " + a.text, eval: func(r *Record) odata.Value {
		x := a.eval(r)
		if x.IsNull() {
			return x
		}
		return odata.True(x.Text != "true")
	}}
}

// relationIn reads an "in" that follows, which binds more than "not".
func (p *parser) relationIn(a *expression) *expression {
	if p.operator("in") != "" {
		return p.in(a)
	}
	return a
}

func (p *parser) primary() *expression {
	switch t := p.tok; t.kind {
	case literal:
		p.next()
		v, err := odata.ParseLiteral(t.text)
		if err != nil {
			p.tok = t
			p.fail("%v", err)
		}
		return constant(v, t.text)
	case alias:
		return p.alias()
	case word:
		p.next()
		if p.isSign("(") {
			return p.function(t)
		}
		return p.name(t)
	case sign:
		if t.text == "(" {
			p.next()
			e := p.or()
			p.expect(")")
			inner := *e
			inner.text = "(" + e.text + ")"
			return &inner
		}
	case end:
		p.fail("it ends where something is still expected")
	}
	p.fail("%q is not expected here", p.tok.text)
	return nil
}

// alias reads the value of a parameter alias, @p. One that the URL does not give is null.
func (p *parser) alias() *expression {
	name := p.tok.text
	p.next()
	text, said := p.aliases[name]
	if !said {
		return constant(odata.Value{}, name)
	}
	defer p.deeper()()
	inner := &parser{text: text, set: p.set, st: p.st, aliases: p.aliases, depth: p.depth, now: p.now}
	inner.next()
	e := inner.or()
	if inner.tok.kind != end {
		inner.fail("%q is not expected here", inner.tok.text)
	}
	return e
}

// name reads a literal word, or a path of properties.
func (p *parser) name(t token) *expression {
	switch t.text {
	case "null", "true", "false":
		v, _ := odata.ParseLiteral(t.text)
		return constant(v, t.text)
	}
	path := strings.Split(strings.TrimPrefix(t.text, "$it/"), "/")
	e, err := p.path(p.set, path, t.text)
	if err != nil {
		p.tok = t
		p.fail("%v", err)
	}
	return e
}

// path is a property, or one of a record that is referred to.
func (p *parser) path(s *Set, path []string, text string) (*expression, error) {
	var navs []*Nav
	for len(path) > 1 {
		n := s.nav(path[0])
		if n == nil {
			return nil, badRequest("%s has no reference %s%s", s.Name, path[0], near(path[0], s.navNames()))
		}
		navs, s, path = append(navs, n), n.Target, path[1:]
	}
	i, ok := s.byName[path[0]]
	if !ok {
		if n := s.nav(path[0]); n != nil { // depot_record eq null
			i, s = n.Field, n.From
			return p.through(navs, i, s.Fields[i].Kind, text), nil
		}
		return nil, badRequest("%s has no property %s%s", s.Name, path[0], near(path[0], s.fieldNames()))
	}
	return p.through(navs, i, s.Fields[i].Kind, text), nil
}

// through reads a property of the record to which references lead.
func (p *parser) through(navs []*Nav, field int, kind odata.Kind, text string) *expression {
	st := p.st
	if len(navs) == 0 {
		return &expression{kind: kind, text: text, eval: func(r *Record) odata.Value { return r.cells[field] }}
	}
	return &expression{kind: kind, text: text, eval: func(r *Record) odata.Value {
		for _, n := range navs {
			if r = st.follow(n, r); r == nil {
				return odata.Value{}
			}
		}
		return r.cells[field]
	}}
}

// follow is the record to which a reference leads from another; nil is none.
func (st *store) follow(n *Nav, r *Record) *Record {
	v := r.cells[n.Field]
	if v.IsNull() {
		return nil
	}
	return st.find(n, v)
}
