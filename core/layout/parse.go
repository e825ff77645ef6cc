package layout

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"paletwin/core/expr"
	"paletwin/core/schema"
	"paletwin/core/table"
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
	if n := p.parse(data); n != nil && !p.joined(n) {
		p.layout(n)
		p.checkAssigned()
	}
	if len(p.errors) > 0 {
		slices.SortStableFunc(p.errors, func(a, b *Error) int {
			return cmp.Or(a.Line-b.Line, a.Column-b.Column, strings.Compare(a.Text, b.Text))
		})
		return nil, p.errors
	}
	fields := make([]*schema.Field, len(p.l.Fields))
	for i := range p.l.Fields {
		fields[i] = &p.l.Fields[i].Field
	}
	p.l.schema = schema.New(p.l.Key, p.key, fields)
	return p.l, nil
}

// joined refuses the layout of a joined sheet, which is of no one record set.
func (p *reader) joined(n ast.Node) bool {
	for _, e := range new(document).mapping(n, "", nil) {
		if e.key == "joins" {
			p.fail(e.at, "name it with compare --joined", "this is the layout of a joined sheet, whose rows hold records of several sets")
			return true
		}
	}
	return false
}

// checkAssigned refuses a field with key: assigned that is not the whole key.
func (p *reader) checkAssigned() {
	if p.assigned == nil {
		return
	}
	for i := range p.l.Fields {
		if f := &p.l.Fields[i]; f.Assigned && (len(p.l.Key) != 1 || p.l.Key[0] != f.Name) {
			p.fail(p.assigned, "where the key is one field, that field may say so", "%s: key: assigned is said of a field that is not the key", f.Name)
		}
	}
}

// reader reads a layout.
type reader struct {
	assigned ast.Node // where a field says key: assigned
	document
	lists   Source
	l       *Layout
	key     schema.KeyForm
	rules   ast.Node
	keyAt   ast.Node
	shapeAt ast.Node
}

var (
	topWords   = []string{"record_set", "title", "key", "key_form", "columns", "blank", "missing", "fields", "rules", "limits", "outward", "shape"}
	fieldWords = []string{"title", "aliases", "kind", "scale", "written", "forms", "true", "false", "values", "to", "required", "unique", "length", "range", "pattern", "null",
		"clears_to", "compare", "access", "key", "blank", "move", "translate", "outward"}
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
		case "shape":
			p.shape(e.value)
		}
	}
	p.fields(fields, n)
	p.check()
}

func (p *reader) keyForm(n ast.Node) {
	k := &p.key
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
	if k.Prefix > 0 && k.Zeros > k.Prefix {
		p.fail(n, "leave out one of the two", "key_form: of keys with zeros up to %d the first %d characters would be those of many records", k.Zeros, k.Prefix)
	}
}

var delimiters = map[string]string{"comma": ",", "semicolon": ";", "tab": "\t", "pipe": "|"}

func (p *reader) columns(n ast.Node) {
	for _, e := range p.mapping(n, "columns", []string{"ignore", "heading_row", "sheet", "sheet_as", "encoding", "delimiter"}) {
		switch e.key {
		case "ignore":
			p.l.Ignore = p.texts(e.value, e.key)
		case "heading_row":
			p.l.HeadingRow = p.whole(e.value, e.key, 1, 1_000_000)
		case "encoding":
			p.l.Encoding = p.text(e.value, e.key)
		case "delimiter":
			p.l.Delimiter = delimiters[p.word(e.value, e.key, []string{"comma", "semicolon", "tab", "pipe"})]
		case "sheet":
			p.l.Sheet = p.text(e.value, e.key)
		case "sheet_as":
			p.l.SheetAs = p.text(e.value, e.key)
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

var outwardWords = []string{"date", "datetime", "true", "false", "blank", "clear"}

func (p *reader) outward(entries []pair) Outward {
	var o Outward
	for _, e := range entries {
		switch what := "outward: " + e.key; e.key {
		case "date", "datetime":
			text := p.text(e.value, what)
			if _, err := schema.ParseForm(text); err != nil {
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
		l, err := ParseLimit(text)
		if err != nil {
			p.fail(e.value, "write a number of records, or a share such as 10%", "limits: %s is not %q", e.key, text)
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

// ParseLimit reads a limit: a number of records, or a share such as 10%.
func ParseLimit(text string) (Limit, error) {
	l := Limit{Set: true, Text: text}
	digits, percent := strings.CutSuffix(text, "%")
	v, err := strconv.ParseFloat(strings.TrimSpace(digits), 64)
	switch {
	case err != nil || v < 0 || percent && v > 100 || !percent && v != float64(int(v)):
		return l, fmt.Errorf("%q is no number of records, nor a share such as 10%%", text)
	case percent && v > 0:
		l.Percent = v
	default:
		l.Count = int(v)
	}
	return l, nil
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
	p.checkShape(names)
	fields := make([]expr.Field, len(p.l.Fields))
	for i := range p.l.Fields {
		f := &p.l.Fields[i]
		fields[i] = expr.Field{Name: f.Name, Type: f.exprType()}
		if f.Kind == schema.Reference && f.List != nil && f.List.As != "" {
			fields[i].Code = f.List.named
		}
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
		row, ok := x.codes[l.Fields[i].Compare.Normal(value)]
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
