package sqldb

import (
	"context"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"paletwin/core/compare"
)

// This file is what each engine can do with two tables where they are.

// pairs are what an engine does with two tables.
type pairs interface {
	// joins reports whether it can join the tables of a pair, whose keys are held, inside.
	joins(ctx context.Context, s session, p *Pair) (bool, error)
	// differing is the query that joins them. Its rows are those that are not alike: whether the first table has
	// it and whether the second does (1), the cells of both tables, in the order of the keys' texts in bytes.
	differing(p *Pair) string
	// canonical reports whether every value of a column has one text, which no other way of writing it is.
	canonical(c *column) bool
	// longer is what keeps a snapshot's transaction alive while nothing is asked in it.
	longer() []string
	// exported is the query that gives what another connection sees the same state by; "" is none.
	exported() string
	// meanwhile finds out more of a pair while it is joined, on a connection of its own that sees the same state; nil
	// is nothing.
	meanwhile(ctx context.Context, p *Pair) (*known, error)
	// digest is an expression of a row's digest in some columns; "" is none.
	digest(t *Table, cols []*column) string
	// sum adds up a column's numbers.
	sum(ctx context.Context, t *Table, c *column, sum *compare.Sum) error
}

// pgFaithful are types of which two values are equal where their texts are, and no others. Of numbers with decimals 1.0 and 1.00 are
// equal; where all have as many decimals none are written in two ways.
var pgFaithful = []string{"int2", "int4", "int8", "oid", "uuid", "bool", "date", "timestamp", "timestamptz", "time", "text", "varchar", "bytea"}

// faithful reports whether two columns' values are equal where their texts are, and no others.
func (q postgres) faithful(a, b *column) bool {
	return a.sound && b.sound && a.kept == b.kept && (q.typ(a) != "numeric" || a.typ == b.typ)
}

// joins looks which columns are of one type, so that their bytes can be compared as they are kept.
func (q postgres) joins(ctx context.Context, s session, p *Pair) (bool, error) {
	for _, t := range []*Table{p.a, p.b} {
		rows, err := all(ctx, s, `SELECT a.attname, a.atttypid, a.attcollation, COALESCE(c.collisdeterministic, true)
			FROM pg_attribute a LEFT JOIN pg_collation c ON c.oid = a.attcollation
			WHERE a.attrelid = $1::text::oid AND a.attnum > 0 AND NOT a.attisdropped`, plain(t.def.id)...)
		if err != nil {
			return false, err
		}
		for _, r := range rows {
			if i := t.def.column(r[0]); i >= 0 {
				c := &t.def.columns[i]
				c.kept = strings.Join(r[1:3], " ")
				c.sound = r[3] == "t" && (slices.Contains(pgFaithful, q.typ(c)) || q.typ(c) == "numeric" && strings.Contains(c.typ, ","))
			}
		}
	}
	return true, nil
}

