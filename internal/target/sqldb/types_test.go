package sqldb

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	carry "paletwin/internal/run"

	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// awkward are types whose values are easily made something else of on the way, each with
// values as expressions of SQL.
var awkward = map[string][][]string{
	"postgresql": {
		{"float8", "0.1", "1e-300", "'NaN'", "'-Infinity'", "0.30000000000000004", "-0.0"},
		{"float4", "0.1", "16777217", "3.4e38", "1.17549435e-38"},
		{"numeric", "1.10", "1.1", "'NaN'", "123456789012345678901234567890.123456789", "1e-20"},
		{"numeric(12,3)", "1", "2.5", "-0.001"},
		{"json", `'{"b": 1,  "a": [1,2]}'`, `'[ 1.0, "x" ]'`, "'null'", `'"\u00e9"'`},
		{"jsonb", `'{"b": 1,  "a": [1,2]}'`, "'null'", "'1.10'"},
		{"text[]", `ARRAY['a,b', NULL, '', 'NULL', '{"x"}', E'li\nne']`, "'{}'", `ARRAY[['1','2'],['3','4']]`},
		{"int4[]", "'[0:2]={1,2,NULL}'", "'{}'"},
		{"mood", "'calm'", "'it''s rough'", "'sehr hoch, \"7\"'"},
		{"char(5)", "'ab'", "'  x'", "''"},
		{"varchar(10)", "' ab '", "''", "'a' || chr(9) || 'b'"},
		{"bytea", `'\x00ff'`, `''`, `'\\134'::bytea`},
		{"boolean", "true", "false"},
		{"date", "'2026-02-28'", "'infinity'", "'0044-03-15 BC'"},
		{"timestamptz", "'2026-10-25 00:30:00+00'", "'2026-10-25 01:30:00.123456+00'", "'infinity'"},
		{"timestamp", "'2026-10-25 02:30:00'", "'0001-01-01'"},
		{"timetz", "'12:00:00+05:30'", "'24:00:00-08'"},
		{"interval", "'1 mon -3 days 04:05:06.7'", "'-1 year'", "'0'"},
		{"uuid", "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'"},
		{"inet", "'192.168.0.1/24'", "'::1'"},
		{"bit(7)", "B'1010101'", "B'0000001'"},
		{"varbit", "B'101'", "B''"},
		{"money", "'12.34'", "'-1000.00'"},
		{"xml", "'<a> b </a>'"},
		{"int4range", "'[1,5)'", "'empty'"},
		{"point", "'(0.1,2)'"},
		{"tsvector", "'a fat cat'", "'''it''''s'':1'"},
		{"oid", "12", "4294967295"},
		{"name", "'pg'"},
		{`"char"`, "'x'"},
	},
	"mariadb": {
		{"float", "0.1", "16777216", "3.4e38", "-1.5"},
		{"double", "0.1", "1e-300", "0.30000000000000004", "-0.0"},
		{"decimal(30,10)", "1.10", "-0.0000000001", "12345678901234567890.5"},
		{"json", `'{"b": 1,  "a": [1,2]}'`, "'null'", `'"x"'`},
		{"enum('calm','it''s rough','a,b')", "'calm'", "'it''s rough'", "'a,b'"},
		{"set('a','b','c')", "'a,c'", "''", "'b'"},
		{"char(5)", "'ab'", "'  x'", "''"},
		{"varchar(10)", "' ab '", "''", "'a\\tb'"},
		{"varchar(10) CHARACTER SET latin1", "'Öde'", "'a'"},
		{"varbinary(8)", "x'00ff'", "''", "x'5c27'"},
		{"binary(3)", "x'01'", "'abc'"},
		{"blob", "x'00'", "''"},
		{"bit(9)", "b'101'", "b'100000001'"},
		{"bit(1)", "1", "0"},
		{"tinyint(1)", "1", "0", "5"},
		{"bigint unsigned", "18446744073709551615", "0"},
		{"int(5) zerofill", "42", "7"},
		{"date", "'2026-02-28'", "'0000-00-00'", "'2026-00-00'", "'2026-02-31'"},
		{"datetime(6)", "'2026-10-25 02:30:00.123456'", "'0000-00-00'"},
		{"timestamp NULL", "'2026-10-25 00:30:00'", "'1970-01-01 00:00:01'"},
		{"time(3)", "'-838:59:59.000'", "'00:00:00.123'"},
		{"year", "2026", "0"},
		{"uuid", "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'"},
		{"inet6", "'::1'"},
		{"point", "point(0.1, 2)"},
		{"longtext COLLATE utf8mb4_general_ci", "'A'", "'a'", "'ä'"},
	},
	"sqlite": {
		{"", "1", "'1'", "1.0", "x'01'", "'x''01'''", "''", "'''a'''", "'NULL'", "9223372036854775807", "0.1", "1e300", "9e999", "-9e999"},
		{"BLOB", "x''", "'text'", "2", "-0.5"},
		{"TEXT", "'007'", "'1.0'", "x'00ff'", "'X''00FF'''", "''''", "'''quoted'''", "'X''zz'''"},
		{"INTEGER", "7", "'seven'", "x'07'", "'7 '", "-9223372036854775808", "1.5"},
		{"REAL", "7", "'seven'", "0.1", "1e-300", "0.30000000000000004"},
		{"NUMERIC", "1.10", "'1.10'", "'1e3'", "9007199254740993", "'12345678901234567890'"},
		{"DATE", "'2026-10-25'", "20261025", "2461339.5"},
		{"DATETIME", "'2026-10-25 02:30:00'", "1792895400"},
		{"BOOLEAN", "1", "0", "'true'"},
	},
}

