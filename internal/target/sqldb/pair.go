package sqldb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table/csv"
)

// Pair are two tables that are compared where they are: what both have byte for byte alike stays there. It is
// only a sieve. Rows that it takes for different may be equal by the schema, and of two that it does not see
// belong together both are given; but it never takes for alike what differs in one byte of its exact text.
type Pair struct {
	a, b   *Table
	mate   []int   // for each of a's columns b's, or -1
	forms  bool    // keys that are not written alike may be one
	same   bool    // their rows have the same columns
	inside bool    // the database joins them
	state  string  // of PostgreSQL: by what another connection sees the same state
	known  *known  // what is known beside, or nil
	shards []*Pair // of tables on several servers: of every two parts that lie together
	why    string  // these do not, in words
}

// Apart is what two tables have that is not alike, in numbers.
type Apart struct {
	Records [2]int // of each table
	Alike   int    // that both have
	Inside  bool   // the database joined them; else both were read side by side
	Servers int    // that joined their parts; 0 where it is one
	Digests bool   // digests of rows travelled first
	Why     string // in words, why servers that might have joined them did not
}

// ErrOrder says that a table does not give its records in the order of the bytes of their keys.
var ErrOrder = errors.New("the records do not come in the order of their keys")

// NewPair makes a pair of two tables that are open, with their keys. Reason is why they have to be read whole, in words;
// "" is nothing.
func NewPair(ctx context.Context, a, b *Table) (p *Pair, reason string, err error) {
	p = &Pair{a: a, b: b, mate: layout.MatchColumns(a.fields, b.fields).Column}
	if len(a.key) == 0 { // a snapshot may have been made without its key
		for _, k := range b.key {
			a.key = append(a.key, slices.Index(p.mate, k))
		}
		if len(a.key) == 0 || slices.Contains(a.key, -1) {
			return nil, "the key is not known", nil
		}
		a.setKey(a.key)
	}
	for _, k := range a.key {
		if p.mate[k] < 0 {
			return nil, fmt.Sprintf("%s has no column %s", b.Name(), a.fields[k]), nil
		}
	}
	p.same = len(a.fields) == len(b.fields)
	for i, k := range p.mate {
		p.same = p.same && i == k
	}
	var key []int
	for _, k := range a.key {
		key = append(key, p.mate[k])
	}
	b.setKey(key)
	of := a.o.Of
	p.forms = !of.OneForm() && (of.KeyForm.Prefix > 0 || !a.canonicalKey() || !b.canonicalKey())
	switch {
	case a.over != nil && b.over != nil && p.forms:
		p.why = "keys that are not written alike may be one"
	case a.over != nil && b.over != nil:
		p.why, err = p.together(ctx)
	case a.over != nil || b.over != nil:
		p.why = "one stands on several servers and the other does not"
	case a.shares(b) && a.keyHolds() && b.keyHolds():
		if err = a.connected(ctx); err == nil {
			p.inside, err = a.e.joins(ctx, a.s, p)
		}
	}
	if err != nil {
		return nil, "", a.said(err)
	}
	return p, "", nil
}

// Names are what the tables are called, and Key is the first one's key.
func (p *Pair) Names() [2]string { return [2]string{p.a.Name(), p.b.Name()} }
func (p *Pair) Key() []string    { return p.a.Key() }

// setKey says which columns identify a record.
func (t *Table) setKey(key []int) {
	t.key, t.o.Key = key, nil
	for _, k := range key {
		t.o.Key = append(t.o.Key, t.fields[k])
	}
	if t.over != nil {
		for _, x := range t.over.shards {
			x.setKey(key)
		}
	}
}

// shares reports whether both tables can be named in one statement.
func (t *Table) shares(o *Table) bool {
	return t.at.Scheme == o.at.Scheme && t.Database() == o.Database()
}

// keyHolds reports whether the database keeps two records from having one key.
func (t *Table) keyHolds() bool {
	var key []string
	for _, k := range t.key {
		key = append(key, t.cols[k].name)
	}
	return t.def.isKey(key)
}

// canonicalKey reports whether every value of the key has one text alone, and every text is of one value.
func (t *Table) canonicalKey() bool {
	return !slices.ContainsFunc(t.keyColumns(), func(c *column) bool { return !t.e.canonical(c) })
}

