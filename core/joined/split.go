// Package joined takes a sheet apart whose rows hold records of several record sets, and puts such
// a sheet together.
//
// A record that stands on many rows is edited where all its rows say so. What only some say is
// a disagreement, which a person decides on. In a row that was given another record, what is left of
// the old one is no edit of the new one.
package joined

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// Set is a record set as it was before the sheet was edited.
type Set struct {
	Name     string
	Snapshot *table.Image
	Layout   *layout.Layout  // or nil
	Program  compare.Program // what is known of the program that saved the sheet
	Stay     bool            // what the sheet lacks stays, and is no deletion
}

// Split is what a sheet has of one record set.
type Split struct {
	Image     *table.Image // a row a record
	Disagreed []Disagreement
	Moved     []Move
	Added     []record.Key        // of records that the snapshot does not have
	Names     map[string][]string // of new records of other sets, the values that name them, by the fields that hold these
	Records   int                 // on the sheet
	Notes     []changeset.Finding // of columns

	disagreed map[unit]bool
	moved     map[record.Key]Move // the new keys, and the old, as the schema has them
	named     map[string][]string // new keys of records of other sets, by the fields that name these
	of        *schema.Schema
	set       *setOf
	mu        sync.Mutex // of the snapshot's records, while they are looked for
}

// Disagreement is a field of a record of which its rows do not say one thing.
type Disagreement struct {
	Key    record.Key
	Field  string
	Column string   // its heading
	Values []Spoken // the most frequent first
	Taken  string   // of them, the value that is proposed
	// Left says that the rows were given another record, and that the value may be what was left of
	// the one before.
	Left bool
}

// Spoken is what some rows say.
type Spoken struct {
	Value record.Value
	Rows  []int // the first of them
	Count int
	Was   bool // it is what the snapshot has
}

// Move is a record all of whose rows were given one key that no record has.
type Move struct {
	From, To record.Key
	Along    bool // no more was changed of its key than the key of what it names
}

type unit struct {
	key   record.Key
	field string
}

// Held gives the codes that hold a change of the set, of its fields by their names; "" is the whole
// change.
func (s *Split) Held(ch *changeset.Change) (whole []string, fields map[string][]string) {
	k := s.of.Key(ch.Key)
	if _, moved := s.moved[k]; moved && ch.Act != changeset.Amend {
		whole = append(whole, changeset.KeyEdited.Name)
	}
	if ch.Act != changeset.Amend {
		if slices.ContainsFunc(ch.Record, func(f record.Field) bool { return s.disagreed[unit{k, f.Name}] }) {
			whole = append(whole, changeset.PartsDisagree.Name)
		}
		return whole, nil
	}
	for i := range ch.Fields {
		f := &ch.Fields[i]
		var codes []string
		if s.disagreed[unit{k, f.Field}] {
			codes = append(codes, changeset.PartsDisagree.Name)
		}
		if slices.ContainsFunc(s.named[f.Field], func(to string) bool { return s.of.Equal(f.Field, record.Text(to), f.To) }) {
			codes = append(codes, changeset.KeyEdited.Name)
		}
		if codes == nil {
			continue
		}
		if fields == nil {
			fields = map[string][]string{}
		}
		fields[f.Field] = codes
	}
	return whole, fields
}

// Complete gives a record that gets another key what the sheet does not have of it: it is not a new one, and
// loses nothing. It may be called on several goroutines.
func (s *Split) Complete(ch *changeset.Change) {
	if ch.Act != changeset.Add {
		return
	}
	if m, moved := s.moved[s.of.Key(ch.Key)]; moved {
		ch.Was = m.From
	}
	if len(ch.Was.Parts()) == 0 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	n, known := s.set.known.find([]byte(ch.Was.Encoding()))
	if !known {
		return
	}
	for _, h := range s.set.Snapshot.Heading {
		if slices.Contains(s.set.fields, h) {
			continue
		}
		if v, there := s.set.wasValue(n, h); there {
			ch.Record.Set(h, v)
		}
	}
}

// Link names what a change goes along with: the key change that it is a half of; "" is none.
func (s *Split) Link(ch *changeset.Change) string {
	if m, moved := s.moved[s.of.Key(ch.Key)]; moved && ch.Act != changeset.Amend {
		return "key " + m.From.String()
	}
	return ""
}