// taken is what is taken of a table.
func (d *db) taken(table string) string {
	var b bytes.Buffer
	t := d.open(table, Options{})
	_, err := t.Take(context.Background(), &b)
	require.NoError(d.t, err)
	require.NoError(d.t, t.Close())
	return b.String()
}

// dossier is made of two states of a table, with everything approved.
func dossier(t *testing.T, key, before, after string) *desk.Dossier {
	d, err := desk.Find(disk.OS{}, account.Account{}, t.TempDir(), "")
	require.NoError(t, err)
	x, _, err := d.Compare(context.Background(), &desk.Comparison{Title: "types", By: "lina", Now: time.Now(),
		Snapshot: desk.Source{Name: "s.csv", Stream: strings.NewReader(before), Taken: true},
		Edited:   &desk.Source{Name: "e.csv", Stream: strings.NewReader(after), Taken: true},
		Options:  compare.Options{RecordSet: "things", Key: []string{key}, OtherRegister: true, SlipSearch: compare.SlipSearch{Slips: compare.SlipsOff}, Proposals: compare.Proposals{Blank: compare.Clear, Missing: compare.Asked, AllMissing: true}}})
	require.NoError(t, err)
	approveAll(t, x)
	return x
}

func approveAll(t *testing.T, x *desk.Dossier) {
	_, err := x.Decide(&desk.Order{Decision: changeset.Approve, Held: true, By: "lina", When: time.Now()})
	require.NoError(t, err)
}

// there and back: a dossier is carried out, and undone, with backups of all records and of
// those alone that are touched.
func (d *db) thereAndBack(t *testing.T, table, key, after string) {
	for _, touched := range []bool{false, true} {
		d.oneWayAndBack(t, table, key, after, carry.Options{Touched: touched})
	}
}

func (d *db) oneWayAndBack(t *testing.T, table, key, after string, o carry.Options) {
	before := d.taken(table)
	x := dossier(t, key, before, after)
	tgt := d.writable(table, Options{Key: []string{key}, Of: d.schemaOf(x)})
	apply := func(x *desk.Dossier) {
		rep, err := carry.Apply(context.Background(), &carry.Job{Dossier: x, Target: tgt, By: "lina", Now: time.Now, Options: o})
		require.NoError(t, err)
		for _, s := range rep.Attempted {
			assert.Equal(t, carry.Done, s.Outcome, "%s: %s", s.Key, s.Reason)
		}
		if rep.Verify != nil {
			assert.True(t, rep.Verify.Holds(), "%+v", rep.Verify.Differences)
		}
	}
	apply(x)
	assert.Equal(t, after, d.taken(table))
	back, err := carry.Rollback(context.Background(), x, tgt, carry.Undo{By: "lina", Now: time.Now})
	require.NoError(t, err)
	approveAll(t, back)
	apply(back)
	assert.Equal(t, before, d.taken(table))
	require.NoError(t, tgt.Close())
}