// connected connects where there is no connection.
func (t *Table) connected(ctx context.Context) error {
	if t.s != nil {
		return nil
	}
	return t.connect(ctx)
}

// Begin begins to look at one state of each table, or of both where it is one database.
func (p *Pair) Begin(ctx context.Context) error {
	if p.shards != nil {
		var g errgroup.Group
		for _, one := range p.shards {
			g.Go(func() error { return one.Begin(ctx) })
		}
		return g.Wait()
	}
	begun := []*Table{p.a, p.b}
	if p.inside {
		begun = begun[:1]
	}
	for _, t := range begun {
		if err := t.eachTable(func(t *Table) error { return t.look(ctx) }); err != nil {
			return err
		}
	}
	if state := p.a.e.exported(); p.inside && state != "" {
		row, _, err := one(ctx, p.a.s, state)
		if err != nil {
			return p.a.said(err)
		}
		p.state = row[0]
	}
	return nil
}

// look begins a transaction that sees one state, and goes on until the table is closed.
func (t *Table) look(ctx context.Context) error {
	if err := t.connected(ctx); err != nil {
		return t.said(err)
	}
	if err := run(ctx, t.s, slices.Concat(t.e.snapshot(), t.e.longer())...); err != nil {
		return t.said(err)
	}
	t.looks = true
	_, _, err := one(ctx, t.s, "SELECT 1 FROM "+t.table()+" LIMIT 1") // now the state is fixed
	return t.said(err)
}

// Close ends the look, and lets both tables go.
func (p *Pair) Close() error { return errors.Join(p.a.Close(), p.b.Close()) }

// Write writes the rows that are not alike, of each table in the order of its keys, as CSV with a heading.
func (p *Pair) Write(ctx context.Context, a, b io.Writer) (*Apart, error) {
	if p.shards != nil {
		return p.writeShards(ctx, a, b)
	}
	outA, outB := newCells(a), newCells(b)
	if _, err := outA.out.Write(p.a.heading()); err != nil {
		return nil, err
	}
	if _, err := outB.out.Write(p.b.heading()); err != nil {
		return nil, err
	}
	r := &Apart{Inside: p.inside, Why: p.why}
	var err error
	if p.inside {
		err = p.writeInside(ctx, r, outA, outB)
	} else {
		err = p.writeBeside(ctx, r, outA, outB)
	}
	if err != nil {
		return nil, err
	}
	rowsA, err := outA.close(nil)
	rowsB, errB := outB.close(nil)
	if err = errors.Join(err, errB); err != nil {
		return nil, err
	}
	if r.Alike = r.Records[0] - int(rowsA); r.Alike < 0 || r.Alike != r.Records[1]-int(rowsB) {
		return nil, fmt.Errorf("%s and %s: the database counts %d and %d records, of which %d and %d differ, and does not add up", p.a.Name(), p.b.Name(), r.Records[0], r.Records[1], rowsA, rowsB)
	}
	return r, nil
}

// writeInside has the database join the tables.
func (p *Pair) writeInside(ctx context.Context, r *Apart, outA, outB *cells) error {
	g, joining := errgroup.WithContext(ctx)
	g.Go(func() (err error) {
		p.known, err = p.a.e.meanwhile(joining, p)
		return err
	})
	g.Go(func() error { return p.join(joining, outA, outB) })
	if err := g.Wait(); err != nil {
		return p.a.said(err)
	}
	if p.forms {
		for _, t := range []*Table{p.a, p.b} {
			if err := t.oneEach(ctx, p.a.s); err != nil {
				return err
			}
		}
	}
	if p.known != nil {
		r.Records = p.known.records
		return nil
	}
	for i, t := range []*Table{p.a, p.b} {
		row, _, err := one(ctx, p.a.s, "SELECT count(*) FROM "+t.table())
		if err != nil {
			return p.a.said(err)
		}
		r.Records[i] = int(number(row[0]))
	}
	return nil
}

