package layout

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"paletwin/core/expr"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// field reads one field. What depends on its kind is read last.
func (p *reader) field(e pair) Field {
	f := Field{Field: schema.Field{Name: e.key, Kind: schema.Text, Scale: -1, Access: schema.Free}, Line: tokenOf(e.at).Position.Line}
	what := "field " + e.key
	later := map[string]ast.Node{}
	if s, ok := e.value.(*ast.StringNode); ok { // fee: decimal
		f.Kind = schema.Kind(p.word(s, what+": kind", schema.Kinds))
	} else {
		for _, x := range p.mapping(e.value, what, fieldWords) {
			p.plain(&f, what, x, later)
		}
	}
	p.byKind(&f, what, later, e.at)
	return f
}

// plain reads what means the same for every kind, and puts the rest aside.
func (p *reader) plain(f *Field, what string, x pair, later map[string]ast.Node) {
	what += ": " + x.key
	switch x.key {
	case "title":
		f.Title = p.text(x.value, what)
	case "aliases":
		f.Aliases = p.texts(x.value, what)
	case "kind":
		f.Kind = schema.Kind(p.word(x.value, what, schema.Kinds))
	case "required":
		f.Required = p.truth(x.value, what)
	case "unique":
		f.Unique = p.truth(x.value, what)
	case "pattern":
		re, err := regexp.Compile("^(?:" + p.text(x.value, what) + ")$")
		if err != nil {
			p.fail(x.value, "see docs/expressions.md for patterns", "%s: %s", what, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		}
		f.Pattern = re
	case "null":
		f.Null = p.text(x.value, what)
	case "clears_to":
		t := p.text(x.value, what)
		f.ClearsTo = &t
	case "compare":
		p.leniency(f, what, x.value)
	case "access":
		f.Access = schema.Access(p.word(x.value, what, schema.Accesses))
	case "key":
		f.Assigned = p.word(x.value, what, []string{"assigned"}) != ""
		p.assigned = x.value
	case "blank":
		f.Blank = p.word(x.value, what, blankWords)
	case "length":
		f.Length = p.bounds(x.value, what, func(s string) (expr.Value, bool) { n, ok := expr.ParseNumber(s); return n, ok })
	case "outward":
		p.fieldOutward(f, x.value, what)
	default:
		later[x.key] = x.value
	}
}

func (p *reader) leniency(f *Field, what string, n ast.Node) {
	for _, w := range p.texts(n, what) {
		switch w {
		case "exact":
		case "ignore case":
			f.Compare.Case = true
		case "ignore spaces":
			f.Compare.Spaces = true
		case "line breaks alike":
			f.Compare.Breaks = true
		default:
			p.fail(n, suggest(w, []string{"exact", "ignore case", "ignore spaces", "line breaks alike"}), "%s is not %q", what, w)
		}
	}
}

// of says which kinds a clause is for.
var of = map[string][]schema.Kind{"scale": {schema.Decimal, schema.Percent}, "written": {schema.Money}, "forms": {schema.Date, schema.Datetime}, "true": {schema.Boolean}, "false": {schema.Boolean}, "values": {schema.Choice}, "to": {schema.Reference},
	"range": {schema.Integer, schema.Decimal, schema.Percent, schema.Money, schema.Date}, "move": {schema.Integer, schema.Decimal, schema.Percent, schema.Money}, "translate": {schema.Text, schema.Integer, schema.Choice, schema.Reference}}

// byKind reads what depends on the field's kind.
func (p *reader) byKind(f *Field, what string, later map[string]ast.Node, at ast.Node) {
	for word, n := range later {
		if !slices.Contains(of[word], f.Kind) {
			p.fail(n, "", "%s: %s is not for kind %s", what, word, f.Kind)
			delete(later, word)
		}
	}
	if n := later["scale"]; n != nil {
		f.Scale = p.whole(n, what+": scale", 0, 30)
	}
	if f.Kind == schema.Money {
		p.amount(f, what, later["written"], at)
	}
	if f.Kind == schema.Date {
		f.Forms = []schema.Form{schema.ISO}
	}
	if n := later["forms"]; n != nil {
		f.Forms = nil
		for _, t := range p.texts(n, what+": forms") {
			form, err := schema.ParseForm(t)
			if err != nil {
				p.fail(n, "", "%s: %v", what, err)
			}
			f.Forms = append(f.Forms, form)
		}
		if len(f.Forms) == 0 {
			p.fail(n, "", "%s: forms has no form", what)
		}
	}
	if f.Kind == schema.Boolean {
		p.booleans(f, what, later)
	}
	switch f.Kind {
	case schema.Choice:
		p.choice(f, what, later["values"], at)
	case schema.Reference:
		p.reference(f, what, later["to"], at)
	}
	if n := later["range"]; n != nil {
		f.Range = p.bounds(n, what+": range", func(s string) (expr.Value, bool) {
			if f.Kind == schema.Date {
				d, ok := expr.ParseDate(s)
				return d, ok
			}
			x, ok := f.Number(s)
			if !ok {
				x, ok = expr.ParseNumber(s)
			}
			return x, ok
		})
	}
	if n := later["move"]; n != nil {
		p.move(f, n, what+": move")
	}
	if n := later["translate"]; n != nil {
		p.translate(f, n, what+": translate")
	}
}

// amount reads how money is written.
func (p *reader) amount(f *Field, what string, n, at ast.Node) {
	if n == nil {
		p.fail(at, "give an example: written: £1,234.50", "%s is money and does not say how it is written", what)
		return
	}
	a, err := schema.ParseAmount(p.text(n, what+": written"))
	if err != nil {
		p.fail(n, "", "%s: %v", what, err)
	}
	f.Amount = a
}

func (p *reader) booleans(f *Field, what string, later map[string]ast.Node) {
	f.Words = map[string]bool{}
	for _, side := range []struct {
		word  string
		truth bool
		first *string
	}{{"true", true, &f.True}, {"false", false, &f.False}} {
		words := []string{side.word}
		if n := later[side.word]; n != nil {
			if words = p.texts(n, what+": "+side.word); len(words) == 0 {
				p.fail(n, "", "%s: %s has no word", what, side.word)
				continue
			}
		}
		*side.first = words[0]
		for _, w := range words {
			if was, there := f.Words[strings.ToLower(w)]; there && was != side.truth {
				p.fail(later[side.word], "", "%s: %q cannot be both true and false", what, w)
			}
			f.Words[strings.ToLower(w)] = side.truth
		}
	}
}

func (p *reader) choice(f *Field, what string, n, at ast.Node) {
	if f.Values = p.texts(n, what+": values"); len(f.Values) == 0 {
		p.fail(at, "list them: values: [inner, outer]", "%s is a choice and has no values", what)
	}
	if v, ok := f.SetValues(f.Values); !ok {
		p.fail(n, "", "%s: the value %q stands there twice", what, v)
	}
}

func (p *reader) reference(f *Field, what string, n, at ast.Node) {
	if n == nil {
		p.fail(at, "name its list: to: depots.csv", "%s is a reference and does not say to what", what)
		return
	}
	list, by, as := "", "", ""
	if _, plain := n.(ast.ScalarNode); plain {
		list = p.text(n, what+": to")
	} else {
		for _, e := range p.mapping(n, what+": to", []string{"list", "by", "name"}) {
			switch e.key {
			case "list":
				list = p.text(e.value, e.key)
			case "by":
				by = p.text(e.value, e.key)
			case "name":
				as = p.text(e.value, e.key)
			}
		}
	}
	m, ok := p.open(list, n, what)
	if !ok {
		return
	}
	var err error
	if f.List, err = readList(list, m, by, as, f.Compare.Normal); err != nil {
		p.fail(n, "", "%s: %v", what, err)
	}
}

func (p *reader) open(list string, n ast.Node, what string) (*table.Image, bool) {
	m, err := p.lists.List(list)
	if err != nil {
		p.fail(n, "the name is that of a file beside the desk.yaml, or of one in layouts", "%s: the list %s cannot be read: %v", what, list, err)
		return nil, false
	}
	return m, true
}

// bounds reads 5, 1..40, ..40 or 1.. .
func (p *reader) bounds(n ast.Node, what string, value func(string) (expr.Value, bool)) Bounds {
	text := p.text(n, what)
	low, high, both := strings.Cut(text, "..")
	if !both {
		high = low
	}
	b := Bounds{Text: text}
	for _, side := range []struct {
		text string
		v    *expr.Value
	}{{low, &b.Low}, {high, &b.High}} {
		if side.text = strings.TrimSpace(side.text); side.text == "" {
			continue
		}
		v, ok := value(side.text)
		if !ok {
			p.fail(n, "write a range as 1..40, ..40 or 1..", "%s is not %q", what, text)
			return Bounds{}
		}
		*side.v = v
	}
	return b
}

func (p *reader) move(f *Field, n ast.Node, what string) {
	for _, e := range p.mapping(n, what, []string{"share", "size"}) {
		text := p.text(e.value, what)
		digits, percent := strings.CutSuffix(text, "%")
		v, ok := expr.ParseNumber(strings.TrimSpace(digits))
		switch {
		case !ok || percent != (e.key == "share") || strings.HasPrefix(digits, "-"):
			p.fail(e.value, "write share: 20%, or size: 5.00", "%s: %s is not %q", what, e.key, text)
		case e.key == "share":
			hundred, _ := expr.ParseNumber("0.01")
			f.Move.Share, _ = v.Multiply(hundred).(*expr.Number)
		default:
			f.Move.Size = v
		}
		f.Move.Text = strings.TrimPrefix(f.Move.Text+" and "+text, " and ")
	}
}

// translate reads value: value pairs, or the name of a list with two columns.
func (p *reader) translate(f *Field, n ast.Node, what string) {
	t := &Translation{to: map[string]string{}}
	f.Translate = t
	var values ast.Node
	if _, plain := n.(ast.ScalarNode); plain {
		t.From = p.text(n, what)
	} else {
		for _, e := range p.mapping(n, what, []string{"list", "always", "values"}) {
			switch e.key {
			case "list":
				t.From = p.text(e.value, what)
			case "always":
				t.Always = p.truth(e.value, what)
			case "values":
				values = e.value
			}
		}
	}
	for _, e := range p.mapping(values, what+": values", nil) {
		t.to[e.key] = p.text(e.value, what)
	}
	if t.From != "" {
		p.translationList(t, n, what)
	}
	for from, to := range t.to {
		if f.Kind == schema.Choice && !contains(f.Values, to) {
			p.fail(n, suggest(to, f.Values), "%s: %q becomes %q, which is not among the values", what, from, to)
		}
	}
}

func (p *reader) translationList(t *Translation, n ast.Node, what string) {
	m, ok := p.open(t.From, n, what)
	if !ok {
		return
	}
	if len(m.Heading) < 2 {
		p.fail(n, "the first column holds what is found, the second what it becomes", "%s: the list %s has one column", what, t.From)
		return
	}
	err := csv.Each(context.Background(), m, func(r *csv.Line) error {
		if r.Len() < 2 {
			return nil
		}
		from, to := string(r.Cell(0)), string(r.Cell(1))
		if was, twice := t.to[from]; twice && was != to {
			p.fail(n, "", "%s: %q becomes both %q and %q (row %d of %s)", what, from, was, to, r.Number(), t.From)
		}
		t.to[from] = to
		return nil
	})
	if err != nil {
		p.fail(n, "", "%s: %v", what, err)
	}
}
