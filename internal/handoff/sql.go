package handoff

import (
	"encoding/hex"
	"fmt"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/record"
	"paletwin/core/schema"
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
// transaction. Each statement is guarded by the old values and puts its record
// and the number of rows it touched into a temporary table. At the end the
// records are named that were not as exported, and unless each statement
// touched exactly one row, a null goes into a column that takes none, and all
// is undone; else the number of records is said.
//
// What a client could misread before the server does is not in a script: a
// client's encoding is set before the first letter beyond ASCII, and control
// characters, of which clients strip some, are written as their codes.
type dialect struct {
	quote   byte   // around names
	same    string // the comparison that takes nulls for equal
	dual    string // what a SELECT without a table is from
	begin   string
	counted func(statement, record string) string // a statement, and its count kept
	said    func(label, of string) string         // a line of words and a value
	done    string                                // the name of the table with the counts
	check   string                                // %d records were expected, in a table
	passed  string                                // the name of the table with their number
	end     string
	text    func(s string) string // a text literal
	exact   func(name string) string
	run     string // how a client runs a script, whatever stands in it
}

var dialects = map[Dialect]dialect{
	// Any error makes the transaction one that COMMIT rolls back.
	PostgreSQL: {quote: '"', same: " IS NOT DISTINCT FROM ", text: func(s string) string { return pieces(s, "chr") }, exact: asIs, done: "paletwin_done",
		begin: "BEGIN;\nSET LOCAL client_encoding = 'UTF8';\nSET LOCAL standard_conforming_strings = on;\n" +
			"CREATE TEMPORARY TABLE paletwin_done (n INTEGER NOT NULL, record TEXT NOT NULL) ON COMMIT DROP;\n" +
			"CREATE TEMPORARY TABLE paletwin_check (records INTEGER NOT NULL) ON COMMIT DROP;\n",
		counted: func(s, record string) string {
			return "WITH touched AS (" + s + " RETURNING 1) INSERT INTO paletwin_done SELECT count(*), " + record + " FROM touched;\n"
		},
		check: "INSERT INTO paletwin_check SELECT CASE WHEN count(*) = %[1]d AND min(n) = 1 AND max(n) = 1 THEN %[1]d END FROM paletwin_done;\n",
		said:  joined, passed: "paletwin_check",
		end: "COMMIT;\n",
		run: "psql -X -v ON_ERROR_STOP=1 -f FILE DATABASE"},
	// A client that goes on after an error finds the count short at the end:
	// ROW_COUNT() is then -1. Texts are compared to the letter, whatever the
	// column's collation.
	MariaDB: {quote: '`', same: " <=> ", dual: " FROM DUAL", text: escapedText, done: "paletwin_done",
		exact: func(name string) string {
			return "CONVERT(" + name + " USING utf8mb4) COLLATE utf8mb4_nopad_bin"
		},
		begin: "SET NAMES utf8mb4;\nDROP TEMPORARY TABLE IF EXISTS paletwin_done;\nDROP TEMPORARY TABLE IF EXISTS paletwin_check;\n" +
			"CREATE TEMPORARY TABLE paletwin_done (n INTEGER NOT NULL, record LONGTEXT CHARACTER SET utf8mb4 NOT NULL);\nCREATE TEMPORARY TABLE paletwin_check (records INTEGER NOT NULL);\n" +
			"SET @paletwin_mode = @@SESSION.sql_mode;\nSET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION';\nSTART TRANSACTION;\n",
		counted: func(s, record string) string {
			return s + ";\nINSERT INTO paletwin_done VALUES (ROW_COUNT(), " + record + ");\n"
		},
		check: "SET @paletwin_end = 'ROLLBACK';\n" +
			"INSERT INTO paletwin_check SELECT CASE WHEN count(*) = %[1]d AND min(n) = 1 AND max(n) = 1 THEN %[1]d END FROM paletwin_done;\n" +
			"SELECT 'COMMIT' INTO @paletwin_end FROM paletwin_check WHERE records = %[1]d;\n",
		said:   func(label, of string) string { return "CONCAT('" + label + "', " + of + ")" },
		passed: "paletwin_check",
		end:    "EXECUTE IMMEDIATE @paletwin_end;\nSET SESSION sql_mode = @paletwin_mode;\n",
		run:    "mariadb --binary-mode --default-character-set=utf8mb4 DATABASE < FILE"},
	// The count is set to none before each statement, so that one that fails
	// is not taken for the one before; ON CONFLICT ROLLBACK undoes all even
	// where the client goes on.
	SQLite: {quote: '"', same: " IS ", text: func(s string) string { return pieces(s, "char") }, exact: asIs, done: "temp.paletwin_done",
		begin: "BEGIN IMMEDIATE;\nCREATE TEMP TABLE paletwin_done (n INTEGER NOT NULL, record TEXT NOT NULL);\n" +
			"CREATE TEMP TABLE paletwin_check (records INTEGER NOT NULL ON CONFLICT ROLLBACK);\n",
		counted: func(s, record string) string {
			return "DELETE FROM temp.paletwin_done WHERE 0;\n" + s + ";\nINSERT INTO temp.paletwin_done SELECT changes(), " + record + ";\n"
		},
		check: "INSERT INTO temp.paletwin_check SELECT CASE WHEN count(*) = %[1]d AND min(n) = 1 AND max(n) = 1 THEN %[1]d END FROM temp.paletwin_done;\n",
		said:  joined, passed: "temp.paletwin_check",
		end: "DROP TABLE temp.paletwin_done;\nDROP TABLE temp.paletwin_check;\nCOMMIT;\n",
		run: "sqlite3 -safe -bail DATABASE < FILE"},
}

// What a script says, before a key and before a number.
const (
	movedWords      = "no longer as exported: "
	carriedOutWords = "records carried out: "
)

func joined(label, of string) string { return "'" + label + "' || " + of }

func asIs(name string) string { return name }

func plainText(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// control reports whether a client may strip or take for itself a character
// that stands in a text.
func control(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r == 0x7f }

// pieces writes a text as what stands between its control characters, and
// these as their codes.
func pieces(s, char string) string {
	if strings.IndexFunc(s, control) < 0 {
		return plainText(s)
	}
	var all []string
	for rest := s; rest != ""; {
		i := strings.IndexFunc(rest, control)
		if i < 0 {
			i = len(rest)
		}
		if i > 0 {
			all = append(all, plainText(rest[:i]))
		}
		if rest = rest[i:]; rest != "" {
			all = append(all, fmt.Sprintf("%s(%d)", char, rest[0]))
			rest = rest[1:]
		}
	}
	return "(" + strings.Join(all, " || ") + ")"
}

// escapedText writes a text whose backslashes or control characters could mean
// something as its bytes.
func escapedText(s string) string {
	if !strings.Contains(s, `\`) && strings.IndexFunc(s, control) < 0 {
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
	return fmt.Appendf(nil, "%s-- Dossier %s: either all of this is carried out, or nothing.\n", f.begin, f.s.Dossier)
}

func (f *sql) tail(records int) []byte {
	b := []byte("SELECT " + f.said(movedWords, "record") + " FROM " + f.done + " WHERE n <> 1;\n")
	b = fmt.Appendf(b, f.check, records)
	b = append(b, "SELECT "+f.said(carriedOutWords, "records")+" FROM "+f.passed+";\n"...)
	return append(b, f.end...)
}

func (f *sql) record(dst []byte, st *target.Step) []byte {
	var b strings.Builder
	switch st.Act {
	case changeset.Amend:
		b.WriteString("UPDATE " + f.table() + " SET ")
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
		b.WriteString("INSERT INTO " + f.table() + " (" + strings.Join(names, ", ") + ") SELECT " + strings.Join(values, ", ") + f.dual +
			" WHERE NOT EXISTS (SELECT 1 FROM " + f.table() + " WHERE " + f.where(st) + ")")
	case changeset.Delete:
		b.WriteString("DELETE FROM " + f.table() + " WHERE " + f.where(st))
	}
	return append(dst, f.counted(b.String(), f.text(st.Key.String()))...)
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

// guard asks whether a field has a value still. A blank one may be null or
// empty there, unless the export tells the two apart.
func (f *sql) guard(field string, v record.Value) string {
	c := f.column(field)
	switch {
	case f.blank(field, v) && (f.literal(field) || v.IsNull() && f.s.Export.Image.Nulls):
		return c + " IS NULL"
	case f.blank(field, v) && !f.s.Export.Image.Nulls:
		return "(" + c + " IS NULL OR " + c + " = '')"
	case f.literal(field):
		return c + f.same + f.value(field, v)
	}
	return f.exact(c) + f.same + f.value(field, v)
}

// blank reports whether a value is none, or the text that stands for none.
func (f *sql) blank(field string, v record.Value) bool {
	lf := f.s.Layout.Field(field)
	return v.Blank() || lf != nil && lf.Null != "" && v.String() == lf.Null
}

// literal reports whether the layout knows the field to be no text.
func (f *sql) literal(field string) bool {
	lf := f.s.Layout.Field(field)
	if lf == nil {
		return false
	}
	switch lf.Kind {
	case schema.Integer, schema.Decimal, schema.Date, schema.Datetime, schema.Boolean:
		return true
	}
	return false
}

// value writes a value. What is blank is null, or the empty text where the
// field needs a value, where it says that an emptied one is that, and where
// the export tells the two apart.
func (f *sql) value(field string, v record.Value) string {
	lf := f.s.Layout.Field(field)
	if f.blank(field, v) {
		empty := lf != nil && (lf.Required || lf.ClearsTo != nil && *lf.ClearsTo == "") || f.s.Export.Image.Nulls
		if v.IsNull() || !empty || v.String() != "" || f.literal(field) {
			return "NULL"
		}
		return "''"
	}
	w := f.s.word(field)
	text := w.Write(v)
	// MariaDB compares a number and a text as binary floating point.
	if lf != nil && f.s.Dialect == MariaDB {
		switch lf.Kind {
		case schema.Integer, schema.Decimal:
			if n, ok := expr.ParseNumber(text); ok && !strings.HasPrefix(text, "+") {
				return n.String()
			}
		case schema.Boolean:
			if truth, known := lf.Words[strings.ToLower(text)]; known && w.True+w.False == "" {
				return strings.ToUpper(fmt.Sprint(truth))
			}
		}
	}
	return f.text(text)
}

func (f *sql) column(field string) string { return f.name(f.s.word(field).Heading) }

// table is the table's name. Where it was said, a schema may stand before it,
// with a point between; quotes keep points together.
func (f *sql) table() string {
	if !f.s.intoSaid {
		return f.name(f.s.Into)
	}
	var parts []string
	from, quoted := 0, false
	for i, r := range f.s.Into {
		switch {
		case r == '"':
			quoted = !quoted
		case r == '.' && !quoted:
			parts = append(parts, f.s.Into[from:i])
			from = i + 1
		}
	}
	parts = append(parts, f.s.Into[from:])
	for i, p := range parts {
		if inner, ok := strings.CutPrefix(p, `"`); ok && strings.HasSuffix(inner, `"`) {
			p = strings.ReplaceAll(strings.TrimSuffix(inner, `"`), `""`, `"`)
		}
		parts[i] = f.name(p)
	}
	return strings.Join(parts, ".")
}

// name quotes one name.
func (f *sql) name(s string) string {
	q := string(f.quote)
	return q + strings.ReplaceAll(s, q, q+q) + q
}