// join has the database join the tables, and writes what differs.
func (p *Pair) join(ctx context.Context, outA, outB *cells) error {
	here := &column{affinity: asNumber}
	of := slices.Concat([]*column{here, here}, p.a.cols, p.b.cols)
	n := 2 + len(p.a.cols)
	return p.a.s.query(ctx, p.a.e.differing(p), of, nil, func(cells []record.Value) error {
		if cells[0].String() == "1" {
			if err := outA.row(cells[2:n], p.a.cols); err != nil {
				return err
			}
		}
		if cells[1].String() == "1" {
			return outB.row(cells[n:n+len(p.b.cols)], p.b.cols)
		}
		return nil
	})
}

// Sums adds up fields of the first table, exactly.
func (p *Pair) Sums(ctx context.Context, fields []string) ([]compare.Sum, error) {
	all := make([]compare.Sum, len(fields))
	for i, f := range fields {
		at := slices.Index(p.a.fields, f)
		if at < 0 {
			return nil, fmt.Errorf("%s has no column %q", p.a.Name(), f)
		}
		pairs := p.shards
		if pairs == nil {
			pairs = []*Pair{p}
		}
		if codes(pairs, at) {
			all[i].AddOther()
			continue
		}
		for _, one := range pairs {
			if err := one.sum(ctx, at, &all[i]); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

// codes reports whether all that a column has on all servers is as long: numbers of things, which nobody adds up.
func codes(pairs []*Pair, at int) bool {
	width := 0
	for _, one := range pairs {
		if one.known == nil || one.known.width[at] == 0 || width > 0 && width != one.known.width[at] {
			return false
		}
		width = one.known.width[at]
	}
	return true
}

// sum adds a column of the first table to a sum.
func (p *Pair) sum(ctx context.Context, at int, to *compare.Sum) error {
	if p.known != nil && p.known.there[at] {
		to.Merge(&p.known.sums[at])
		return nil
	}
	var own compare.Sum
	if err := p.a.e.sum(ctx, p.a, p.a.cols[at], &own); err != nil {
		return p.a.said(err)
	}
	to.Merge(&own)
	return nil
}

// Values gives see all texts of one of the second table's columns that are not null.
func (p *Pair) Values(ctx context.Context, column int, see func(text []byte)) error {
	for _, one := range p.shards {
		if err := one.Values(ctx, column, see); err != nil {
			return err
		}
	}
	if p.shards != nil {
		return nil
	}
	return p.b.eachTable(func(t *Table) error {
		s := t.s
		if p.inside {
			s = p.a.s
		}
		return t.said(t.columnTexts(ctx, s, t.cols[column], see))
	})
}

// columnTexts reads a column's exact texts.
func (t *Table) columnTexts(ctx context.Context, s session, c *column, see func(text []byte)) error {
	sql := "SELECT " + t.exactly(c) + " FROM " + t.table() + " WHERE " + t.e.ident(c.name) + " IS NOT NULL"
	return s.query(ctx, sql, []*column{c}, nil, func(cells []record.Value) error {
		see([]byte(cells[0].String()))
		return nil
	})
}

// sumTexts adds up a column's texts, one by one.
func sumTexts(ctx context.Context, t *Table, c *column, sum *compare.Sum) error {
	return t.columnTexts(ctx, t.s, c, sum.Add)
}

// heading is the first line of what is taken.
func (t *Table) heading() []byte {
	var line []byte
	for i, c := range t.cols {
		if i > 0 {
			line = append(line, ',')
		}
		line = csv.AppendCell(line, c.name, ',', c.name == "" || strings.TrimSpace(c.name) != c.name)
	}
	return append(line, '\n')
}

// on writes a condition for every part of the key.
func (p *Pair) on(condition func(a, b *column) string) string {
	var all []string
	for i, k := range p.a.key {
		all = append(all, condition(p.a.cols[k], p.b.cols[p.b.key[i]]))
	}
	return strings.Join(all, " AND ")
}

// sharedColumns are the places of the columns that both tables have, in the order of the first.
func (p *Pair) sharedColumns() (a, b []int) {
	for i, k := range p.mate {
		if k >= 0 {
			a, b = append(a, i), append(b, k)
		}
	}
	return a, b
}

// shared gives each the columns that both have, as pairs.
func (p *Pair) shared(each func(a, b *column)) {
	a, b := p.sharedColumns()
	for i := range a {
		each(p.a.cols[a[i]], p.b.cols[b[i]])
	}
}
