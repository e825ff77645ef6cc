package handoff_test

import (
	"context"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/open"
	"paletwin/internal/disk"
	"paletwin/internal/handoff"
	"paletwin/internal/target"
)

// scriptOf hands steps off as SQL, and returns what carries them out and what
// undoes it.
func scriptOf(t *testing.T, dialect handoff.Dialect, l *layout.Layout, exportName, export, into string, steps ...target.Step) (forward, back string, readMe string) {
	img, err := open.Open(exportName, []byte(export), table.Options{})
	require.NoError(t, err)
	dir := t.TempDir()
	s := &handoff.System{Options: handoff.Options{Form: handoff.SQL, Dialect: dialect, Into: into}, FS: disk.OS{}, Dossier: "0001", Title: "clients", Set: "aids", Key: []string{"k"}, Layout: l,
		Export: &handoff.Export{Image: img, Raw: []byte(export), Ext: filepath.Ext(exportName), Fresh: true}, Dir: func(n int) string { return filepath.Join(dir, strconv.Itoa(n)) }}
	require.NoError(t, s.Open())
	reasons, err := s.Check(context.Background(), steps)
	require.NoError(t, err)
	for _, why := range reasons {
		require.Empty(t, why)
	}
	s.Run(1)
	_, err = s.Write(context.Background(), steps)
	require.NoError(t, err)
	read := func(name string) string {
		found, err := filepath.Glob(filepath.Join(dir, "1", name))
		require.NoError(t, err)
		require.Len(t, found, 1)
		b, err := os.ReadFile(found[0])
		require.NoError(t, err)
		return string(b)
	}
	return read("forward/*.sql"), read("back/*.sql"), read("README.txt")
}

func amendOf(k, field, from, to string) target.Step {
	return target.Step{ID: changeset.MakeID("aids", record.NewKey(k), changeset.Amend), Act: changeset.Amend, Key: record.NewKey(k),
		Fields: []changeset.Edit{{Field: field, From: record.Text(from), To: record.Text(to)}}}
}

// documented are the clients as the README says to run them, with what makes
// them misread where a script does not see to it.
func documented(t *testing.T) map[string]client {
	all := map[string]client{}
	for name, connect := range databases(t) {
		d := connect(t)
		switch d.dialect {
		case handoff.PostgreSQL:
			base := append(append([]string(nil), d.strict[:1]...), "-X", "-v", "ON_ERROR_STOP=1", d.strict[len(d.strict)-3])
			all[name] = client{d, base, nil}
			// In those of East Asia a letter's second byte may be a backslash or a quote.
			for _, encoding := range []string{"SJIS", "LATIN1", "GBK", "BIG5", "UHC", "GB18030", "JOHAB", "SQL_ASCII"} {
				all[name+", a client in "+encoding] = client{d, base, []string{"PGCLIENTENCODING=" + encoding}}
			}
		case handoff.MariaDB:
			args := strings.Fields(os.Getenv("PALETWIN_TEST_MARIADB"))
			all[name] = client{d, append(append([]string{"mariadb"}, args[0], "--binary-mode", "--default-character-set=utf8mb4"), args[1:]...), nil}
			for _, set := range []string{"sjis", "gbk", "big5", "cp932", "eucjpms", "latin1"} {
				all[name+", a client in "+set] = client{d, append(append([]string{"mariadb"}, args[0], "--binary-mode", "--default-character-set="+set), args[1:]...), nil}
			}
		default:
			all[name] = client{d, []string{"sqlite3", "-safe", "-bail", d.strict[len(d.strict)-1]}, nil}
		}
	}
	return all
}

type client struct {
	*database
	command []string
	env     []string
}

func (c *client) run(t *testing.T, script string) string {
	dir := t.TempDir()
	cmd := exec.Command(c.command[0], c.command[1:]...)
	cmd.Dir, cmd.Env, cmd.Stdin = dir, append(os.Environ(), c.env...), strings.NewReader(script)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s\n%s", out, script)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left, "a value was carried out")
	return string(out)
}

// hexOf reads a column as hexadecimal bytes, by key.
func (c *client) hexOf(t *testing.T, column string) map[string]string {
	expr := map[handoff.Dialect]string{handoff.PostgreSQL: "encode(convert_to(%s, 'UTF8'), 'hex')", handoff.MariaDB: "lower(hex(%s))", handoff.SQLite: "lower(hex(cast(%s as blob)))"}[c.dialect]
	sep := map[handoff.Dialect]string{handoff.PostgreSQL: "k || '=' || coalesce(" + expr + ",'NULL')", handoff.MariaDB: "concat(k, '=', coalesce(" + expr + ",'NULL'))", handoff.SQLite: "k || '=' || iif(" + column + " IS NULL,'NULL'," + expr + ")"}[c.dialect]
	out := c.must(t, "SELECT "+fmt.Sprintf(sep, column)+" FROM hostile;\n")
	all := map[string]string{}
	for line := range strings.Lines(strings.ReplaceAll(out, "\r", "")) {
		if k, v, ok := strings.Cut(strings.Trim(strings.TrimSpace(line), `"`), "="); ok {
			all[k] = v
		}
	}
	return all
}

