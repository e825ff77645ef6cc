package sqldb

import (
	"slices"
	"strconv"
	"strings"
)

// definition is what the catalogue says of a table.
type definition struct {
	schema, table string // as they are written there
	kind          string // "table", or what else it is: "view", "foreign table"
	columns       []column
	keys          [][]string // those that no two records share and that are never null, the primary one first
	triggers      []string
	refers        []reference // of other tables to this one, once they were looked up
	looked        bool        // they were
	id            string      // of PostgreSQL: the catalogue's number
	readOnly      string      // in words: why it is only taken; "" where it can be written
	size          int64       // in bytes, about, or at most; 0 is unknown
	notes         []string    // what is said before it is written
}

// column is one of a table's.
type column struct {
	name      string
	typ       string // as the database writes it
	cast      string // the type's name as an expression has it
	bytes     bool   // its values are bytes, whose text is hex digits
	nullable  bool
	generated bool     // the database computes it
	identity  string   // "always" or "by default": the database counts it up
	filled    bool     // it has a default
	single    bool     // its numbers are of single precision, and read in double
	declared  string   // of a key column: its type as a declaration has it, where one is needed
	keeps     int64    // a text of at most so many bytes is kept as it is written, unless by a trigger
	affinity  affinity // of SQLite
	sorted    bool     // of SQLite, of a key column: its values are texts, in whose order they stand in an index
	kept      string   // of PostgreSQL, of a table of a pair: the numbers of its type and its collation
	sound     bool     // of such a one: two of its values are equal where their bytes are, and no others
	text      string   // an expression of the value's exact text, "" of itself
}

// reference is a foreign key of another table's, or of the same one's.
type reference struct {
	name     string
	schema   string
	table    string
	columns  []string
	to       []string
	onDelete action
	onUpdate action
}

// action is what a foreign key does to the records that refer.
type action string

const (
	restrict   action = "restrict"
	cascade    action = "cascade"
	setNull    action = "set null"
	setDefault action = "set default"
)

// actionOf reads a rule's words.
func actionOf(words string) action {
	switch a := action(strings.ToLower(words)); a {
	case cascade, setNull, setDefault:
		return a
	}
	return restrict
}

// number reads a size of the catalogue's; 0 is none.
func number(text string) int64 {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0
	}
	return n
}

// column returns a column's place, or -1.
func (d *definition) column(name string) int {
	return slices.IndexFunc(d.columns, func(c column) bool { return c.name == name })
}

// isKey reports whether no two records share the values of some columns, and none
// of them is null.
func (d *definition) isKey(columns []string) bool {
	for _, k := range d.keys {
		if len(k) == len(columns) && !slices.ContainsFunc(k, func(c string) bool { return !slices.Contains(columns, c) }) {
			return true
		}
	}
	return false
}
