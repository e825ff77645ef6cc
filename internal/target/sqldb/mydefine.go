package sqldb

import (
	"context"
	"fmt"
	"paletwin/internal/target"
	"slices"
	"strings"
)

func (m mariadb) define(ctx context.Context, s session, a *target.Address) (*definition, error) {
	in := a.Schema
	if in == "" {
		in = a.Database
	}
	row, ok, err := one(ctx, s, "SELECT TABLE_SCHEMA, TABLE_NAME, TABLE_TYPE, COALESCE(ENGINE, ''), COALESCE(DATA_LENGTH, 0), @@innodb_flush_log_at_trx_commit FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?", plain(in, a.Table)...)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, &failure{kind: gone, text: fmt.Sprintf("there is no table %s, or this account may not see it", target.Qualified(in, a.Table))}
	}
	d := &definition{schema: row[0], table: row[1], kind: "table", size: number(row[4])}
	switch {
	case row[2] != "BASE TABLE" && row[2] != "SYSTEM VERSIONED":
		d.kind = strings.ToLower(row[2])
		d.readOnly = "it is a " + d.kind + ", which is read and not written"
	case !slices.Contains([]string{"InnoDB"}, row[3]):
		d.readOnly = fmt.Sprintf("it is kept by %s, which has no transactions: what is written there cannot be taken back when something fails. ALTER TABLE … ENGINE=InnoDB changes that", row[3])
	}
	if row[5] != "1" {
		d.notes = append(d.notes, fmt.Sprintf("the server does not put on its disk at once what is committed (innodb_flush_log_at_trx_commit is %s): should it or its machine fail, the last of it may be lost", row[5]))
	}
	for _, part := range []func(context.Context, session, *definition) error{m.defineColumns, m.defineKeys, m.defineTriggers} {
		if err := part(ctx, s, d); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func (d *definition) params() []param { return plain(d.schema, d.table) }

// mariaBytes are types whose values are bytes.
var mariaBytes = []string{"binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection"}

func (m mariadb) defineColumns(ctx context.Context, s session, d *definition) error {
	rows, err := all(ctx, s, `SELECT COLUMN_NAME, COLUMN_TYPE, DATA_TYPE, IS_NULLABLE = 'YES', COALESCE(IS_GENERATED, 'NEVER') <> 'NEVER', EXTRA, COLUMN_DEFAULT IS NOT NULL, COALESCE(COLLATION_NAME, ''), COALESCE(CHARACTER_SET_NAME, ''), COALESCE(CHARACTER_MAXIMUM_LENGTH, 0)
		FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? ORDER BY ORDINAL_POSITION`, d.params()...)
	for _, r := range rows {
		extra := strings.ToLower(r[5])
		c := column{name: r[0], typ: r[1], cast: r[2], nullable: r[3] == "1", generated: r[4] == "1", filled: r[6] == "1",
			bytes: slices.Contains(mariaBytes, r[2]), single: r[2] == "float"}
		if r[8] == "utf8mb4" && slices.Contains([]string{"varchar", "tinytext", "text", "mediumtext", "longtext"}, c.cast) {
			c.keeps = number(r[9])
		}
		if strings.Contains(extra, "auto_increment") {
			c.identity = "by default"
		}
		switch {
		case c.bytes || c.cast == "bit" || c.cast == "enum" || c.cast == "set":
		case r[7] != "":
			c.declared = c.typ + " CHARACTER SET " + r[8] + " COLLATE " + r[7]
		default:
			c.declared = c.typ
		}
		switch {
		case c.bytes:
			c.text = "HEX(" + m.ident(c.name) + ")"
		case c.cast == "year": // the text "0" is that of another year
			c.text = "LPAD(" + m.ident(c.name) + ", 4, '0')"
		case c.cast == "bit":
			c.text = m.ident(c.name) + "+0"
		case c.single:
			c.text = "CAST(" + m.ident(c.name) + " AS DOUBLE)"
		}
		d.columns = append(d.columns, c)
	}
	return err
}

func (mariadb) defineKeys(ctx context.Context, s session, d *definition) error {
	rows, err := all(ctx, s, `SELECT INDEX_NAME, COLUMN_NAME FROM information_schema.STATISTICS s WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND NON_UNIQUE = 0
		AND NOT EXISTS (SELECT 1 FROM information_schema.STATISTICS n WHERE n.TABLE_SCHEMA = s.TABLE_SCHEMA AND n.TABLE_NAME = s.TABLE_NAME AND n.INDEX_NAME = s.INDEX_NAME AND (n.NULLABLE = 'YES' OR n.SUB_PART IS NOT NULL))
		ORDER BY INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX`, d.params()...)
	d.takeKeys(rows)
	return err
}

func (mariadb) defineTriggers(ctx context.Context, s session, d *definition) error {
	rows, err := all(ctx, s, "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = ? AND EVENT_OBJECT_TABLE = ? ORDER BY 1", d.params()...)
	for _, r := range rows {
		d.triggers = append(d.triggers, r[0])
	}
	return err
}

func (mariadb) references(ctx context.Context, s session, d *definition) error {
	rows, err := all(ctx, s, `SELECT k.CONSTRAINT_NAME, k.TABLE_SCHEMA, k.TABLE_NAME, r.DELETE_RULE, r.UPDATE_RULE, k.COLUMN_NAME, k.REFERENCED_COLUMN_NAME
		FROM information_schema.KEY_COLUMN_USAGE k JOIN information_schema.REFERENTIAL_CONSTRAINTS r
		ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME AND r.TABLE_NAME = k.TABLE_NAME
		WHERE k.REFERENCED_TABLE_SCHEMA = ? AND k.REFERENCED_TABLE_NAME = ? ORDER BY k.TABLE_SCHEMA, k.TABLE_NAME, k.CONSTRAINT_NAME, k.ORDINAL_POSITION`, d.params()...)
	last := ""
	for _, r := range rows {
		if name := target.Qualified(r[1], r[2], r[0]); name != last {
			d.refers, last = append(d.refers, reference{name: r[0], schema: r[1], table: r[2], onDelete: actionOf(r[3]), onUpdate: actionOf(r[4])}), name
		}
		f := &d.refers[len(d.refers)-1]
		f.columns, f.to = append(f.columns, r[5]), append(f.to, r[6])
	}
	return err
}
