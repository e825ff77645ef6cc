package handoff

import (
	"encoding/hex"
	"fmt"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/internal/target"
)

// Dialect is a database's SQL.
type Dialect string

const (
	PostgreSQL Dialect = "postgresql"
	MariaDB    Dialect = "mariadb"
	SQLite     Dialect = "sqlite"
)

// Dialects are all of them.
var Dialects = []Dialect{PostgreSQL, MariaDB, SQLite}

// dialect is how a database says what a script needs. The script is one
// transaction. Each statement is guarded by the old values and puts the number
// of rows it touched into a temporary table; at the end, unless each touched
// exactly one, a null goes into a column that takes none, and all is undone.
type dialect struct {
	quote   byte   // around names
	same    string // the comparison that takes nulls for equal
	dual    string // what a SELECT without a table is from
	begin   string
	counted func(statement string) string // a statement, and its count kept
	check   string                        // %d records were expected
	end     string
	text    func(s string) string // a text literal
	exact   func(name string) string
}

var dialects = map[Dialect]dialect{
	// Any error makes the transaction one that COMMIT rolls back.
	PostgreSQL: {quote: '"', same: " IS NOT DISTINCT FROM ", text: plainText, exact: asIs,
		begin: "BEGIN;\nSET LOCAL standard_conforming_strings = on;\nCREATE TEMPORARY TABLE paletwin_done (n INTEGER NOT NULL) ON COMMIT DROP;\n" +
			"CREATE TEMPORARY TABLE paletwin_check (records INTEGER NOT NULL) ON COMMIT DROP;\n",
		counted: func(s string) string {
			return "WITH touched AS (" + s + " RETURNING 1) INSERT INTO paletwin_done SELECT count(*) FROM touched;\n"
		},
		check: "INSERT INTO paletwin_check SELECT CASE WHEN count(*) = %[1]d AND min(n) = 1 AND max(n) = 1 THEN %[1]d END FROM paletwin_done;\n",
		end:   "COMMIT;\n"},
	// A client that goes on after an error finds the count short at the end:
	// ROW_COUNT() is then -1. Texts are compared to the letter, whatever the
	// column's collation.
	MariaDB: {quote: '`', same: " <=> ", dual: " FROM DUAL", text: escapedText,
		exact: func(name string) string {
			return "CONVERT(" + name + " USING utf8mb4) COLLATE utf8mb4_nopad_bin"
		},
		begin: "SET NAMES utf8mb4;\nDROP TEMPORARY TABLE IF EXISTS paletwin_done;\nDROP TEMPORARY TABLE IF EXISTS paletwin_check;\n" +
			"CREATE TEMPORARY TABLE paletwin_done (n INTEGER NOT NULL);\nCREATE TEMPORARY TABLE paletwin_check (records INTEGER NOT NULL);\n" +
			"SET @paletwin_mode = @@SESSION.sql_mode;\nSET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION';\nSTART TRANSACTION;\n",
		counted: func(s string) string { return s + ";\nINSERT INTO paletwin_done VALUES (ROW_COUNT());\n" },
		check: "SET @paletwin_end = 'ROLLBACK';\n" +
			"INSERT INTO paletwin_check SELECT CASE WHEN count(*) = %[1]d AND min(n) = 1 AND max(n) = 1 THEN %[1]d END FROM paletwin_done;\n" +
			"SELECT 'COMMIT' INTO @paletwin_end FROM paletwin_check WHERE records = %[1]d;\n",
		end: "EXECUTE IMMEDIATE @paletwin_end;\nSET SESSION sql_mode = @paletwin_mode;\n"},
	// The count is set to none before each statement, so that one that fails
	// is not taken for the one before; ON CONFLICT ROLLBACK undoes all even
	// where the client goes on.
	SQLite: {quote: '"', same: " IS ", text: plainText, exact: asIs,
		begin: "BEGIN IMMEDIATE;\nCREATE TEMP TABLE paletwin_done (n INTEGER NOT NULL);\n" +
			"CREATE TEMP TABLE paletwin_check (records INTEGER NOT NULL ON CONFLICT ROLLBACK);\n",
		counted: func(s string) string {
			return "DELETE FROM temp.paletwin_done WHERE 0;\n" + s + ";\nINSERT INTO temp.paletwin_done SELECT changes();\n"
		},
		check: "INSERT INTO temp.paletwin_check SELECT CASE WHEN count(*) = %[1]d AND min(n) = 1 AND max(n) = 1 THEN %[1]d END FROM temp.paletwin_done;\n",
		end:   "DROP TABLE temp.paletwin_done;\nDROP TABLE temp.paletwin_check;\nCOMMIT;\n"},
}