// differing compares values where equal ones have equal texts, which costs least; else what is kept, byte for byte, where both
// columns are of one type: equal bytes have equal texts; else texts. The join is by values, so that an index serves, or by texts.
func (q postgres) differing(p *Pair) string {
	side := func(t *Table) string {
		cols := []string{"1 AS z"}
		for i, c := range t.cols {
			cols = append(cols, fmt.Sprintf("%s AS c%d", q.ident(c.name), i))
		}
		return "(SELECT " + strings.Join(cols, ", ") + " FROM " + t.table() + ")"
	}
	raw := func(name string, t *Table, c *column) string {
		return fmt.Sprintf("%s.c%d", name, slices.Index(t.cols, c))
	}
	text := func(name string, t *Table, c *column) string { return "(" + raw(name, t, c) + `)::text COLLATE "C"` }
	on := p.on(func(a, b *column) string {
		if q.faithful(a, b) {
			return raw("a", p.a, a) + " = " + raw("b", p.b, b)
		}
		return text("a", p.a, a) + " = " + text("b", p.b, b)
	})
	var as, bs, differ []string
	p.shared(func(a, b *column) {
		if q.faithful(a, b) {
			differ = append(differ, raw("a", p.a, a)+" IS DISTINCT FROM "+raw("b", p.b, b))
			return
		}
		if a.kept != "" && strings.Fields(a.kept)[0] == strings.Fields(b.kept)[0] {
			as, bs = append(as, raw("a", p.a, a)), append(bs, raw("b", p.b, b))
			return
		}
		differ = append(differ, text("a", p.a, a)+" IS DISTINCT FROM "+text("b", p.b, b))
	})
	if len(as) > 0 {
		differ = append(differ, fmt.Sprintf("ROW(%s)::record *<> ROW(%s)::record", strings.Join(as, ", "), strings.Join(bs, ", ")))
	}
	var cells, order []string
	for _, t := range []*Table{p.a, p.b} {
		name := map[*Table]string{p.a: "a", p.b: "b"}[t]
		for _, c := range t.cols {
			cell := raw(name, t, c)
			if c.text != "" {
				cell = strings.ReplaceAll(c.text, q.ident(c.name), cell)
			}
			cells = append(cells, cell)
		}
	}
	for i, k := range p.a.key {
		order = append(order, fmt.Sprintf("COALESCE(%s, %s)", text("a", p.a, p.a.cols[k]), text("b", p.b, p.b.cols[p.b.key[i]])))
	}
	return fmt.Sprintf("SELECT a.z, b.z, %s FROM %s AS a FULL JOIN %s AS b ON %s WHERE a.z IS NULL OR b.z IS NULL OR %s ORDER BY %s",
		strings.Join(cells, ", "), side(p.a), side(p.b), on, strings.Join(differ, " OR "), strings.Join(order, ", "))
}

func (q postgres) canonical(c *column) bool {
	return slices.Contains([]string{"int2", "int4", "int8", "oid", "uuid", "bool", "date"}, q.typ(c))
}

// longer lets hash tables be as large as a laptop likes, too: they are on the disk otherwise. Where the records lie in the order of
// their keys, both tables are gone through in step instead, in little memory; that pages lie on disks that turn, as the planner
// takes for granted, costs twice the time.
func (postgres) longer() []string {
	return []string{"SET LOCAL idle_in_transaction_session_timeout = 0", "SET LOCAL work_mem = '64MB'", "SET LOCAL random_page_cost = 1.1"}
}

// known is what is known of a pair beside what differs.
type known struct {
	records [2]int
	sums    []compare.Sum // of the first table's columns
	there   []bool        // whether they are
	width   []int         // of columns that have numbers of things, if they have numbers: how long all of them are; else 0
}

// addScale adds what a database says of the numbers of one scale: the scale, their sum, the shortest and the
// longest of them. A scale below 0 is that of what is no number.
func addScale(sum *compare.Sum, row []string) error {
	s := int(number(row[0]))
	if row[0] == "-1" {
		sum.AddOther()
		return nil
	}
	whole, decimals, _ := strings.Cut(row[1], ".")
	total, ok := new(big.Int).SetString(whole+decimals, 10)
	if !ok || len(decimals) > s {
		return fmt.Errorf("the database adds up numbers with %d decimals to %q", s, row[1])
	}
	for range s - len(decimals) {
		total.Mul(total, big.NewInt(10))
	}
	sum.AddAll(s, total, int(number(row[2])), int(number(row[3])))
	return nil
}

// joins reports whether the keys are of one class, so that equal values have equal texts.
func (sqlite) joins(_ context.Context, _ session, p *Pair) (bool, error) {
	for i, k := range p.a.key {
		a, b := p.a.cols[k], p.b.cols[p.b.key[i]]
		if a.affinity != b.affinity || a.affinity == anything {
			return false, nil
		}
	}
	return true, nil
}

