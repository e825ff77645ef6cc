package layout

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"paletwin/core/expr"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// Source is where a layout's lists come from.
type Source interface {
	// List opens a list by the name that the layout gives it. The image stays
	// readable as long as the Source is used.
	List(name string) (*table.Image, error)
}

// Parse reads and checks a layout; name is its file's, for messages. Errors
// are Errors: all that is wrong with it.
func Parse(name string, data []byte, lists Source) (*Layout, error) {
	p := &reader{document: document{file: name}, lists: lists, l: &Layout{byName: map[string]int{}}}
	if n := p.parse(data); n != nil {
		p.layout(n)
	}
	if len(p.errors) > 0 {
		slices.SortStableFunc(p.errors, func(a, b *Error) int { return a.Line - b.Line })
		return nil, p.errors
	}
	return p.l, nil
}

// reader reads a layout.
type reader struct {
	document
	lists Source
	l     *Layout
	rules ast.Node
	keyAt ast.Node
}

var (
	topWords   = []string{"record_set", "title", "key", "key_form", "columns", "blank", "missing", "fields", "rules", "limits", "outward"}
	fieldWords = []string{"title", "aliases", "kind", "scale", "forms", "true", "false", "values", "to", "required", "unique", "length", "range", "pattern", "null",
		"clears_to", "compare", "access", "blank", "move", "translate", "outward"}
	blankWords   = []string{"hold", "clear", "keep"}
	missingWords = []string{"hold", "delete", "keep"}
	levelWords   = []string{"stop", "warn", "note"}
)

func (p *reader) layout(n ast.Node) {
	var fields ast.Node
	for _, e := range p.mapping(n, "a layout", topWords) {
		switch e.key {
		case "record_set":
			p.l.RecordSet = p.text(e.value, e.key)
		case "title":
			p.l.Title = p.text(e.value, e.key)
		case "key":
			p.l.Key, p.keyAt = p.texts(e.value, e.key), e.at
		case "key_form":
			p.keyForm(e.value)
		case "columns":
			p.columns(e.value)
		case "blank":
			p.l.Blank = p.word(e.value, e.key, blankWords)
		case "missing":
			p.l.Missing = p.word(e.value, e.key, missingWords)
		case "fields":
			fields = e.value
		case "rules":
			p.rules = e.value
		case "limits":
			p.limits(e.value)
		case "outward":
			p.l.Outward = p.outward(p.mapping(e.value, "outward", outwardWords))
		}
	}
	p.fields(fields, n)
	p.check()
}

func (p *reader) keyForm(n ast.Node) {
	k := &p.l.KeyForm
	for _, e := range p.mapping(n, "key_form", []string{"trim", "case", "zeros", "prefix"}) {
		switch e.key {
		case "trim":
			k.Trim = p.truth(e.value, e.key)
		case "case":
			k.FoldCase = p.word(e.value, e.key, []string{"exact", "ignore"}) == "ignore"
		case "zeros":
			k.Zeros = p.whole(e.value, e.key, 1, 1000)
		case "prefix":
			k.Prefix = p.whole(e.value, e.key, 1, 1000)
		}
	}
}

func (p *reader) columns(n ast.Node) {
	for _, e := range p.mapping(n, "columns", []string{"ignore", "heading_row", "sheet"}) {
		switch e.key {
		case "ignore":
			p.l.Ignore = p.texts(e.value, e.key)
		case "heading_row":
			p.l.HeadingRow = p.whole(e.value, e.key, 1, 1_000_000)
		case "sheet":
			p.l.Sheet = p.text(e.value, e.key)
		}
	}
}

func (p *reader) fields(n, at ast.Node) {
	entries := p.mapping(n, "fields", nil)
	if len(entries) == 0 && len(p.errors) == 0 {
		p.fail(at, "list them under fields:", "the layout has no fields")
	}
	for _, e := range entries {
		p.l.byName[e.key] = len(p.l.Fields)
		p.l.Fields = append(p.l.Fields, p.field(e))
	}
}