func asIs(name string) string { return name }

func plainText(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// escapedText writes a text whose backslashes could mean something as its
// bytes.
func escapedText(s string) string {
	if !strings.Contains(s, `\`) {
		return plainText(s)
	}
	return "_utf8mb4 X'" + hex.EncodeToString([]byte(s)) + "'"
}

// sql is the form of SQL scripts.
type sql struct {
	s *System
	dialect
}

func (f *sql) ext() string { return ".sql" }

func (f *sql) head() []byte {
	return fmt.Appendf(nil, "-- Dossier %s, for %s: either all of this is carried out, or nothing.\n%s", f.s.Dossier, f.name(f.s.Into), f.begin)
}

func (f *sql) tail(records int) []byte {
	return append(fmt.Appendf(nil, f.check, records), f.end...)
}

func (f *sql) record(dst []byte, st *target.Step) []byte {
	var b strings.Builder
	switch st.Act {
	case changeset.Amend:
		b.WriteString("UPDATE " + f.name(f.s.Into) + " SET ")
		for i, c := range st.Fields {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(f.column(c.Field) + " = " + f.value(c.Field, c.To))
		}
		b.WriteString(" WHERE " + f.where(st))
	case changeset.Add:
		r := f.s.sentAll(st)
		var names, values []string
		for _, x := range r {
			names, values = append(names, f.column(x.Name)), append(values, f.value(x.Name, x.Value))
		}
		b.WriteString("INSERT INTO " + f.name(f.s.Into) + " (" + strings.Join(names, ", ") + ") SELECT " + strings.Join(values, ", ") + f.dual +
			" WHERE NOT EXISTS (SELECT 1 FROM " + f.name(f.s.Into) + " WHERE " + f.where(st) + ")")
	case changeset.Delete:
		b.WriteString("DELETE FROM " + f.name(f.s.Into) + " WHERE " + f.where(st))
	}
	return append(dst, f.counted(b.String())...)
}

// where names the record, as it must still be.
func (f *sql) where(st *target.Step) string {
	var all []string
	for i, part := range st.Key.Parts() {
		all = append(all, f.column(f.s.Key[i])+" = "+f.value(f.s.Key[i], record.Text(part)))
	}
	for _, g := range f.s.guards(st) {
		all = append(all, f.guard(g.Name, g.Value))
	}
	return strings.Join(all, " AND ")
}

// guard asks whether a field has a value still. A blank text may be null or
// empty there; the layout takes them for one.
func (f *sql) guard(field string, v record.Value) string {
	c := f.column(field)
	if v.Blank() {
		if f.literal(field) {
			return c + " IS NULL"
		}
		return "(" + c + " IS NULL OR " + c + " = '')"
	}
	if f.literal(field) {
		return c + f.same + f.value(field, v)
	}
	return f.exact(c) + f.same + f.value(field, v)
}

// literal reports whether the layout knows the field to be no text.
func (f *sql) literal(field string) bool {
	lf := f.s.Layout.Field(field)
	if lf == nil {
		return false
	}
	switch lf.Kind {
	case layout.Integer, layout.Decimal, layout.Date, layout.Datetime, layout.Boolean:
		return true
	}
	return false
}

// value writes a value. What is blank is null, unless the field is required.
func (f *sql) value(field string, v record.Value) string {
	lf := f.s.Layout.Field(field)
	if v.Blank() {
		if lf != nil && lf.Required {
			return "''"
		}
		return "NULL"
	}
	w := f.s.word(field)
	text := w.Write(v)
	// MariaDB compares a number and a text as binary floating point.
	if lf != nil && f.s.Dialect == MariaDB {
		switch lf.Kind {
		case layout.Integer, layout.Decimal:
			if n, ok := expr.ParseNumber(text); ok && !strings.HasPrefix(text, "+") {
				return n.String()
			}
		case layout.Boolean:
			if truth, known := lf.Words[strings.ToLower(text)]; known && w.True+w.False == "" {
				return strings.ToUpper(fmt.Sprint(truth))
			}
		}
	}
	return f.text(text)
}

func (f *sql) column(field string) string { return f.name(f.s.word(field).Heading) }

// name quotes a name. A schema may stand before it, with a point between.
func (f *sql) name(s string) string {
	parts := strings.Split(s, ".")
	for i, p := range parts {
		parts[i] = string(f.quote) + strings.ReplaceAll(p, string(f.quote), string([]byte{f.quote, f.quote})) + string(f.quote)
	}
	return strings.Join(parts, ".")
}
