package layout

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/table"
)

// Sender is what is known of files that come again from the same hands, which a desk keeps as a
// source: what their headings mean, where the table stands, what they leave out, and what their
// codes become.
type Sender struct {
	Name           string
	Description    string
	Key            []string          // the fields that identify a record; nil is not said
	Columns        map[string]string // fields by their headings
	Ignore         []string          // headings that hold no field
	Sheet          string
	HeadingRow     int
	Encoding       string
	Delimiter      string
	Missing, Blank string
	Allow          []string
	SavedIn        string // the locale of the program that saved them
	DayOrder       string
	Translate      map[string]*Translation // by field
	Headings       []string                // that the file had when the source was kept
}

// sent is a source as its file has it.
type sent struct {
	Description string            `yaml:"description,omitempty"`
	Key         []string          `yaml:"key,omitempty,flow"`
	Columns     map[string]string `yaml:"columns,omitempty"`
	Ignore      []string          `yaml:"ignore,omitempty,flow"`
	Sheet       string            `yaml:"sheet,omitempty"`
	HeadingRow  int               `yaml:"heading_row,omitempty"`
	Encoding    string            `yaml:"encoding,omitempty"`
	Delimiter   string            `yaml:"delimiter,omitempty"`
	Missing     string            `yaml:"missing,omitempty"`
	Blank       string            `yaml:"blank,omitempty"`
	Allow       []string          `yaml:"allow,omitempty,flow"`
	SavedIn     string            `yaml:"saved_in,omitempty"`
	DayOrder    string            `yaml:"day_order,omitempty"`
	Headings    []string          `yaml:"headings,omitempty,flow"`
}

var senderWords = []string{"description", "key", "columns", "ignore", "sheet", "heading_row", "encoding", "delimiter", "missing", "blank", "allow", "saved_in", "day_order", "translate", "headings"}

// ParseSender reads a source's file; its errors are Errors. name is the file's, for messages.
func ParseSender(name string, data []byte, lists Source) (*Sender, error) {
	p := &reader{document: document{file: name, what: "source", first: "paletwin compare SNAPSHOT FILE --map 'Their heading=field' --as NAME writes one"}, lists: lists, l: &Layout{byName: map[string]int{}}}
	s := &Sender{Columns: map[string]string{}, Translate: map[string]*Translation{}}
	if n := p.parse(data); n != nil {
		for _, e := range p.mapping(n, "a source", senderWords) {
			p.sender(s, e)
		}
	}
	if len(p.errors) > 0 {
		return nil, p.errors
	}
	return s, nil
}

func (p *reader) sender(s *Sender, e pair) {
	switch e.key {
	case "description":
		s.Description = p.text(e.value, e.key)
	case "key":
		s.Key = p.texts(e.value, e.key)
	case "columns":
		for _, c := range p.mapping(e.value, "columns", nil) {
			s.Columns[c.key] = p.text(c.value, c.key)
		}
	case "ignore":
		s.Ignore = p.texts(e.value, e.key)
	case "sheet":
		s.Sheet = p.text(e.value, e.key)
	case "heading_row":
		s.HeadingRow = p.whole(e.value, e.key, 1, 1_000_000)
	case "encoding":
		s.Encoding = p.text(e.value, e.key)
	case "delimiter":
		s.Delimiter = p.text(e.value, e.key)
	case "missing":
		s.Missing = p.word(e.value, e.key, missingWords)
	case "blank":
		s.Blank = p.word(e.value, e.key, blankWords)
	case "allow":
		for _, w := range p.texts(e.value, e.key) {
			if _, err := changeset.ParseAct(w); err != nil {
				p.fail(e.value, "", "allow: %v", err)
			}
			s.Allow = append(s.Allow, w)
		}
	case "saved_in":
		s.SavedIn = p.text(e.value, e.key)
	case "day_order":
		s.DayOrder = p.word(e.value, e.key, []string{"dmy", "mdy"})
	case "translate":
		p.senderTranslations(s, e.value)
	case "headings":
		s.Headings = p.texts(e.value, e.key)
	}
}

func (p *reader) senderTranslations(s *Sender, n ast.Node) {
	for _, e := range p.mapping(n, "translate", nil) {
		f := new(Field)
		p.translate(f, e.value, e.key+": translate")
		s.Translate[e.key] = f.Translate
	}
}

// Map says which field a heading is, in the place of what was said of either before.
func (s *Sender) Map(heading, field string) {
	columns := map[string]string{}
	for h, f := range s.Columns {
		if f != field && HeadingForm(h) != HeadingForm(heading) {
			columns[h] = f
		}
	}
	columns[heading] = field
	s.Columns = columns
}

// Marshal writes a source's file, without its translations, which are written by hand.
func (s *Sender) Marshal() ([]byte, error) {
	return yaml.MarshalWithOptions(&sent{s.Description, s.Key, s.Columns, s.Ignore, s.Sheet, s.HeadingRow, s.Encoding, s.Delimiter, s.Missing, s.Blank,
		s.Allow, s.SavedIn, s.DayOrder, s.Headings}, yaml.Flow(false))
}