func TestAwkwardTypesGoThereAndBack(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		if d.is("postgresql") {
			d.exec("DROP TYPE IF EXISTS mood CASCADE")
			d.exec(`CREATE TYPE mood AS ENUM ('calm', 'it''s rough', 'sehr hoch, "7"')`)
		}
		for _, typ := range awkward[d.a.Scheme] {
			t.Run(typ[0], func(t *testing.T) {
				d := *d
				d.t = t
				values := append(typ[1:], "NULL")
				table := d.table("(k integer NOT NULL PRIMARY KEY, c " + typ[0] + ")")
				for i, v := range values {
					if d.is("postgresql") {
						v = "(" + v + ")::" + typ[0]
					}
					d.exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, %s)", table, 10+i, v))
				}
				stored := func() [][]string {
					if d.is("sqlite") { // whose values have classes besides
						return d.rows("SELECT k, typeof(c), quote(c) FROM " + table + " ORDER BY k")
					}
					return nil
				}
				before := stored()
				d.thereAndBack(t, table, "k", rotated(d.taken(table)))
				assert.Equal(t, before, stored())
			})
		}
	})
}

// rotated is a table in which each record has the values of the next.
func rotated(csv string) string {
	lines := rows(csv)
	var keys, rest []string
	for _, l := range lines[1:] {
		at, quoted := 0, false
		for ; quoted || l[at] != ','; at++ {
			quoted = quoted != (l[at] == '"')
		}
		keys, rest = append(keys, l[:at]), append(rest, l[at+1:])
	}
	out := lines[0] + "\n"
	for i, k := range keys {
		out += k + "," + rest[(i+1)%len(rest)] + "\n"
	}
	return out
}

// rows parts CSV into its rows, as they stand.
func rows(csv string) (all []string) {
	quoted := false
	from := 0
	for i := range len(csv) {
		switch {
		case csv[i] == '"':
			quoted = !quoted
		case csv[i] == '\n' && !quoted:
			all = append(all, csv[from:i])
			from = i + 1
		}
	}
	return all
}

// hostile are texts that are more than texts to somebody.
func hostile(r *rand.Rand) []string {
	all := []string{"'", "''", `"`, `""`, "`", `\`, `\'`, "';--", "\"; DROP TABLE x;--", "$1", "$$", "?", "%s", ":a", "@a", "{}", `{"a":1}`, `{a,b}`, "NULL", "null", `\N`, "''''", "X'41'", "'x'",
		"#", "/*", "*/", "--", "a.b", " a", "a ", "\t", "a\nb", "a\r\nb", "\u00a0", "é", "e\u0301", "ß", "İ", "ſ", "漢字", "😀", "\u202e", "\ufeff", "0", "-0", "1e3", "true", "t", "[1]", "x,y", "x;y", "=1+1", "@SUM(A1)", "\x01", "\x7f", "\u2028", "A", "a"}
	letters := []rune("'\"`\\;,-$?%{}[]().#\n\té漢😀aA0 ")
	for len(all) < 200 {
		var b strings.Builder
		for range 1 + r.IntN(12) {
			b.WriteRune(letters[r.IntN(len(letters))])
		}
		all = append(all, b.String())
	}
	return all
}

func TestHostileTexts(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 0))
	texts := hostile(r)
	onEach(t, func(t *testing.T, d *db) {
		t.Run("as values and keys", func(t *testing.T) {
			d := *d
			d.t = t
			binary := map[string]string{"mariadb": " CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin", "sqlite": "", "postgresql": ""}[d.a.Scheme]
			table := d.table("(k varchar(60)" + binary + " NOT NULL PRIMARY KEY, v varchar(60)" + binary + ")")
			seen := map[string]bool{}
			for i, k := range texts {
				if !seen[k] && strings.TrimSpace(k) != "" {
					d.exec("INSERT INTO "+table+" VALUES ("+d.param(1)+", "+d.param(2)+")", k, texts[(i+7)%len(texts)])
				}
				seen[k] = true
			}
			d.thereAndBack(t, table, "k", rotated(d.taken(table)))
		})
		t.Run("as names", func(t *testing.T) {
			d := *d
			d.t = t
			for i, name := range texts {
				if i%9 != 0 || strings.TrimSpace(name) == "" || strings.ContainsAny(name, "\x00\n\r") || strings.TrimSpace(name) != name {
					continue
				}
				id := d.e.ident(name)
				if d.is("mariadb") && strings.IndexFunc(name, func(r rune) bool { return r > 0xffff }) >= 0 {
					continue // it has no such names
				}
				d.create(name+"x", "("+id+" varchar(20) NOT NULL PRIMARY KEY, "+d.e.ident(name+"2")+" varchar(20))")
				d.exec("INSERT INTO "+d.e.ident(name+"x")+" VALUES ("+d.param(1)+", "+d.param(2)+")", "1", "a")
				d.exec("INSERT INTO "+d.e.ident(name+"x")+" VALUES ("+d.param(1)+", "+d.param(2)+")", "2", "b")
				d.thereAndBack(t, name+"x", name, rotated(d.taken(name+"x")))
			}
		})
	})
}
