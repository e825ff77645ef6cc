package layout

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// Joined says what stands in a sheet whose rows hold records of several record sets: which of
// its columns are which set's.
type Joined struct {
	Name       string // of what a row is: the layout's record_set
	Title      string
	List       string // the part whose rows are records, and which may be deleted; "" is none
	Parts      []Part // in the layout's order
	Ignore     []string
	HeadingRow int
	Sheet      string
}

// Part is one record of a row: of the visit, of its aid, or of the depot of that. One record set
// may have several.
type Part struct {
	Name    string
	Set     string // its record set
	Key     []string
	Columns []JoinedColumn
	Line    int // where it stands in the layout
}

// JoinedColumn is a column of the sheet as a field of a part.
type JoinedColumn struct{ Heading, Field string }

// Reference says that a part's fields name the record of another part.
type Reference struct {
	From, To int      // numbers of parts
	Fields   []string // of From, in the order of To's key
}

// IsJoined reports whether a layout is one of a joined sheet.
func IsJoined(data []byte) bool {
	d := &document{}
	n := d.parse(data)
	if n == nil {
		return false
	}
	return slices.ContainsFunc(d.mapping(n, "", nil), func(e pair) bool { return e.key == "joins" })
}

// ParseJoined reads and checks the layout of a joined sheet; name is its file's, for messages.
// Errors are Errors: all that is wrong with it.
func ParseJoined(name string, data []byte) (*Joined, error) {
	p := &joinedReader{document: document{file: name}, j: new(Joined)}
	if n := p.parse(data); n != nil {
		p.layout(n)
	}
	if len(p.errors) > 0 {
		return nil, p.errors
	}
	return p.j, nil
}

type joinedReader struct {
	document
	j *Joined
}

func (p *joinedReader) layout(n ast.Node) {
	var joins, list ast.Node
	for _, e := range p.mapping(n, "the layout of a joined sheet", []string{"record_set", "title", "list", "joins", "columns"}) {
		switch e.key {
		case "record_set":
			p.j.Name = p.text(e.value, e.key)
		case "title":
			p.j.Title = p.text(e.value, e.key)
		case "list":
			p.j.List, list = p.text(e.value, e.key), e.value
		case "joins":
			joins = e.value
		case "columns":
			p.columns(e.value)
		}
	}
	for _, e := range p.mapping(joins, "joins", nil) {
		p.part(e)
	}
	if len(p.errors) > 0 {
		return
	}
	if len(p.j.Parts) == 0 {
		p.fail(n, "write joins: and below it the record sets that a row holds", "the layout does not say what a row holds")
		return
	}
	p.check(n, list)
}

func (p *joinedReader) columns(n ast.Node) {
	for _, e := range p.mapping(n, "columns", []string{"ignore", "heading_row", "sheet"}) {
		switch e.key {
		case "ignore":
			p.j.Ignore = p.texts(e.value, e.key)
		case "heading_row":
			p.j.HeadingRow = p.whole(e.value, e.key, 1, 1_000_000)
		default:
			p.j.Sheet = p.text(e.value, e.key)
		}
	}
}

func (p *joinedReader) part(e pair) {
	x := Part{Name: e.key, Set: e.key}
	if t := tokenOf(e.at); t != nil && t.Position != nil {
		x.Line = t.Position.Line
	}
	what := "joins: " + e.key
	var fields []string
	for _, f := range p.mapping(e.value, what, []string{"of", "key", "columns"}) {
		switch f.key {
		case "of":
			x.Set = p.text(f.value, f.key)
		case "key":
			x.Key = p.texts(f.value, f.key)
		default:
			for _, c := range p.mapping(f.value, what+": columns", nil) {
				field := p.text(c.value, c.key)
				if contains(fields, field) {
					p.fail(c.value, "a field stands in one column", "%s: the field %q is said to stand in two columns", what, field)
				}
				fields = append(fields, field)
				x.Columns = append(x.Columns, JoinedColumn{c.key, field})
			}
		}
	}
	switch {
	case len(x.Key) == 0:
		p.fail(e.at, "write key: and the field, or fields, that identify a record", "%s: the key is not said", what)
	case len(x.Columns) == 0:
		p.fail(e.at, "write columns: {HEADING: FIELD, …}", "%s: its columns are not said", what)
	}
	for _, k := range x.Key {
		if !contains(fields, k) && len(fields) > 0 {
			p.fail(e.at, "add HEADING: "+k+" to its columns", "%s: no column has the key field %q", what, k)
		}
	}
	p.j.Parts = append(p.j.Parts, x)
}