// Over returns the layout as a comparison with files of the source takes it: their codes become those that
// the source says, and its columns that hold no field are no others. Errors say which fields there are not.
// l may be nil.
func (s *Sender) Over(l *Layout) (*Layout, error) {
	if s == nil || l == nil && len(s.Translate)+len(s.Ignore) == 0 {
		return l, nil
	}
	if l == nil {
		return nil, fmt.Errorf("source %s: translate and ignore need a layout of the record set: paletwin layout draft SNAPSHOT writes one", s.Name)
	}
	over := *l
	over.Fields, over.Ignore = slices.Clone(l.Fields), append(slices.Clone(l.Ignore), s.Ignore...)
	for _, name := range slices.Sorted(maps.Keys(s.Translate)) {
		i := over.Index(name)
		if i < 0 {
			return nil, fmt.Errorf("source %s: translate: there is no field %q; %s", s.Name, name, suggest(name, l.names()))
		}
		over.Fields[i].Translate = s.Translate[name]
	}
	return &over, nil
}

func (l *Layout) names() []string {
	all := make([]string, len(l.Fields))
	for i := range l.Fields {
		all[i] = l.Fields[i].Name
	}
	return all
}

// A Lost column is one that the files of a source had and that one of them has not.
type Lost struct {
	Heading, Field string
	Perhaps        string // the heading that is likely to be it now; "" is none
	Before         bool   // a file had it before; else it was only said to be there
}

// Lost lists the columns with fields that the source's files had and this one has not. fields are all that
// there are.
func (s *Sender) Lost(m *table.Image, fields []string) (all []Lost) {
	headings := m.FileHeadings()
	had := slices.Clone(s.Headings)
	before := formsOf(had)
	for _, h := range slices.Sorted(maps.Keys(s.Columns)) {
		if _, there := before[HeadingForm(h)]; !there {
			before[HeadingForm(h)] = h
			had = append(had, h)
		}
	}
	isField := map[string]bool{}
	for _, f := range fields {
		isField[f] = true
	}
	var fresh []string // headings that are no field and were not there before
	for i, h := range headings {
		if _, known := before[HeadingForm(h)]; !known && h != "" && !isField[m.Heading[i]] {
			fresh = append(fresh, h)
		}
	}
	has, called := formsOf(headings), formsOf(fields)
	for at, h := range had {
		field := s.field(h)
		if field == "" {
			field = called[HeadingForm(h)]
		}
		if _, there := has[HeadingForm(h)]; there || field == "" || m.Column(field) >= 0 {
			continue
		}
		x := Lost{Heading: h, Field: field, Before: slices.Contains(s.Headings, h)}
		x.Perhaps = likely(h, fresh)
		if x.Perhaps == "" && at < len(headings) && slices.Contains(fresh, headings[at]) {
			x.Perhaps = headings[at]
		}
		all = append(all, x)
	}
	return all
}

// formsOf are headings by their forms, the first of each.
func formsOf(headings []string) map[string]string {
	forms := make(map[string]string, len(headings))
	for _, h := range headings {
		if _, there := forms[HeadingForm(h)]; !there {
			forms[HeadingForm(h)] = h
		}
	}
	return forms
}

// likely is the heading that another is likely to be now: one with a letter or two of difference, or
// with the most words of it; "" is none.
func likely(heading string, fresh []string) (best string) {
	if n := expr.Near(heading, fresh); len(n) > 0 {
		return n[0]
	}
	words := wordsOf(heading)
	most := 0
	for _, f := range fresh {
		n := 0
		for _, w := range wordsOf(f) {
			if slices.Contains(words, w) {
				n++
			}
		}
		if n > most {
			best, most = f, n
		}
	}
	return best
}

func wordsOf(heading string) []string {
	return strings.FieldsFunc(strings.ToLower(heading), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
}

// field is the field that the source says a heading is; "" is none.
func (s *Sender) field(heading string) string {
	for _, h := range slices.Sorted(maps.Keys(s.Columns)) {
		if HeadingForm(h) == HeadingForm(heading) {
			return s.Columns[h]
		}
	}
	return ""
}

// Words say what a lost column may be now.
func (l *Lost) Words() string {
	s := fmt.Sprintf("the column %q (%s) of last time is gone", l.Heading, cmp.Or(l.Field, "no field"))
	if !l.Before {
		s = fmt.Sprintf("there is no heading %q, which was said to be %s", l.Heading, l.Field)
	}
	if l.Perhaps != "" {
		s += fmt.Sprintf("; %q is new and may be it: --map '%s=%s'", l.Perhaps, strings.ReplaceAll(l.Perhaps, "'", `'\''`), l.Field)
	}
	return s
}