func hexed(s string) string { return hex.EncodeToString([]byte(s)) }

var hostile = []string{"café", "あ", "ソ'", "表\\", `a\`, `\'; SELECT 1;--`, "a\rb", "a\r\nb", "\r", "a\nb\n", "a\x1ab", "a\x1bb", "a\x01b", "tab\there", `\! touch owned`, "x'\n\\! touch owned\n'", "x\n\\! touch owned\n", "x\n.shell touch owned\n", "\n.shell touch owned",
	"x\nsystem touch owned\n", "\n\\. owned\n", "DELIMITER $$", "x\ndelimiter $$\n", ":k", ":'k'", "$$", "$1", "/*!50000 DROP TABLE hostile */", "-- x", "'; DROP TABLE hostile; --", "\u0085", "\u2028", "\ufeff", "😀", "NULL", "", " ", "%s %d"}

// Whatever stands in a text, and however the client is set: it arrives, to the
// letter, and nothing of it is carried out; what undoes it puts all back.
func TestSQLTextsArriveToTheLetter(t *testing.T) {
	for name, c := range documented(t) {
		t.Run(name, func(t *testing.T) {
			column := map[handoff.Dialect]string{handoff.PostgreSQL: `"a.b"`, handoff.MariaDB: "`a.b`", handoff.SQLite: `"a.b"`}[c.dialect]
			typ := map[handoff.Dialect]string{handoff.PostgreSQL: "TEXT", handoff.MariaDB: "VARCHAR(400) CHARACTER SET utf8mb4", handoff.SQLite: "TEXT"}[c.dialect]
			key := map[handoff.Dialect]string{handoff.PostgreSQL: "TEXT", handoff.MariaDB: "VARCHAR(80) CHARACTER SET utf8mb4", handoff.SQLite: "TEXT"}[c.dialect]
			c.must(t, "DROP TABLE IF EXISTS hostile;\nCREATE TABLE hostile (k "+key+" PRIMARY KEY, "+column+" "+typ+");\n")
			var steps []target.Step
			export := "k,a.b\n"
			want := map[string]string{}
			for i, text := range hostile {
				k := strconv.Itoa(i)
				c.must(t, "INSERT INTO hostile VALUES ('"+k+"', 'before');\n")
				export += k + ",before\n"
				steps = append(steps, amendOf(k, "a.b", "before", text))
				if want[k] = hexed(text); text == "" {
					want[k] = "NULL"
				}
			}
			before := c.hexOf(t, column)
			forward, back, readMe := scriptOf(t, c.dialect, nil, "aids.csv", export, "hostile", steps...)
			out := c.run(t, forward)
			assert.Equal(t, want, c.hexOf(t, column))
			said := "records carried out: "
			assert.Contains(t, out, said+strconv.Itoa(len(hostile)))
			assert.Contains(t, readMe, said)
			c.run(t, back)
			assert.Equal(t, before, c.hexOf(t, column))
		})
	}
}

// A database in another encoding stores the letters that it has.
func TestSQLIntoALatin1Database(t *testing.T) {
	all := databases(t)
	d := all["postgresql"](t)
	d.must(t, "DROP DATABASE IF EXISTS latin1;\n")
	d.must(t, "CREATE DATABASE latin1 ENCODING 'LATIN1' LC_COLLATE 'C' LC_CTYPE 'C' TEMPLATE template0;\n")
	at := len(d.strict) - 3
	d.strict[at] = strings.Replace(d.strict[at], "dbname=paletwin", "dbname=latin1", 1)
	d.must(t, "CREATE TABLE hostile (k TEXT PRIMARY KEY, v TEXT); INSERT INTO hostile VALUES ('1', 'tea');\n")
	forward, _, _ := scriptOf(t, d.dialect, nil, "aids.csv", "k,v\n1,tea\n", "public.hostile", amendOf("1", "v", "tea", "café"))
	for _, encoding := range []string{"", "LATIN1", "UTF8"} {
		t.Setenv("PGCLIENTENCODING", encoding)
		d.must(t, "UPDATE hostile SET v = 'tea';\n")
		d.must(t, forward)
		assert.Equal(t, "4 63616665cc81\n", strings.Replace(d.must(t, "SELECT length(v) || ' ' || replace(encode(convert_to(v, 'UTF8'), 'hex'), 'c3a9', '65cc81') FROM hostile;\n"), "\r", "", -1))
	}
}

