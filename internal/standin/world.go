// Package standin is a simulated record service: it serves the tables of a folder
// as entity sets of OData 4.01 (and 4.0), with the moods that real services have, so that
// a bulk update can be tried before the real thing.
//
// What is served is a world (world.go, load.go). Its records are held in memory by a
// store (store.go) and kept in SQLite (keep.go). A request, whether by itself or in a
// batch, is a call that gets an answer (call.go); moods (moods.go) change what
// becomes of it, and the ledger (ledger.go) says what truly did.
package standin

import (
	"strconv"
	"strings"
	"unicode"

	"paletwin/core/layout"
	"paletwin/core/schema"
	"paletwin/internal/odata"
)

// World is what is served: entity sets, in the order of their names.
type World struct {
	Sets []*Set
	Left []string // files that are not served, and why, in words

	byName map[string]*Set
	cannot map[string]bool // what the metadata does not promise
}

// Set is an entity set.
type Set struct {
	Name   string // an identifier: the file's name
	Title  string
	File   string // for messages
	Fields []*Field
	Key    []int // numbers of fields
	Navs   []*Nav

	stem     string // the file's name without its ending, by which lists name it
	assigned bool
	keyNames []string
	digest   string // of what it was loaded from
	found    bool   // no layout says what it is
	columns  []int  // of the file, by field
	loaded   []*Record
	byName   map[string]int
	referred []*Nav // of other sets, and of itself, that lead here
	indexed  []int  // fields by whose values records are found: unique ones, and those that are referred to
}

// Field is a property of the records.
type Field struct {
	Name     string // an identifier
	Heading  string // what the file calls it
	Kind     odata.Kind
	Scale    int // decimals; -1 is any
	Length   int // characters at most; 0 is any
	Required bool
	Unique   bool
	Access   schema.Access

	layout *layout.Field // nil where no layout speaks of it
	seen   bool          // its kind is what was seen, and nobody's word
}

// Nav is a reference to a record of a set: what leads from a record to another.
type Nav struct {
	Name   string
	Field  int // that holds the other record's code
	From   *Set
	Target *Set
	By     int // the field of the other that is its code
	slot   int // of the store's counts
}

// Set is the set of a name, or nil.
func (w *World) Set(name string) *Set { return w.byName[name] }

func (s *Set) isKey(field int) bool {
	for _, k := range s.Key {
		if k == field {
			return true
		}
	}
	return false
}

// nav is the reference of a name, or nil.
func (s *Set) nav(name string) *Nav {
	for _, n := range s.Navs {
		if n.Name == name {
			return n
		}
	}
	return nil
}

// finish makes what can be derived of a set once its fields are known.
func (s *Set) finish() {
	s.byName = map[string]int{}
	for i, f := range s.Fields {
		s.byName[f.Name] = i
	}
	for _, k := range s.Key {
		s.keyNames = append(s.keyNames, s.Fields[k].Name)
	}
}

// identifiers makes names of properties and sets of any texts: letters, digits and
// underscores, none twice (CSDL 4.01, 15.2).
func identifiers(texts []string) []string {
	taken := map[string]bool{}
	names := make([]string, len(texts))
	for i, text := range texts {
		base := identifier(text)
		name := base
		for n := 2; taken[strings.ToLower(name)]; n++ {
			name = base + "_" + strconv.Itoa(n)
		}
		taken[strings.ToLower(name)] = true
		names[i] = name
	}
	return names
}

func identifier(text string) string {
	var b strings.Builder
	n := 0
	for _, r := range strings.TrimSpace(text) {
		if n == 120 { // of the 128 that are allowed
			break
		}
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_' {
			r = '_'
		}
		if n == 0 && unicode.IsDigit(r) {
			b.WriteByte('_')
		}
		b.WriteRune(r)
		n++
	}
	if n == 0 {
		return "_"
	}
	return b.String()
}

// RefersTo is in words to which sets the set's records refer.
func (s *Set) RefersTo() string {
	var all []string
	for _, n := range s.Navs {
		all = append(all, n.Target.Name+" by "+s.Fields[n.Field].Name)
	}
	return strings.Join(all, ", ")
}

// DescribedBy is in words what says of which kinds the fields are.
func (s *Set) DescribedBy() string {
	if s.found {
		return "what its values are"
	}
	return "its layout"
}

// KeyWords is the key's fields in words.
func (s *Set) KeyWords() string {
	text := strings.Join(s.keyNames, " + ")
	if s.assigned {
		text += ", given by the service"
	}
	return text
}