// Of takes a sheet apart. sets are the record sets of the layout's parts, by their names; the sheet's
// columns are known by the headings that the layout gives them, in whatever case. Errors are
// *table.Error and that of ctx.
func Of(ctx context.Context, j *layout.Joined, sheet *table.Image, sets map[string]*Set) (map[string]*Split, error) {
	x := &splitter{j: j, sheet: sheet, refs: j.References()}
	if err := x.columns(sets); err != nil {
		return nil, err
	}
	var g errgroup.Group
	g.Go(func() (err error) {
		x.cells, err = readCells(ctx, sheet)
		return err
	})
	for _, s := range x.sets {
		g.Go(func() (err error) {
			s.known, err = readRows(ctx, s.Snapshot, s.key, s.Schema)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for _, s := range x.sets {
		g.Go(func() error { return table.Guard(func() error { return s.gather(ctx) }) })
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	all := make(map[string]*Split, len(x.sets))
	made := make([]*Split, len(x.sets))
	for _, s := range x.sets {
		g.Go(func() error { return s.pair(ctx) })
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	if err := table.Guard(x.changedReferences); err != nil {
		return nil, err
	}
	for _, s := range x.sets {
		s.out = &Split{set: s, disagreed: map[unit]bool{}, moved: map[record.Key]Move{}, of: s.Schema}
		g.Go(func() error { return table.Guard(func() error { s.move(); return nil }) })
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	if err := table.Guard(func() error { x.followAll(); return nil }); err != nil {
		return nil, err
	}
	for i, s := range x.sets {
		g.Go(func() error {
			return table.Guard(func() (err error) {
				made[i], err = s.split(ctx)
				return err
			})
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for i, s := range x.sets {
		made[i].Notes, made[i].Added, made[i].Records = x.notes[s.Name], s.added(), len(s.groups)
		all[s.Name] = made[i]
	}
	x.nameMoved(all)
	x.nameAdded(all)
	return all, nil
}

// added lists the keys of records that the snapshot does not have.
func (s *setOf) added() (all []record.Key) {
	for i := range s.groups {
		if g := &s.groups[i]; !g.bad && (g.known < 0 || g.moved) {
			all = append(all, s.keyOf(g))
		}
	}
	return all
}

// nameAdded says of the sets whose fields name new records which these are.
func (x *splitter) nameAdded(all map[string]*Split) {
	for _, ref := range x.refs {
		from := all[x.parts[ref.From].Set]
		for _, k := range all[x.parts[ref.To].Set].Added {
			for i, f := range ref.Fields {
				if from.Names == nil {
					from.Names = map[string][]string{}
				}
				from.Names[f] = append(from.Names[f], k.Parts()[i])
			}
		}
	}
}

// nameMoved says of the sets whose fields name records that got other keys which these are.
func (x *splitter) nameMoved(all map[string]*Split) {
	for _, ref := range x.refs {
		from := all[x.parts[ref.From].Set]
		for _, m := range all[x.parts[ref.To].Set].Moved {
			was, is := m.From.Parts(), m.To.Parts()
			for i, f := range ref.Fields {
				if was[i] == is[i] {
					continue
				}
				if from.named == nil {
					from.named = map[string][]string{}
				}
				from.named[f] = append(from.named[f], is[i])
			}
		}
	}
}

// splitter is a sheet that is taken apart.
type splitter struct {
	j     *layout.Joined
	sheet *table.Image
	refs  []layout.Reference
	sets  []*setOf
	parts []*partOf
	notes map[string][]changeset.Finding
	cells *cells // of the sheet
}

// partOf is a part of the layout on this sheet.
type partOf struct {
	*layout.Part
	at      int // its number
	set     *setOf
	key     []int // columns of the sheet
	cols    []int // columns of the sheet by the set's fields; -1 is none
	group   []int32
	strange map[int32][]record.Key // rows that were given another record, and which they may have named before
	unborn  map[int32]bool         // rows whose own record, which names this one, is new
}

// columns finds the sheet's columns, and what of them belongs to whom.
func (x *splitter) columns(sets map[string]*Set) error {
	x.notes = map[string][]changeset.Finding{}
	m := x.sheet
	byForm, twice := map[string]int{}, map[string]bool{}
	for i, h := range m.Heading {
		if form := layout.HeadingForm(h); byForm[form] == 0 && form != layout.HeadingForm(m.Heading[0]) || i == 0 {
			byForm[form] = i
		} else {
			twice[form] = true
		}
	}
	used := make([]bool, len(m.Heading))
	named := map[string]*setOf{}
	for i := range x.j.Parts {
		p := &partOf{Part: &x.j.Parts[i], at: i, strange: map[int32][]record.Key{}, unborn: map[int32]bool{}}
		s := named[p.Set]
		if s == nil {
			s = &setOf{Set: sets[p.Set], Schema: sets[p.Set].Layout.Schema(), x: x, listed: p.Name == x.j.List}
			named[p.Set], x.sets = s, append(x.sets, s)
		}
		p.set = s
		s.parts, x.parts = append(s.parts, p), append(x.parts, p)
		for _, c := range p.Columns {
			col, there := byForm[layout.HeadingForm(c.Heading)]
			key := slices.Contains(p.Key, c.Field)
			switch {
			case twice[layout.HeadingForm(c.Heading)]:
				return &table.Error{Code: table.TwiceHeading, File: m.Name, Row: m.HeadingRow, Text: fmt.Sprintf("two columns are called %q, and one of them is the %s of %s", c.Heading, c.Field, p.Name)}
			case there:
				used[col] = true
			case key:
				return &table.Error{Code: NoPartKey, File: m.Name, Row: m.HeadingRow, Text: fmt.Sprintf("there is no column %q, which the layout of %s says has the key of %s", c.Heading, x.j.Name, p.Name)}
			default:
				f := changeset.ColumnAbsent.Finding("the sheet has no column %q; that field of %s is left untouched", c.Heading, p.Name)
				f.File, f.Column = m.Name, c.Heading
				x.notes[s.Name] = append(x.notes[s.Name], f)
				continue
			}
			s.takeField(p, c.Field, col, key)
		}
	}
	first := x.sets[0]
	if p := slices.IndexFunc(x.parts, func(p *partOf) bool { return p.Name == x.j.List }); p >= 0 {
		first = x.parts[p].set
	}
	for i, h := range m.Heading {
		if used[i] || h == "" || slices.ContainsFunc(x.j.Ignore, func(g string) bool { return layout.HeadingForm(g) == layout.HeadingForm(h) }) {
			continue
		}
		f := changeset.ColumnExtra.Finding("column %q is none that the layout of %s speaks of, and is ignored", h, x.j.Name)
		f.File, f.Column = m.Name, h
		x.notes[first.Name] = append(x.notes[first.Name], f)
	}
	for _, s := range x.sets {
		s.complete()
	}
	return nil
}

// NoPartKey says that a joined sheet lacks the key of one of its parts.
const NoPartKey table.Code = "no-part-key"

// setOf is a record set on this sheet.
type setOf struct {
	*Set
	Schema *schema.Schema
	x      *splitter
	parts  []*partOf
	listed bool            // its rows are records
	key    []string        // the key's fields
	fields []string        // that the sheet has, the key's first
	known  *rows           // the snapshot's records
	groups []group         // the sheet's records, in its order
	said   []spot          // what the fields of each of these are said to be, one behind the other
	byKey  *keys           // the sheet's records; of a listed set nil
	at     map[int32]int32 // the sheet's records by the snapshot's
	out    *Split
}

// spot is a cell of the sheet: its row, and the part by which it is the record's; -1 is none.
type spot struct{ row, part int32 }

var unsaid = spot{-1, -1}

// group is one record on the sheet.
type group struct {
	row   int32 // where it stands first
	part  int32 // as which part
	known int32 // the snapshot's record; -1 is none
	bad   bool  // it lacks a part of its key
	moved bool  // all rows of a record were given this key, and known is that record
}

func (s *setOf) takeField(p *partOf, field string, col int, key bool) {
	if s.key == nil {
		s.key = p.Key
		s.fields = slices.Clone(p.Key)
	}
	if !key && !slices.Contains(s.fields, field) {
		s.fields = append(s.fields, field)
	}
	for len(p.cols) < len(s.fields) {
		p.cols = append(p.cols, -1)
	}
	p.cols[slices.Index(s.fields, field)] = col
}

// complete ends the reading of the headings.
func (s *setOf) complete() {
	for _, p := range s.parts {
		for len(p.cols) < len(s.fields) {
			p.cols = append(p.cols, -1)
		}
		p.key = p.cols[:len(s.key)]
	}
}

// cell is what a field of one of the sheet's records is said to be, as it stands there; nil is not said.
func (s *setOf) cell(g int32, f int) []byte {
	at := s.said[int(g)*len(s.fields)+f]
	if at.row < 0 {
		return nil
	}
	return s.x.cells.cell(at.row, s.parts[at.part].cols[f])
}

func (s *setOf) say(g int32, f int, at spot) { s.said[int(g)*len(s.fields)+f] = at }

// gather finds which records of the set each row holds.
func (s *setOf) gather(ctx context.Context) error {
	n := s.x.cells.len()
	if !s.listed {
		s.byKey = newKeys(s.Schema, 0)
	}
	for _, p := range s.parts {
		p.group = make([]int32, n)
	}
	var key, last []byte
	same := int32(-1) // the record with the key last
	for i := range int32(n) {
		if i&0xfff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		for k, p := range s.parts {
			p.group[i] = -1
			if p.nothing(s.x.cells, i) {
				continue
			}
			key = s.x.cells.appendKey(key[:0], i, p.key)
			if same < 0 || s.listed || !bytes.Equal(key, last) {
				same = s.groupOf(spot{i, int32(k)}, key)
				last = append(last[:0], key...)
			}
			p.group[i] = same
			if s.groups[same].bad {
				same = -1
			}
		}
	}
	return nil
}

// pair finds records whose keys a program changed, where more than a few are not known.
func (s *setOf) pair(ctx context.Context) error {
	const few = 100
	unknown := 0
	for i := range s.groups {
		if g := &s.groups[i]; g.known < 0 && !g.bad {
			unknown++
		}
	}
	if unknown == 0 || unknown*few < len(s.groups) {
		return nil
	}
	img, err := s.table(func(g int32, f int) []byte { // as they stand first
		at := &s.groups[g]
		return s.x.cells.cell(at.row, s.parts[at.part].cols[f])
	})
	if err != nil {
		return err
	}
	img.Part = true
	found, err := compare.Pairs(ctx, s.Snapshot, img, compare.Options{RecordSet: s.Name, Key: s.key, Layout: s.Layout, OtherRegister: true, Program: s.Program})
	var refused *compare.Refusal
	if errors.As(err, &refused) || err == nil && len(found) != len(s.groups) {
		return nil // the comparison says why
	}
	if err != nil {
		return err
	}
	for i := range s.groups {
		if g := &s.groups[i]; g.known < 0 {
			g.known = found[i]
		}
	}
	return nil
}

// on is where one of the snapshot's records stands on the sheet.
func (s *setOf) on(known int32) (group int32, there bool) {
	if s.at == nil {
		s.at = make(map[int32]int32, len(s.groups))
		for i := range s.groups {
			if k := s.groups[i].known; k >= 0 {
				s.at[k] = int32(i)
			}
		}
	}
	group, there = s.at[known]
	return group, there
}

// groupOf is the record that a key names, a new one if no row before had it.
func (s *setOf) groupOf(at spot, key []byte) int32 {
	g := group{row: at.row, part: at.part, bad: blankKey(key), known: -1}
	n := int32(len(s.groups))
	if !g.bad {
		if !s.listed {
			if was := s.byKey.put(key, n); was != n {
				return was
			}
		}
		if k, there := s.known.find(key); there {
			g.known = k
		}
	}
	s.groups = append(s.groups, g)
	return n
}

// nothing reports whether a row has no record of the part.
func (p *partOf) nothing(c *cells, row int32) bool {
	for _, col := range p.cols {
		if col >= 0 && len(csv.Unquote(c.cell(row, col))) > 0 {
			return false
		}
	}
	return true
}

// same reports whether two cells hold one value of a field.
func (s *setOf) same(field string, a, b []byte) bool {
	return bytes.Equal(a, b) || s.Schema.Equal(field, s.x.cells.value(a), s.x.cells.value(b))
}
