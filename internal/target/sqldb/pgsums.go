package sqldb

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/compare"
	"paletwin/core/record"
)

// This file adds up columns of PostgreSQL's: those of number types in one pass, while the tables are joined, others where
// they are asked for.

// pgNever are types of which no value is a plain number, as compare.Sum has it.
var pgNever = []string{"bool", "date", "timestamp", "timestamptz", "time", "timetz", "interval", "uuid", "bytea", "json", "jsonb", "xml", "inet", "cidr", "macaddr", "point"}

// typ is the name of a type of the database's own; of others it is longer.
func (postgres) typ(c *column) string {
	return strings.Trim(strings.TrimPrefix(c.cast, "pg_catalog."), `"`)
}

// short is how many digits a number may have that is always read as one by compare.Sum, with its point and a zero before that.
const short = 16

// scale is how many decimals, which are not none, every value of a column has; ok is false where that is not said, or where the values
// may be too long.
func (q postgres) scale(c *column) (n int, ok bool) {
	if q.typ(c) != "numeric" {
		return 0, false
	}
	_, said, _ := strings.Cut(strings.TrimSuffix(c.typ, ")"), "(")
	digits, decimals, _ := strings.Cut(said, ",")
	all, err := strconv.Atoi(digits)
	if err != nil || all > short {
		return 0, false
	}
	n, err = strconv.Atoi(decimals)
	return n, err == nil && n > 0 && n <= all
}

// whole reports whether a column's values are integers.
func (q postgres) whole(c *column) bool {
	return slices.Contains([]string{"int2", "int4", "int8"}, q.typ(c))
}

// sampled is how many of a column's values are looked at to see whether these are numbers at all.
const sampled = 1000

// meanwhile counts the records of both tables, and adds up what can be added up in one pass over the first. Where there is
// no second connection to be had, it does nothing.
func (q postgres) meanwhile(ctx context.Context, p *Pair) (*known, error) {
	s, err := q.connect(ctx, p.a.at, p.a.password, "")
	if err != nil {
		return nil, ctx.Err()
	}
	defer s.close()
	begin := append(q.snapshot(), "SET TRANSACTION SNAPSHOT '"+p.state+"'", "SET LOCAL max_parallel_workers_per_gather = 0")
	if err := run(ctx, s, begin...); err != nil { // behind a pool it may be another server
		return nil, ctx.Err()
	}
	k, err := q.ahead(ctx, p.a, s)
	if err != nil {
		return nil, err
	}
	row, _, err := one(ctx, s, "SELECT count(*) FROM "+p.b.table())
	if err != nil {
		return nil, err
	}
	k.records[1] = int(number(row[0]))
	return k, nil
}

// ahead adds up what can be added up in one pass over the table, and counts its records.
func (q postgres) ahead(ctx context.Context, t *Table, s session) (*known, error) {
	k := &known{sums: make([]compare.Sum, len(t.cols)), there: make([]bool, len(t.cols)), width: make([]int, len(t.cols))}
	asks := []string{"count(*)"}
	var take []func(cells []string)
	ask := func(expressions []string, f func(cells []string)) {
		from := len(asks)
		asks = append(asks, expressions...)
		take = append(take, func(row []string) { f(row[from : from+len(expressions)]) })
	}
	for i, c := range t.cols {
		name := q.ident(c.name)
		scale, fixed := q.scale(c)
		switch {
		case slices.Contains(t.key, i):
		case slices.Contains(pgNever, q.typ(c)):
			k.sums[i].AddOther()
			k.there[i] = true
		case fixed:
			ask([]string{"sum(" + name + ")"}, func(row []string) {
				switch {
				case row[0] == "": // there is no value
				case strings.Trim(row[0], "-.0123456789") != "": // one is NaN
					k.sums[i].AddOther()
				default:
					k.there[i] = addScale(&k.sums[i], []string{strconv.Itoa(scale), row[0], "0", "0"}) == nil
					return
				}
				k.there[i] = true
			})
		case q.whole(c):
			ask([]string{"sum(" + name + ")", "min(" + name + ")", "max(" + name + ")"}, func(row []string) {
				least, most := row[1], row[2]
				switch {
				case row[0] == "":
					k.there[i] = true
				case strings.HasPrefix(least, "-") != strings.HasPrefix(most, "-") || len(least) > short || len(most) > short:
					// how long the shortest is these do not say
				default:
					k.there[i] = addScale(&k.sums[i], []string{"0", row[0], strconv.Itoa(min(len(least), len(most))), strconv.Itoa(max(len(least), len(most)))}) == nil
				}
			})
		default:
			other, err := q.noNumber(ctx, t, s, c)
			if err != nil {
				return nil, err
			}
			if other {
				k.sums[i].AddOther()
				k.there[i] = true
				continue
			}
			text := name + "::text"
			ask([]string{"min(octet_length(" + text + "))", "max(octet_length(" + text + "))", "bool_or(strpos(" + text + ", '.') > 0)"}, func(row []string) {
				if number(row[0]) >= compare.CodeWidth && row[0] == row[1] && row[2] == "f" {
					k.width[i] = int(number(row[0]))
				}
			})
		}
	}
	row, _, err := one(ctx, s, "SELECT "+strings.Join(asks, ", ")+" FROM "+t.table())
	if err != nil {
		return nil, err
	}
	k.records[0] = int(number(row[0]))
	for _, f := range take {
		f(row)
	}
	return k, nil
}

// noNumber looks at some of a column's values, and reports whether one is no number.
func (q postgres) noNumber(ctx context.Context, t *Table, s session, c *column) (other bool, err error) {
	sql := fmt.Sprintf("SELECT %s FROM %s WHERE %s IS NOT NULL LIMIT %d", t.exactly(c), t.table(), q.ident(c.name), sampled)
	err = s.query(ctx, sql, nil, nil, func(cells []record.Value) error {
		if text := cells[0].String(); text != "" && !compare.IsNumber([]byte(text)) {
			other = true
		}
		return nil
	})
	return other, err
}

// sum adds up as many numbers as have one scale at once: that is how many decimals a sum has.
func (q postgres) sum(ctx context.Context, t *Table, c *column, sum *compare.Sum) error {
	value, scale := q.ident(c.name), "0"
	exact := t.exactly(c)
	if c.text == "" {
		exact = value + "::text"
	}
	const short = `length(ltrim(t, '-')) <= 18` // as compare.Sum has it
	ok := short
	switch q.typ(c) {
	case "int2", "int4", "int8":
	case "numeric":
		scale, ok = "scale(v)", short+` AND t ~ '^[-0-9.]+$'`
	default:
		value = exact
		scale, ok = `CASE WHEN strpos(t, '.') > 0 THEN length(t) - strpos(t, '.') ELSE 0 END`, short+` AND t ~ '^-?(0|[1-9][0-9]*)(\.[0-9]+)?$'`
	}
	return t.s.query(ctx, fmt.Sprintf(`SELECT s, sum(CASE WHEN s >= 0 THEN v::numeric END), min(length(t)), max(length(t)) FROM
		(SELECT v, t, CASE WHEN %s THEN %s ELSE -1 END AS s FROM (SELECT %s AS v, %s AS t FROM %s WHERE %s IS NOT NULL) AS x WHERE t <> '') AS y GROUP BY s`,
		ok, scale, value, exact, t.table(), q.ident(c.name)), nil, nil, func(cells []record.Value) error {
		return addScale(sum, texts(cells))
	})
}
