package sqldb

import (
	"context"
	"fmt"
	"paletwin/internal/target"
	"strings"
)

// pgKinds are what a relation is, by its letter in the catalogue.
var pgKinds = map[string]string{"r": "table", "p": "partitioned table", "v": "view", "m": "materialised view", "f": "foreign table"}

func (p postgres) define(ctx context.Context, s session, a *target.Address) (*definition, error) {
	name := p.ident(a.Table)
	if a.Schema != "" {
		name = p.ident(a.Schema) + "." + name
	}
	row, ok, err := one(ctx, s, `SELECT c.oid, n.nspname, c.relname, c.relkind, row_security_active(c.oid), has_table_privilege(c.oid, 'SELECT'),
		EXISTS (SELECT FROM pg_inherits WHERE inhparent = c.oid),
		CASE c.relkind WHEN 'p' THEN (SELECT sum(pg_table_size(relid)) FROM pg_partition_tree(c.oid)) ELSE pg_table_size(c.oid) END
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = to_regclass($1)`, plain(name)...)
	if err != nil {
		return nil, err
	}
	if !ok || pgKinds[row[3]] == "" {
		return nil, &failure{kind: gone, text: fmt.Sprintf("there is no table %s", target.Qualified(a.Schema, a.Table))}
	}
	oid := plain(row[0])
	d := &definition{schema: row[1], table: row[2], kind: pgKinds[row[3]], id: row[0], size: number(row[7])}
	if row[3] == "v" || row[3] == "m" || row[3] == "f" {
		d.readOnly = "it is a " + d.kind + ", which is read and not written"
	}
	if row[4] == "t" {
		d.notes = append(d.notes, "rules of the database hide some of its records from this account: what is not seen may be there")
	}
	if row[3] == "p" {
		d.notes = append(d.notes, "it is parted: the records stand in tables of its own")
	} else if row[6] == "t" {
		d.notes = append(d.notes, "other tables inherit from it: their records are read and written with its own")
	}
	for _, part := range []func(context.Context, session, []param, *definition) error{p.defineColumns, p.defineKeys, p.defineTriggers} {
		if err := part(ctx, s, oid, d); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func (p postgres) defineColumns(ctx context.Context, s session, oid []param, d *definition) error {
	rows, err := all(ctx, s, `SELECT a.attname, format_type(a.atttypid, a.atttypmod), quote_ident(tn.nspname) || '.' || quote_ident(t.typname), NOT a.attnotnull,
		a.attgenerated <> '', CASE a.attidentity WHEN 'a' THEN 'always' WHEN 'd' THEN 'by default' ELSE '' END, a.atthasdef, t.typname = 'bytea',
		CASE WHEN tn.nspname = 'pg_catalog' AND t.typname IN ('text', 'varchar') THEN CASE WHEN a.atttypmod > 0 THEN a.atttypmod - 4 ELSE 1000000000 END ELSE 0 END
		FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid JOIN pg_namespace tn ON tn.oid = t.typnamespace
		WHERE a.attrelid = $1::text::oid AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, oid...)
	for _, r := range rows {
		c := column{name: r[0], typ: r[1], cast: r[2], nullable: r[3] == "t", generated: r[4] == "t", identity: r[5],
			filled: r[6] == "t", bytes: r[7] == "t", keeps: number(r[8])}
		if c.cast == "pg_catalog.bool" { // "true", as people write it, and not "t"
			c.text = p.ident(c.name) + "::text"
		}
		d.columns = append(d.columns, c)
	}
	return err
}

func (postgres) defineKeys(ctx context.Context, s session, oid []param, d *definition) error {
	rows, err := all(ctx, s, `SELECT i.indexrelid, a.attname FROM pg_index i
		CROSS JOIN LATERAL unnest(i.indkey::smallint[]) WITH ORDINALITY AS k(attnum, n)
		JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum
		WHERE i.indrelid = $1::text::oid AND i.indisunique AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL AND k.n <= i.indnkeyatts
		AND NOT EXISTS (SELECT FROM unnest(i.indkey::smallint[]) WITH ORDINALITY AS x(attnum, n) JOIN pg_attribute b ON b.attrelid = i.indrelid AND b.attnum = x.attnum WHERE x.n <= i.indnkeyatts AND NOT b.attnotnull)
		ORDER BY i.indisprimary DESC, i.indexrelid, k.n`, oid...)
	d.takeKeys(rows)
	return err
}

// takeKeys reads rows of an index and one of its columns, in order.
func (d *definition) takeKeys(rows [][]string) {
	last := ""
	for _, r := range rows {
		if r[0] != last {
			d.keys, last = append(d.keys, nil), r[0]
		}
		k := len(d.keys) - 1
		d.keys[k] = append(d.keys[k], r[1])
	}
}

// defineTriggers finds the table's, and those of tables that are parts of it.
func (postgres) defineTriggers(ctx context.Context, s session, oid []param, d *definition) error {
	rows, err := all(ctx, s, `WITH RECURSIVE all_of(oid) AS (SELECT $1::text::oid UNION SELECT inhrelid FROM pg_inherits JOIN all_of ON inhparent = all_of.oid)
		SELECT DISTINCT tgname FROM pg_trigger WHERE tgrelid IN (SELECT oid FROM all_of) AND NOT tgisinternal AND tgenabled <> 'D' ORDER BY 1`, oid...)
	for _, r := range rows {
		d.triggers = append(d.triggers, r[0])
	}
	return err
}

func (postgres) references(ctx context.Context, s session, d *definition) error {
	rows, err := all(ctx, s, `SELECT k.oid, k.conname, n.nspname, c.relname, k.confdeltype, k.confupdtype, a.attname, b.attname
		FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		CROSS JOIN LATERAL unnest(k.conkey, k.confkey) WITH ORDINALITY AS u(f, t, n)
		JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = u.f JOIN pg_attribute b ON b.attrelid = k.confrelid AND b.attnum = u.t
		WHERE k.contype = 'f' AND k.confrelid = $1::text::oid AND k.conparentid = 0 ORDER BY k.oid, u.n`, plain(d.id)...)
	words := strings.NewReplacer("c", "cascade", "n", "set null", "d", "set default", "a", "restrict", "r", "restrict")
	last := ""
	for _, r := range rows {
		if r[0] != last {
			d.refers, last = append(d.refers, reference{name: r[1], schema: r[2], table: r[3], onDelete: actionOf(words.Replace(r[4])), onUpdate: actionOf(words.Replace(r[5]))}), r[0]
		}
		f := &d.refers[len(d.refers)-1]
		f.columns, f.to = append(f.columns, r[6]), append(f.to, r[7])
	}
	return err
}