// field reads one field. What depends on its kind is read last.
func (p *reader) field(e pair) Field {
	f := Field{Name: e.key, Kind: Text, Scale: -1, Access: Free, Line: tokenOf(e.at).Position.Line}
	what := "field " + e.key
	later := map[string]ast.Node{}
	if s, ok := e.value.(*ast.StringNode); ok { // fee: decimal
		f.Kind = Kind(p.word(s, what+": kind", kinds))
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
		f.Kind = Kind(p.word(x.value, what, kinds))
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
		f.Access = Access(p.word(x.value, what, accesses))
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
var of = map[string][]Kind{"scale": {Decimal}, "forms": {Date, Datetime}, "true": {Boolean}, "false": {Boolean}, "values": {Choice}, "to": {Reference},
	"range": {Integer, Decimal, Date}, "move": {Integer, Decimal}, "translate": {Text, Integer, Choice, Reference}}

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
	if f.Kind == Date {
		f.Forms = []Form{{"yyyy-mm-dd", "2006-01-02"}}
	}
	if n := later["forms"]; n != nil {
		f.Forms = nil
		for _, t := range p.texts(n, what+": forms") {
			form, err := ParseForm(t)
			if err != nil {
				p.fail(n, "", "%s: %v", what, err)
			}
			f.Forms = append(f.Forms, form)
		}
		if len(f.Forms) == 0 {
			p.fail(n, "", "%s: forms has no form", what)
		}
	}
	if f.Kind == Boolean {
		p.booleans(f, what, later)
	}
	switch f.Kind {
	case Choice:
		p.choice(f, what, later["values"], at)
	case Reference:
		p.reference(f, what, later["to"], at)
	}
	if n := later["range"]; n != nil {
		f.Range = p.bounds(n, what+": range", func(s string) (expr.Value, bool) {
			if f.Kind == Date {
				d, ok := expr.ParseDate(s)
				return d, ok
			}
			x, ok := expr.ParseNumber(s)
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
	f.known = map[string]int{}
	for i, v := range f.Values {
		if _, twice := f.known[f.Compare.form(v)]; twice {
			p.fail(n, "", "%s: the value %q stands there twice", what, v)
		}
		f.known[f.Compare.form(v)] = i
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
	if f.List, err = readList(list, m, by, as, f.Compare.form); err != nil {
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
		if f.Kind == Choice && !contains(f.Values, to) {
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
	for s := csv.Body(m); ; {
		ok, err := s.Next()
		if err != nil {
			p.fail(n, "", "%s: %v", what, err)
		}
		if !ok || err != nil {
			return
		}
		cells := csv.Split(nil, s.Raw(), m.Comma)
		if len(cells) < 2 || csv.BlankRow(s.Raw(), m.Comma) {
			continue
		}
		from, to := string(csv.Unquote(cells[0])), string(csv.Unquote(cells[1]))
		if was, twice := t.to[from]; twice && was != to {
			p.fail(n, "", "%s: %q becomes both %q and %q (row %d of %s)", what, from, was, to, s.Row, t.From)
		}
		t.to[from] = to
	}
}

var outwardWords = []string{"date", "datetime", "true", "false", "blank", "clear"}

func (p *reader) outward(entries []pair) Outward {
	var o Outward
	for _, e := range entries {
		switch what := "outward: " + e.key; e.key {
		case "date", "datetime":
			text := p.text(e.value, what)
			if _, err := ParseForm(text); err != nil {
				p.fail(e.value, "", "%s: %v", what, err)
			}
			if e.key == "date" {
				o.Date = text
			} else {
				o.Datetime = text
			}
		case "true":
			o.True = p.text(e.value, what)
		case "false":
			o.False = p.text(e.value, what)
		case "blank":
			o.Blank = p.word(e.value, what, []string{"keeps", "clears"})
		case "clear":
			o.Clear = p.text(e.value, what)
		}
	}
	return o
}

func (p *reader) fieldOutward(f *Field, n ast.Node, what string) {
	if _, plain := n.(ast.ScalarNode); plain {
		f.Outward.Name = p.text(n, what)
		return
	}
	entries := p.mapping(n, what, append([]string{"name"}, outwardWords...))
	entries = slices.DeleteFunc(entries, func(e pair) bool {
		if e.key == "name" {
			f.Outward.Name = p.text(e.value, what)
		}
		return e.key == "name"
	})
	f.Outward.Outward = p.outward(entries)
}

func (p *reader) limits(n ast.Node) {
	for _, e := range p.mapping(n, "limits", []string{"amend", "add", "delete"}) {
		text := p.text(e.value, e.key)
		l := Limit{Set: true, Text: text}
		digits, percent := strings.CutSuffix(text, "%")
		v, err := strconv.ParseFloat(strings.TrimSpace(digits), 64)
		switch {
		case err != nil || v < 0 || percent && v > 100 || !percent && v != float64(int(v)):
			p.fail(e.value, "write a number of records, or a share such as 10%", "limits: %s is not %q", e.key, text)
		case percent && v > 0:
			l.Percent = v
		default:
			l.Count = int(v)
		}
		switch e.key {
		case "amend":
			p.l.Limits.Amend = l
		case "add":
			p.l.Limits.Add = l
		case "delete":
			p.l.Limits.Delete = l
		}
	}
}

// check looks at what concerns several fields, and compiles the rules.
func (p *reader) check() {
	names := make([]string, len(p.l.Fields))
	for i := range p.l.Fields {
		names[i] = p.l.Fields[i].Name
	}
	if len(p.l.Key) == 0 {
		p.errors = append(p.errors, &Error{File: p.file, Text: "the layout does not say what identifies a record", Hint: "write key: aid_no, or key: [aid_no, due]"})
	}
	for _, k := range p.l.Key {
		if p.l.Index(k) < 0 {
			p.fail(p.keyAt, suggest(k, names), "the key field %q is not among the fields", k)
		}
	}
	p.aliases()
	fields := make([]expr.Field, len(p.l.Fields))
	for i := range p.l.Fields {
		fields[i] = expr.Field{Name: p.l.Fields[i].Name, Type: p.l.Fields[i].exprType()}
	}
	env, err := expr.NewEnv(fields, p.l)
	if err != nil {
		p.errors = append(p.errors, &Error{File: p.file, Text: err.Error()})
		return
	}
	p.l.env = env
	p.compile()
}

// aliases refuses headings that would be two fields.
func (p *reader) aliases() {
	owner := map[string]string{}
	for i := range p.l.Fields {
		f := &p.l.Fields[i]
		for _, h := range append([]string{f.Name}, f.Aliases...) {
			form := strings.ToLower(strings.TrimSpace(h))
			if o, taken := owner[form]; taken && o != f.Name {
				p.errors = append(p.errors, &Error{File: p.file, Line: f.Line, Column: 1, Text: fmt.Sprintf("the heading %q would be both %s and %s", h, o, f.Name),
					Hint: "take the alias out of one of them"})
			}
			owner[form] = f.Name
		}
	}
}

func (p *reader) compile() {
	s, ok := p.rules.(*ast.SequenceNode)
	if !ok {
		if _, empty := p.rules.(*ast.NullNode); p.rules != nil && !empty {
			p.fail(p.rules, "start each with a dash: - check: …", "rules is not a list")
		}
		return
	}
	for i, n := range s.Values {
		r := Rule{Level: "stop", Name: fmt.Sprintf("rule %d", i+1)}
		if t := tokenOf(n); t != nil && t.Position != nil {
			r.Line = t.Position.Line
		}
		var check ast.Node
		for _, e := range p.mapping(n, "a rule", []string{"name", "check", "message", "level"}) {
			switch e.key {
			case "name":
				r.Name = p.text(e.value, e.key)
			case "check":
				check = e.value
			case "message":
				r.Message = p.text(e.value, e.key)
			case "level":
				r.Level = p.word(e.value, e.key, levelWords)
			}
		}
		if check == nil {
			p.fail(n, "write check: and a condition that has to hold", "the rule %q has no check", r.Name)
			continue
		}
		source := p.text(check, "check")
		var err error
		if r.Check, err = p.l.env.CompileBool(source); err != nil {
			p.badExpression(check, "check", err)
		}
		if r.Message == "" {
			r.Message = "it does not hold that " + source
		}
		p.l.Rules = append(p.l.Rules, r)
	}
}

// badExpression places a mistake in an expression in the layout: the
// expression's first line starts where its value does.
func (p *reader) badExpression(n ast.Node, what string, err error) {
	x, ok := err.(*expr.Error)
	if !ok {
		p.fail(n, "", "%s: %v", what, err)
		return
	}
	p.fail(n, x.Hint, "%s: %s", what, x.Text)
	e := p.errors[len(p.errors)-1]
	if s, plain := n.(*ast.StringNode); plain && x.Line == 1 {
		e.Column += x.Column - 1
		if v := s.Token.Origin; strings.HasPrefix(strings.TrimSpace(v), `"`) || strings.HasPrefix(strings.TrimSpace(v), "'") {
			e.Column++
		}
	} else if _, block := n.(*ast.LiteralNode); block {
		e.Line, e.Column = e.Line+x.Line, x.Column
	}
}

// Lookup and Translate answer expressions out of the layout's lists, which
// are known by the names that its fields give them, with or without ".csv".
func (l *Layout) Lookup(list, value, column string) (string, bool, error) {
	for i := range l.Fields {
		x := l.Fields[i].List
		if x == nil || x.Name != list && x.Name != list+".csv" {
			continue
		}
		c := x.column(column)
		if c < 0 {
			return "", false, fmt.Errorf("%s has no column %q", list, column)
		}
		row, ok := x.codes[l.Fields[i].Compare.form(value)]
		if !ok {
			return "", false, nil
		}
		return x.rows[row][c], true, nil
	}
	return "", false, fmt.Errorf("no field refers to a list %q", list)
}

// Translate is described at Lookup.
func (l *Layout) Translate(value, list string) (string, bool, error) {
	for i := range l.Fields {
		if t := l.Fields[i].Translate; t != nil && (t.From == list || t.From == list+".csv") {
			to, ok := t.to[value]
			return to, ok, nil
		}
	}
	return "", false, fmt.Errorf("no field is translated by a list %q", list)
}
