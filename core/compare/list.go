package compare

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/open"
	"paletwin/core/words"
)

// KeyList is a list of records by key, as a file gives it.
type KeyList struct {
	Name   string // the file's
	schema *schema.Schema
	keys   []record.Key
	row    map[record.Key]int // the first row that names the record, by its one key
	repeat []int              // the rows with a key that stood before
}

// NewKeyList returns an empty list. A layout, if there is one, says which keys
// name one record.
func NewKeyList(name string, s *schema.Schema) *KeyList {
	return &KeyList{Name: name, schema: s, row: map[record.Key]int{}}
}

// ReadKeyList reads a list of keys: a CSV file with a column for each key
// field, under its name or an alias of the layout, or, for a key of one field, a
// bare list with a key a line. A workbook may be one, too: FILE#SHEET names its sheet.
func ReadKeyList(name string, data []byte, key []string, known *layout.Layout) (*KeyList, error) {
	l := NewKeyList(name, known.Schema())
	if bytes.HasPrefix(data, []byte("PK\x03\x04")) {
		return l, l.readWorkbook(name, data, key, known)
	}
	if err := csv.CheckText(name, data, 0, len(data)); err != nil {
		return nil, err
	}
	if m, err := csv.Open(name, data); err == nil {
		known.Rename(m)
		if !slices.ContainsFunc(key, func(k string) bool { return m.Column(k) < 0 }) {
			return l, l.readTable(m, key)
		}
	} else if len(key) > 1 || len(data) == 0 {
		return nil, err
	}
	if len(key) > 1 {
		return nil, &Refusal{Code: NoKeyColumn, File: name, Text: fmt.Sprintf("%s needs the columns %s", name, strings.Join(key, " and "))}
	}
	for i, line := range strings.Split(strings.TrimPrefix(string(data), "\ufeff"), "\n") {
		if line = strings.TrimRight(line, "\r"); line != "" {
			l.add(record.NewKey(string(csv.Unquote([]byte(line)))), i+1)
		}
	}
	return l, nil
}

// readWorkbook reads a list that is a sheet of a workbook.
func (l *KeyList) readWorkbook(name string, data []byte, key []string, known *layout.Layout) error {
	file, sheet, _ := strings.Cut(name, "#")
	m, err := open.Open(file, data, table.Options{Sheet: sheet})
	if err != nil {
		return err
	}
	known.Rename(m)
	if slices.ContainsFunc(key, func(k string) bool { return m.Column(k) < 0 }) {
		return &Refusal{Code: NoKeyColumn, File: name, Text: fmt.Sprintf("%s needs a column called %s", name, strings.Join(key, " and one called "))}
	}
	return l.readTable(m, key)
}

func (l *KeyList) readTable(m *table.Image, key []string) error {
	cols, err := csv.KeyColumns(m, key)
	if err != nil {
		return err
	}
	return csv.Each(context.Background(), m, func(r *csv.Line) error {
		if k := r.Key(cols); !k.Blank() {
			l.add(k, r.Number())
		}
		return nil
	})
}

func (l *KeyList) add(k record.Key, row int) {
	one := l.schema.Key(k)
	if _, there := l.row[one]; there {
		l.repeat = append(l.repeat, row)
		return
	}
	l.row[one] = row
	l.keys = append(l.keys, k)
}

// Named gives a list a record by hand.
func (l *KeyList) Named(k record.Key) { l.add(k, 0) }

// Has reports whether a record is on the list, and Row on which row of it.
func (l *KeyList) Has(k record.Key) bool { _, ok := l.row[l.schema.Key(k)]; return ok }

func (l *KeyList) Row(k record.Key) int { return l.row[l.schema.Key(k)] }

// Keys are the records in the list's order; Repeats the rows of those that
// stood before.
func (l *KeyList) Keys() []record.Key { return l.keys }

func (l *KeyList) Repeats() []int { return l.repeat }

// Len returns the number of different keys.
func (l *KeyList) Len() int { return len(l.keys) }

// takeList marks the listed records. One that the copy amends is left to
// emit, which stops the amend.
func (p *pairs) takeList() {
	l := p.o.DeleteList
	found := map[record.Key]bool{}
	for i := range uint32(len(p.mate)) {
		k := p.snap.key(i)
		if !l.Has(k) {
			continue
		}
		found[l.schema.Key(k)] = true
		if p.mate[i] == mateNone {
			p.become(i, mateListed)
		}
	}
	for _, k := range l.keys {
		if !found[l.schema.Key(k)] && p.first == nil {
			f := changeset.ListedUnknown.Finding("%s is on the delete list and not in the snapshot", k)
			f.Key = k.String()
			p.findRows(f, l.Name, "", []int{l.Row(k)})
		}
	}
	if len(l.repeat) > 0 && p.first == nil {
		f := changeset.ListedRepeat.Finding("%s of the delete list name a record that stood before", words.Count(len(l.repeat), "row"))
		f.Count = len(l.repeat)
		p.findRows(f, l.Name, "", l.repeat)
	}
}

// takeKept marks the records that are not on the list of those to keep. Their deletes are held, if
// deletes were not asked for, or if there are so many that the list may be a part of it.
func (p *pairs) takeKept() {
	l := p.o.KeepList
	found := map[record.Key]bool{}
	for i := range uint32(len(p.mate)) {
		if k := p.snap.key(i); l.Has(k) {
			found[l.schema.Key(k)] = true
		} else {
			p.become(i, mateListed)
			p.missing++
		}
	}
	for _, k := range l.keys {
		if !found[l.schema.Key(k)] {
			f := changeset.KeepUnknown.Finding("%s is on the list of records to keep and not in the snapshot", k)
			f.Key = k.String()
			p.findRows(f, l.Name, "", []int{l.Row(k)})
		}
	}
	what := words.Count(p.missing, "record") + " of the snapshot are not on the list of those to keep"
	if p.missing == 1 {
		what = "1 record of the snapshot is not on the list of those to keep"
	}
	many := p.missing*tooManyMissing > p.inAll() && !p.o.AllMissing
	switch {
	case p.missing == 0:
		return
	case p.o.Missing != Asked:
		p.listHold = []string{changeset.Missing.Name}
		f := changeset.Missing.Finding("%s; the deletes are held", what)
		f.Count = p.missing
		p.find(f, l.Name, "")
	case many || len(found) < len(l.keys):
		p.listHold = []string{changeset.MissingMany.Name}
		p.res.DeletesHeld = what + "; the deletes are held, since not all keys of the list are known"
		if many {
			p.res.DeletesHeld = fmt.Sprintf("%s, more than one in %d; the deletes are held", what, tooManyMissing)
		}
		f := changeset.MissingMany.Finding("%s", p.res.DeletesHeld)
		f.Count = p.missing
		p.find(f, l.Name, "")
	}
}

// listed reports whether a record is on the delete list.
func (p *pairs) listed(k record.Key) bool {
	if p.o.DeleteList == nil {
		return false
	}
	return p.o.DeleteList.Has(k)
}