// check looks at what concerns several parts.
func (p *joinedReader) check(n, list ast.Node) {
	j := p.j
	var names []string
	keys := map[string]*Part{}
	for i := range j.Parts {
		x := &j.Parts[i]
		names = append(names, x.Name)
		if first := keys[x.Set]; first != nil && !slices.Equal(first.Key, x.Key) {
			p.errors = append(p.errors, &Error{File: p.file, Line: x.Line, Column: 1, Text: fmt.Sprintf("joins: %s and %s are both of %s and have other keys", first.Name, x.Name, x.Set), Hint: "give both the key " + strings.Join(first.Key, ", ")})
		} else {
			keys[x.Set] = x
		}
	}
	if j.List != "" {
		switch at := slices.Index(names, j.List); {
		case at < 0:
			p.fail(list, suggest(j.List, names), "list: %q is none of the joins", j.List)
		case slices.ContainsFunc(j.Parts, func(x Part) bool { return x.Name != j.List && x.Set == j.Parts[at].Set }):
			p.fail(list, "leave list: out, or take another", "list: of %s there are several in a row", j.Parts[at].Set)
		case slices.ContainsFunc(j.References(), func(r Reference) bool { return r.To == at }):
			p.fail(list, "name the part that refers to the others", "list: %s is referred to by another part, and stands on a row for each of those", j.List)
		}
	}
	if _, ok := j.Order(); !ok {
		p.fail(n, "leave a column out of one of the parts", "the parts refer to each other in a circle")
	}
}

// Column is the heading of a part's field, "" where it has none.
func (x *Part) Column(field string) string {
	for _, c := range x.Columns {
		if c.Field == field {
			return c.Heading
		}
	}
	return ""
}

// Headings lists the sheet's headings, in the layout's order, each once.
func (j *Joined) Headings() []string {
	var all, forms []string
	for _, x := range j.Parts {
		for _, c := range x.Columns {
			if f := HeadingForm(c.Heading); !contains(forms, f) {
				all, forms = append(all, c.Heading), append(forms, f)
			}
		}
	}
	return all
}

// References lists which part names the record of which other: it has all columns of that one's
// key among its own.
func (j *Joined) References() (all []Reference) {
	for to := range j.Parts {
		for from := range j.Parts {
			if from == to {
				continue
			}
			if fields := j.naming(&j.Parts[from], &j.Parts[to]); fields != nil {
				all = append(all, Reference{from, to, fields})
			}
		}
	}
	return all
}

// naming are the fields of from that stand in the columns of to's key; nil if one does not.
func (j *Joined) naming(from, to *Part) (fields []string) {
	for _, k := range to.Key {
		h := HeadingForm(to.Column(k))
		i := slices.IndexFunc(from.Columns, func(c JoinedColumn) bool { return HeadingForm(c.Heading) == h })
		if i < 0 {
			return nil
		}
		fields = append(fields, from.Columns[i].Field)
	}
	return fields
}

// Base is the number of the part that refers to all others, straight or on the way of others: a row is a
// record of it. ok is false where none does.
func (j *Joined) Base() (part int, ok bool) {
	refs := j.References()
	for i := range j.Parts {
		seen := map[int]bool{i: true}
		for grown := true; grown; {
			grown = false
			for _, r := range refs {
				if seen[r.From] && !seen[r.To] {
					seen[r.To], grown = true, true
				}
			}
		}
		if len(seen) == len(j.Parts) {
			return i, true
		}
	}
	return 0, false
}

// BaseKey lists the headings that hold the key of the Base.
func (j *Joined) BaseKey() (all []string) {
	i, _ := j.Base()
	headings := j.Headings()
	for _, k := range j.Parts[i].Key {
		h := HeadingForm(j.Parts[i].Column(k))
		all = append(all, headings[slices.IndexFunc(headings, func(o string) bool { return HeadingForm(o) == h })])
	}
	return all
}

// Sets lists the record sets, each once, in the order of the parts.
func (j *Joined) Sets() (all []string) {
	for i := range j.Parts {
		if !contains(all, j.Parts[i].Set) {
			all = append(all, j.Parts[i].Set)
		}
	}
	return all
}

// Order lists the record sets so that those that are referred to come before those that refer to
// them; ok is false where they refer to each other in a circle. A set may refer to itself.
func (j *Joined) Order() (all []string, ok bool) {
	sets, refs := j.Sets(), j.References()
	for len(all) < len(sets) {
		n := len(all)
		for _, s := range sets {
			if contains(all, s) || slices.ContainsFunc(refs, func(r Reference) bool {
				to := j.Parts[r.To].Set
				return j.Parts[r.From].Set == s && to != s && !contains(all, to)
			}) {
				continue
			}
			all = append(all, s)
		}
		if len(all) == n {
			return all, false
		}
	}
	return all, true
}
