package sqldb

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"paletwin/internal/target"
	"strconv"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/target/sqldb/lite"
)

// sqlite is SQLite. A value's text is the value; where it would be read as one
// of another class (a text "1" in a column without a type) it stands in single quotes,
// and bytes are written as SQL has them, X'00FF'.
type sqlite struct{}

func (sqlite) name() string { return "SQLite" }

// affinity is the class that a column prefers: https://www.sqlite.org/datatype3.html
type affinity byte

const (
	anything affinity = iota // values are kept as they are given
	asText
	asNumber
)

// affinityOf reads it off a declared type, by the rules of section 3.1.
func affinityOf(declared string, strict bool) affinity {
	t := strings.ToUpper(declared)
	has := func(parts ...string) bool {
		for _, p := range parts {
			if strings.Contains(t, p) {
				return true
			}
		}
		return false
	}
	switch {
	case strict && t == "ANY":
		return anything
	case has("INT"):
		return asNumber
	case has("CHAR", "CLOB", "TEXT"):
		return asText
	case t == "" || has("BLOB"):
		return anything
	}
	return asNumber
}

type liteSession struct{ db *lite.DB }

func (sqlite) connect(ctx context.Context, a *target.Address, _, mark string) (session, error) {
	if _, err := os.Stat(a.File); err != nil { // SQLite's own words say only that it cannot be opened
		return nil, err
	}
	db, err := lite.Open(a.File, int(LockWait.Milliseconds()))
	if err != nil {
		return nil, err
	}
	s := &liteSession{db}
	if err := run(ctx, s, "PRAGMA foreign_keys = ON", "PRAGMA recursive_triggers = ON"); err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

func (sqlite) end(context.Context, session, string) error { return nil } // it ended with its process

func (sqlite) lacks(context.Context, session, *definition, changeset.Act) (string, error) {
	return "", nil
}

func (s *liteSession) close() { s.db.Close() }

// liteValues are parameters: of a column, values of the class that their texts are
// of; others are texts.
func liteValues(params []param) []lite.Value {
	values := make([]lite.Value, len(params))
	for i := range params {
		switch p := &params[i]; {
		case p.v.IsNull():
		case p.of != nil:
			values[i] = typed(p.v.String(), p.of.affinity)
		default:
			values[i] = lite.Value{Class: lite.Text, Bytes: []byte(p.v.String())}
		}
	}
	return values
}

func (s *liteSession) exec(ctx context.Context, sql string, params ...param) (int64, error) {
	return s.db.Exec(ctx, sql, liteValues(params)...)
}

func (s *liteSession) query(ctx context.Context, sql string, of []*column, params []param, row func([]record.Value) error) error {
	var cells []record.Value
	return s.db.Query(ctx, sql, liteValues(params), func(values []lite.Value) error {
		cells = cells[:0]
		for i := range values {
			switch v := &values[i]; {
			case i < len(of):
				cells = append(cells, exact(v, of[i].affinity))
			case v.Class == lite.Text:
				cells = append(cells, record.Text(string(v.Bytes)))
			default:
				cells = append(cells, exact(v, asText))
			}
		}
		return row(cells)
	})
}

// exact is the text of a stored value in a column of an affinity. typed reads it.
func exact(v *lite.Value, a affinity) record.Value {
	switch v.Class {
	case lite.Null:
		return record.Null()
	case lite.Text:
		text := string(v.Bytes)
		if typed(text, a).Class != lite.Text || strings.HasPrefix(text, "'") && strings.HasSuffix(text, "'") {
			text = "'" + strings.ReplaceAll(text, "'", "''") + "'"
		}
		return record.Text(text)
	}
	return record.Text(string(appendExact(nil, v)))
}

// appendExact writes a number or bytes.
func appendExact(b []byte, v *lite.Value) []byte {
	switch v.Class {
	case lite.Integer:
		return strconv.AppendInt(b, v.Int, 10)
	case lite.Real:
		return append(b, realText(v.Real)...)
	}
	return append(append(append(b, "X'"...), strings.ToUpper(hex.EncodeToString(v.Bytes))...), '\'')
}

// realText is the shortest text of a number that is no integer's.
func realText(f float64) string {
	switch {
	case math.IsInf(f, 1):
		return "9.0e+999"
	case math.IsInf(f, -1):
		return "-9.0e+999"
	}
	form := byte('f')
	if x := math.Abs(f); x != 0 && (x < 1e-4 || x >= 1e15) {
		form = 'e'
	}
	text := strconv.FormatFloat(f, form, -1, 64)
	mantissa, exponent, scientific := strings.Cut(text, "e")
	if !strings.Contains(mantissa, ".") {
		mantissa += ".0"
	}
	if scientific {
		return mantissa + "e" + exponent
	}
	return mantissa
}

// typed is the value whose text it is in a column of an affinity.
func typed(text string, a affinity) lite.Value {
	if n := len(text); n >= 3 && text[:2] == "X'" && text[n-1] == '\'' {
		if b, err := hex.DecodeString(text[2 : n-1]); err == nil && strings.ToUpper(text) == text {
			return lite.Value{Class: lite.Blob, Bytes: b}
		}
	}
	if n := len(text); n >= 2 && text[0] == '\'' && text[n-1] == '\'' {
		if inner := strings.ReplaceAll(text[1:n-1], "''", "'"); strings.ReplaceAll(inner, "'", "''") == text[1:n-1] {
			return lite.Value{Class: lite.Text, Bytes: []byte(inner)}
		}
	}
	if a != asText {
		if n, err := strconv.ParseInt(text, 10, 64); err == nil && strconv.FormatInt(n, 10) == text {
			return lite.Value{Class: lite.Integer, Int: n}
		}
		if strings.ContainsAny(text, ".e") && len(text) < 400 {
			if f, err := strconv.ParseFloat(text, 64); (err == nil || math.IsInf(f, 0)) && realText(f) == text {
				return lite.Value{Class: lite.Real, Real: f}
			}
		}
	}
	return lite.Value{Class: lite.Text, Bytes: []byte(text)}
}

// noBytes are those of the empty text.
var noBytes = []byte{}

func (s *liteSession) each(ctx context.Context, all []statement, wrote func(int64) error) error {
	return oneByOne(ctx, s, all, wrote)
}

func (s *liteSession) dump(ctx context.Context, sql string, of []*column, w io.Writer) (rows int64, err error) {
	out := newCells(w)
	err = s.db.Query(ctx, sql, nil, func(values []lite.Value) error {
		for i := range of {
			var text []byte
			switch v := &values[i]; {
			case v.Class == lite.Null:
			case v.Class != lite.Text:
				text = appendExact(nil, v)
			case len(v.Bytes) > 0 && (of[i].affinity != asText || v.Bytes[0] == '\'' || v.Bytes[0] == 'X'):
				text = []byte(exact(v, of[i].affinity).String())
			default:
				if text = v.Bytes; text == nil {
					text = noBytes // the empty text is not null
				}
			}
			if err := out.cell(i, text, of[i]); err != nil {
				return err
			}
		}
		return out.end()
	})
	return out.close(err)
}

func (sqlite) ident(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func (sqlite) param(int, *column) string { return "?" }

func (q sqlite) keyOrder(c *column) string {
	if c.sorted {
		return q.ident(c.name) + " COLLATE BINARY" // as an index has it
	}
	return "CAST(" + q.ident(c.name) + " AS TEXT) COLLATE BINARY"
}

func (sqlite) snapshot() []string { return []string{"BEGIN DEFERRED"} }
func (sqlite) begin() []string    { return []string{"BEGIN IMMEDIATE"} }
func (sqlite) lock(bool) string   { return "" } // the transaction has the whole file
func (sqlite) joined() string     { return "JOIN" }
func (sqlite) lists() bool        { return true }
func (sqlite) returns() bool      { return false }
func (sqlite) setOf() string      { return "" }
func (sqlite) immediate() string  { return "" }
func (sqlite) staged() bool       { return false }
func (sqlite) strictly() string   { return " OR ABORT" }
func (sqlite) overriding() string { return "" }

func (sqlite) rows([]*column, int, [][]record.Value) (string, []param) { return "", nil }
func (sqlite) updateFrom(string, string, string, string) string        { return "" }
func (sqlite) deleteFrom(string, string, string) string                { return "" }

// failure sorts by result codes: https://www.sqlite.org/rescode.html
func (sqlite) failure(err error) *failure {
	f, known := sorted(err)
	if known {
		return f
	}
	var e *lite.Error
	if !errors.As(err, &e) {
		return nil
	}
	f = &failure{other, e.Text, err}
	switch e.Primary() {
	case lite.Busy, lite.Locked:
		f.kind = again
	case lite.Constraint, lite.Mismatch, lite.TooBig:
		f.kind = refused
	case lite.ReadOnly:
		f.kind = denied
	case lite.IOError, lite.Full:
		f.kind = lost // what became of a commit only the file tells
	case lite.Failed:
		if strings.HasPrefix(e.Text, "no such table") || strings.HasPrefix(e.Text, "no such column") {
			f.kind = gone
		}
	}
	return f
}

func (q sqlite) table(*definition) string {
	return `CREATE TABLE IF NOT EXISTS "` + ticketTable + `" (ticket TEXT NOT NULL PRIMARY KEY, says TEXT NOT NULL, made TEXT NOT NULL DEFAULT CURRENT_TIMESTAMP)`
}

func (q sqlite) draw(ctx context.Context, s session, _ *definition, mark, before string) (*ticket, error) {
	return drawToken(ctx, s, q.ident(ticketTable), mark, before)
}

func (q sqlite) fate(ctx context.Context, s session, _ *definition, t *ticket) (fate, string, error) {
	return fateOfToken(ctx, s, q, q.ident(ticketTable), t)
}

func (sqlite) firm(context.Context, session) error { return nil }

func (q sqlite) settle(ctx context.Context, s session, _ *definition, tokens []string) error {
	return settleTokens(ctx, s, q.ident(ticketTable), tokens)
}

func (q sqlite) define(ctx context.Context, s session, a *target.Address) (*definition, error) {
	if a.Schema != "" && a.Schema != "main" {
		return nil, &failure{kind: gone, text: "a database file has no schema but main"}
	}
	row, ok, err := one(ctx, s, "SELECT name, type, sql, (SELECT page_count FROM pragma_page_count) * (SELECT page_size FROM pragma_page_size) FROM sqlite_schema WHERE type IN ('table', 'view') AND name = ? COLLATE NOCASE", plain(a.Table)...)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, &failure{kind: gone, text: "there is no table " + a.Table}
	}
	d := &definition{schema: "main", table: row[0], kind: row[1], size: number(row[3])} // of the whole file
	if row[1] == "view" {
		d.readOnly = "it is a view, which is read and not written"
	}
	if strings.HasPrefix(strings.ToUpper(row[2]), "CREATE VIRTUAL") {
		d.kind, d.readOnly = "virtual table", "it is a virtual table, which is read and not written"
	}
	for _, part := range []func(context.Context, session, *definition) error{q.defineColumns, q.defineKeys, q.defineTriggers, q.defineOrder} {
		if err := part(ctx, s, d); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func (sqlite) defineColumns(ctx context.Context, s session, d *definition) error {
	row, _, err := one(ctx, s, "SELECT strict FROM pragma_table_list WHERE schema = 'main' AND name = ?", plain(d.table)...)
	if err != nil {
		return err
	}
	strict := len(row) > 0 && row[0] == "1"
	rows, err := all(ctx, s, "SELECT name, type, \"notnull\", dflt_value IS NOT NULL, hidden, pk FROM pragma_table_xinfo(?) WHERE hidden <> 1 ORDER BY cid", plain(d.table)...)
	keys := 0
	for _, r := range rows {
		if r[5] != "0" {
			keys++
		}
	}
	for _, r := range rows {
		c := column{name: r[0], typ: r[1], nullable: r[2] == "0", filled: r[3] == "1", generated: r[4] != "0", affinity: affinityOf(r[1], strict)}
		if c.affinity == asText {
			c.keeps = math.MaxInt64
		}
		if r[5] == "1" && keys == 1 && strings.EqualFold(r[1], "INTEGER") { // it is the row's number
			c.identity, c.nullable = "by default", false
		}
		d.columns = append(d.columns, c)
	}
	return err
}

func (sqlite) defineKeys(ctx context.Context, s session, d *definition) error {
	rows, err := all(ctx, s, "SELECT 'pk', name FROM pragma_table_info(?) WHERE pk > 0 ORDER BY pk", plain(d.table)...)
	if err != nil {
		return err
	}
	d.takeKeys(rows)
	rows, err = all(ctx, s, `SELECT i.name, c.name FROM pragma_index_list(?) i, pragma_index_info(i.name) c WHERE i."unique" = 1 AND i.partial = 0 AND i.origin <> 'pk'
		AND NOT EXISTS (SELECT 1 FROM pragma_index_info(i.name) x WHERE x.name IS NULL) ORDER BY i.seq, c.seqno`, plain(d.table)...)
	if err != nil {
		return err
	}
	d.takeKeys(rows)
	return nil
}

// defineOrder finds the key columns whose values are texts alone.
func (q sqlite) defineOrder(ctx context.Context, s session, d *definition) error {
	for _, key := range d.keys {
		for _, name := range key {
			c := &d.columns[d.column(name)]
			if c.affinity != asText || c.sorted {
				continue
			}
			_, bytes, err := one(ctx, s, "SELECT 1 FROM "+q.ident(d.table)+" WHERE "+q.ident(name)+" >= x'' LIMIT 1") // these come after all texts
			if err != nil {
				return err
			}
			c.sorted = !bytes
		}
	}
	return nil
}

func (sqlite) defineTriggers(ctx context.Context, s session, d *definition) error {
	rows, err := all(ctx, s, "SELECT name FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? COLLATE NOCASE ORDER BY 1", plain(d.table)...)
	for _, r := range rows {
		d.triggers = append(d.triggers, r[0])
	}
	return err
}

func (sqlite) references(ctx context.Context, s session, d *definition) error {
	rows, err := all(ctx, s, `SELECT m.name, f.id, f.on_delete, f.on_update, f."from", COALESCE(f."to", '') FROM sqlite_schema m, pragma_foreign_key_list(m.name) f
		WHERE m.type = 'table' AND f."table" = ? COLLATE NOCASE ORDER BY m.name, f.id, f.seq`, plain(d.table)...)
	last := ""
	for _, r := range rows {
		if name := fmt.Sprint(r[0], " ", r[1]); name != last {
			d.refers, last = append(d.refers, reference{name: "foreign key " + r[1] + " of " + r[0], schema: "main", table: r[0], onDelete: actionOf(r[2]), onUpdate: actionOf(r[3])}), name
		}
		f := &d.refers[len(d.refers)-1]
		to := r[5]
		if to == "" && len(d.keys) > 0 && len(f.columns) < len(d.keys[0]) {
			to = d.keys[0][len(f.columns)]
		}
		f.columns, f.to = append(f.columns, r[4]), append(f.to, to)
	}
	return err
}