// Null and the empty text are two, forward and back, where the export or the
// layout tells them apart.
func TestSQLNullAndEmpty(t *testing.T) {
	for name, connect := range databases(t) {
		t.Run(name, func(t *testing.T) {
			c := client{database: connect(t)}
			fill := func() {
				key := map[handoff.Dialect]string{handoff.MariaDB: "VARCHAR(80)"}[c.dialect]
				if key == "" {
					key = "TEXT"
				}
				c.must(t, "DROP TABLE IF EXISTS hostile;\nCREATE TABLE hostile (k "+key+" PRIMARY KEY, v "+key+");\n"+
					"INSERT INTO hostile VALUES ('1', 'a'), ('2', NULL), ('3', ''), ('4', 'b');\n")
			}
			null := func(k string, from, to record.Value) target.Step {
				s := amendOf(k, "v", "", "")
				s.Fields[0].From, s.Fields[0].To = from, to
				return s
			}
			// A JSON export knows which is which.
			fill()
			before := c.hexOf(t, "v")
			forward, back, _ := scriptOf(t, c.dialect, nil, "aids.jsonl", `{"k":"1","v":"a"}`+"\n"+`{"k":"2","v":null}`+"\n"+`{"k":"3","v":""}`+"\n"+`{"k":"4","v":"b"}`+"\n", "hostile",
				null("1", record.Text("a"), record.Null()), null("2", record.Null(), record.Text("x")), null("3", record.Text(""), record.Text("y")), null("4", record.Text("b"), record.Text("")))
			c.must(t, forward)
			assert.Equal(t, map[string]string{"1": "NULL", "2": hexed("x"), "3": hexed("y"), "4": ""}, c.hexOf(t, "v"))
			c.must(t, back)
			assert.Equal(t, before, c.hexOf(t, "v"))

			// A CSV export does not; what empties a field, the layout says.
			l, err := layout.Parse("t.yaml", []byte("key: k\nfields:\n  k: text\n  v: {kind: text, clears_to: \"\"}\n"), nil)
			require.NoError(t, err)
			plain, err := layout.Parse("t.yaml", []byte("key: k\nfields:\n  k: text\n  v: {kind: text, null: \"\\\\N\"}\n"), nil)
			require.NoError(t, err)
			for _, x := range []struct {
				l    *layout.Layout
				to   string
				want string
			}{{l, "", ""}, {plain, "", "NULL"}, {plain, `\N`, "NULL"}, {nil, "", "NULL"}} {
				fill()
				forward, back, _ = scriptOf(t, c.dialect, x.l, "aids.csv", "k,v\n1,a\n2,\n3,\n4,b\n", "hostile", amendOf("1", "v", "a", x.to), amendOf("2", "v", "", "x"), amendOf("3", "v", "", "y"))
				c.must(t, forward)
				assert.Equal(t, map[string]string{"1": x.want, "2": hexed("x"), "3": hexed("y"), "4": hexed("b")}, c.hexOf(t, "v"))
				c.must(t, back)
				assert.Equal(t, hexed("a"), c.hexOf(t, "v")["1"])
			}
		})
	}
}

// A unique value that a record gives up is free for the one that takes it, and
// a record that moved is named.
func TestSQLReusesUniqueValues(t *testing.T) {
	l, err := layout.Parse("t.yaml", []byte("key: k\nfields:\n  k: text\n  v: {kind: text, unique: true}\n"), nil)
	require.NoError(t, err)
	for name, connect := range databases(t) {
		t.Run(name, func(t *testing.T) {
			c := client{database: connect(t)}
			typ := "VARCHAR(80)"
			fill := func() {
				c.must(t, "DROP TABLE IF EXISTS hostile;\nCREATE TABLE hostile (k "+typ+" PRIMARY KEY, v "+typ+" UNIQUE);\nINSERT INTO hostile VALUES ('1', 'a'), ('2', 'b'), ('3', 'c');\n")
			}
			whole := func(act changeset.Act, k, v string) target.Step {
				return target.Step{ID: changeset.MakeID("aids", record.NewKey(k), act), Act: act, Key: record.NewKey(k), Record: record.Record{{Name: "k", Value: record.Text(k)}, {Name: "v", Value: record.Text(v)}}}
			}
			for _, steps := range [][]target.Step{
				{whole(changeset.Delete, "1", "a"), whole(changeset.Add, "9", "a")},
				{amendOf("1", "v", "a", "z"), whole(changeset.Add, "9", "a")},
				{whole(changeset.Delete, "1", "a"), amendOf("2", "v", "b", "a")},
			} {
				fill()
				before := c.hexOf(t, "v")
				forward, back, _ := scriptOf(t, c.dialect, l, "aids.csv", "k,v\n1,a\n2,b\n3,c\n", "hostile", steps...)
				c.must(t, forward)
				now := c.hexOf(t, "v")
				var values []string
				for _, v := range now {
					values = append(values, v)
				}
				sort.Strings(values)
				assert.Contains(t, values, hexed("a"))
				c.must(t, back)
				assert.Equal(t, before, c.hexOf(t, "v"))
			}
			fill()
			forward, _, _ := scriptOf(t, c.dialect, l, "aids.csv", "k,v\n1,a\n2,b\n3,c\n", "hostile", amendOf("1", "v", "a", "x"), amendOf("3", "v", "c", "y"))
			c.must(t, "UPDATE hostile SET v = 'theirs' WHERE k = '3';\n")
			out, err := c.database.run(c.strict, forward)
			assert.Error(t, err)
			assert.Contains(t, out, "no longer as exported: 3", "the record that moved is named")
			assert.NotContains(t, out, "exported: 1")
			assert.NotContains(t, out, "carried out")
			assert.Equal(t, hexed("a"), c.hexOf(t, "v")["1"])
		})
	}
}