// differing is a full join in two halves: the first table's rows with the second's, and those that the second has alone.
func (q sqlite) differing(p *Pair) string {
	on := p.on(func(a, b *column) string {
		c := fmt.Sprintf("a.%s = b.%s COLLATE BINARY", q.ident(a.name), q.ident(b.name))
		if a.affinity != asText {
			c += fmt.Sprintf(" AND typeof(a.%s) = typeof(b.%s)", q.ident(a.name), q.ident(b.name))
		}
		return c
	})
	var differ []string
	p.shared(func(a, b *column) {
		x, y := "a."+q.ident(a.name), "b."+q.ident(b.name)
		differ = append(differ, x+" IS NOT "+y+" COLLATE BINARY")
		if a.affinity != asText || b.affinity != asText { // 1 and 1.0 are equal
			differ = append(differ, fmt.Sprintf("typeof(%s) <> typeof(%s)", x, y))
		}
		if a.affinity == anything || b.affinity == anything { // and so are 0.0 and -0.0
			differ = append(differ, fmt.Sprintf("typeof(%s) = 'real' AND %s = 0", x, x))
		}
	})
	var both, alone, first, second []string
	for _, c := range p.a.cols {
		both, alone = append(both, "a."+q.ident(c.name)), append(alone, "NULL")
	}
	for _, c := range p.b.cols {
		both, alone = append(both, "b."+q.ident(c.name)), append(alone, "b."+q.ident(c.name))
	}
	n := 2 + len(both)
	var order []string
	for i, k := range p.a.key {
		first, second = append(first, q.orderText("a", p.a.cols[k])), append(second, q.orderText("b", p.b.cols[p.b.key[i]]))
		order = append(order, fmt.Sprintf("%d COLLATE BINARY", n+1+i))
	}
	there := "b." + q.ident(p.b.cols[p.b.key[0]].name) + " IS NOT NULL"
	return fmt.Sprintf("SELECT 1, %s, %s FROM %s AS a LEFT JOIN %s AS b ON %s WHERE NOT (%s) OR %s UNION ALL SELECT 0, 1, %s FROM %s AS b WHERE NOT EXISTS (SELECT 1 FROM %s AS a WHERE %s) ORDER BY %s",
		there, strings.Join(slices.Concat(both, first), ", "), p.a.table(), p.b.table(), on, there, strings.Join(differ, " OR "),
		strings.Join(slices.Concat(alone, second), ", "), p.b.table(), p.a.table(), on, strings.Join(order, ", "))
}

// orderText is what a key is put in order by.
func (q sqlite) orderText(name string, c *column) string {
	if c.sorted {
		return name + "." + q.ident(c.name)
	}
	return "CAST(" + name + "." + q.ident(c.name) + " AS TEXT)"
}

func (sqlite) canonical(*column) bool { return false } // a column may hold values of every class
func (sqlite) longer() []string       { return nil }

func (postgres) exported() string { return "SELECT pg_export_snapshot()" }
func (sqlite) exported() string   { return "" }
func (mariadb) exported() string  { return "" }

func (sqlite) meanwhile(context.Context, *Pair) (*known, error)  { return nil, nil }
func (mariadb) meanwhile(context.Context, *Pair) (*known, error) { return nil, nil }

// sum reads the numbers: SQLite has no decimals to add them up in.
func (sqlite) sum(ctx context.Context, t *Table, c *column, sum *compare.Sum) error {
	return sumTexts(ctx, t, c, sum)
}

func (mariadb) joins(context.Context, session, *Pair) (bool, error) { return false, nil } // it has no full join
func (mariadb) differing(*Pair) string                              { return "" }

func (mariadb) canonical(c *column) bool {
	return slices.Contains([]string{"tinyint", "smallint", "mediumint", "int", "bigint", "uuid", "date"}, c.cast)
}

func (mariadb) longer() []string { return nil }

func (mariadb) sum(ctx context.Context, t *Table, c *column, sum *compare.Sum) error {
	return sumTexts(ctx, t, c, sum)
}
