package handoff_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/handoff"
	"paletwin/internal/run"
)

// database is a real database, worked on by its own client.
type database struct {
	dialect handoff.Dialect
	strict  []string // the client, that stops at the first error
	lax     []string // the client, that goes on after errors
	create  string
	select_ string
}

// databases returns those that are there. A test that needs one which is not
// is skipped with the reason, and fails where they are required.
func databases(t *testing.T) map[string]func(t *testing.T) *database {
	need := func(t *testing.T, client, env string) string {
		_, err := exec.LookPath(client)
		said := os.Getenv(env)
		if err == nil && (said != "" || env == "") {
			return said
		}
		reason := "no " + client + " and server to test with: make servers starts them"
		if os.Getenv("PALETWIN_TEST_SERVERS") == "required" {
			t.Fatal(reason)
		}
		t.Skip(reason)
		return ""
	}
	const columns = "k VARCHAR(20) NOT NULL PRIMARY KEY, name VARCHAR(200), due DATE, seasonal BOOLEAN, fee DECIMAL(12,2)"
	return map[string]func(t *testing.T) *database{
		"postgresql": func(t *testing.T) *database {
			c := need(t, "psql", "PALETWIN_TEST_POSTGRES")
			base := []string{"psql", "-X", "-q", "-A", "-t", "-F", ",", c}
			return &database{handoff.PostgreSQL, append(base, "-v", "ON_ERROR_STOP=1"), base,
				"DROP TABLE IF EXISTS aids; CREATE TABLE aids (" + columns + ");\n",
				"SELECT k, coalesce(name,''), coalesce(due::text,''), coalesce(seasonal::text,''), coalesce(fee::text,'') FROM aids"}
		},
		"mariadb": func(t *testing.T) *database {
			base := append([]string{"mariadb"}, strings.Fields(need(t, "mariadb", "PALETWIN_TEST_MARIADB"))...)
			base = append(base, "-B", "-N", "-r")
			return &database{handoff.MariaDB, base, append(append([]string(nil), base...), "--force"),
				"DROP TABLE IF EXISTS aids; CREATE TABLE aids (" + columns + ") ENGINE=InnoDB;\n",
				"SELECT CONCAT_WS(',', k, coalesce(name,''), coalesce(due,''), coalesce(if(seasonal,'true','false'),''), coalesce(fee,'')) FROM aids WHERE seasonal IS NOT NULL UNION " +
					"SELECT CONCAT_WS(',', k, coalesce(name,''), coalesce(due,''), '', coalesce(fee,'')) FROM aids WHERE seasonal IS NULL"}
		},
		"sqlite": func(t *testing.T) *database {
			need(t, "sqlite3", "")
			file := filepath.Join(t.TempDir(), "register.sqlite")
			return &database{handoff.SQLite, []string{"sqlite3", "-bail", "-csv", file}, []string{"sqlite3", "-csv", file},
				"DROP TABLE IF EXISTS aids; CREATE TABLE aids (k TEXT NOT NULL PRIMARY KEY, name TEXT, due TEXT, seasonal TEXT, fee TEXT);\n",
				"SELECT k || ',' || coalesce(name,'') || ',' || coalesce(due,'') || ',' || coalesce(seasonal,'') || ',' || coalesce(fee,'') FROM aids"}
		},
	}
}

// run runs a script; what the client prints comes back.
func (d *database) run(client []string, script string) (string, error) {
	c := exec.Command(client[0], client[1:]...)
	c.Stdin = strings.NewReader(script)
	out, err := c.CombinedOutput()
	return string(out), err
}

func (d *database) must(t *testing.T, script string) string {
	out, err := d.run(d.strict, script)
	require.NoError(t, err, "%s\n%s", out, script)
	return out
}

// records are the table's records, sorted, as a register has them.
func (d *database) records(t *testing.T) []string {
	out := strings.ReplaceAll(d.must(t, d.select_+";\n"), `"`, "")
	lines := strings.Split(strings.TrimRight(out, "\n"), "\n")
	sort.Strings(lines)
	return lines
}

// fill puts a register into the table.
func (d *database) fill(t *testing.T, rows []string) {
	script := d.create
	for _, r := range rows {
		var values []string
		for i, v := range strings.Split(r, ",") {
			switch {
			case v == "":
				values = append(values, "NULL")
			case i == 3 && d.dialect != handoff.SQLite:
				values = append(values, strings.ToUpper(v))
			default:
				values = append(values, "'"+strings.ReplaceAll(strings.ReplaceAll(v, "'", "''"), `\`, map[bool]string{true: `\\`, false: `\`}[d.dialect == handoff.MariaDB])+"'")
			}
		}
		script += "INSERT INTO aids VALUES (" + strings.Join(values, ", ") + ");\n"
	}
	d.must(t, script)
}

var (
	sqlBefore = []string{
		"00001,Old Pier,2026-10-06,true,12.50",
		"00002,St Brannock's \\ Nags,,false,302.64",
		"00003,,2027-02-03,,",
		"00004,Tarn Mouth,2026-10-06,true,0.00",
		"00005,gone,2026-10-06,true,10.00",
	}
	sqlAfter = []string{
		"00001,Old pier,2026-11-06,true,13.00", // only the case of a letter changes
		"00002,St Brannock's \\ Head,,true,302.64",
		"00003,Åsa's — “light”,,,1234567890.12",
		"00004,,2026-10-06,,",
		"00006,new; DROP TABLE aids;--,2026-10-06,false,5.00",
	}
)

func csvOf(rows []string) []byte {
	return []byte("k,name,due,seasonal,fee\n" + strings.Join(rows, "\n") + "\n")
}

// script hands the change off in a dialect, and returns what carries it out
// and what undoes it.
func script(t *testing.T, dialect handoff.Dialect) (forward, back string) {
	o := newOffice(t, t.TempDir(), csvOf(sqlBefore), "")
	d := o.compare(csvOf(sqlAfter))
	folder, rep := o.handOff(d, handoff.Options{Form: handoff.SQL, Dialect: dialect}, run.Options{})
	require.Equal(t, 6, rep.Steps.Unknown)
	read := func(dir string) string {
		b, err := os.ReadFile(filepath.Join(folder, dir, "01-changes.sql"))
		require.NoError(t, err)
		return string(b)
	}
	return read(handoff.Forward), read(handoff.Back)
}

// The script carries all out and its twin undoes it, in every database.
func TestSQLForwardThenBack(t *testing.T) {
	for name, connect := range databases(t) {
		t.Run(name, func(t *testing.T) {
			d := connect(t)
			forward, back := script(t, d.dialect)
			d.fill(t, sqlBefore)
			before := d.records(t)
			assert.Equal(t, sqlBefore, before, "the table has the register")
			d.must(t, forward)
			assert.Equal(t, sqlAfter, d.records(t))
			_, err := d.run(d.strict, forward)
			assert.Error(t, err, "it is not carried out twice")
			assert.Equal(t, sqlAfter, d.records(t))
			d.must(t, back)
			assert.Equal(t, before, d.records(t))
		})
	}
}

// putRight undoes the stale cases in which the table cannot be read.
var putRight = map[string]string{
	"a column is gone":  "ALTER TABLE aids RENAME COLUMN other TO seasonal;\n",
	"the table is gone": "ALTER TABLE elsewhere RENAME TO aids;\n",
}

// One record that has moved, by a letter's case or a cent, or that is gone or
// there already, rolls everything back, whether the client stops at an error
// or goes on.
func TestSQLStaleRowRollsEverythingBack(t *testing.T) {
	for name, connect := range databases(t) {
		t.Run(name, func(t *testing.T) {
			d := connect(t)
			forward, _ := script(t, d.dialect)
			for what, stale := range map[string]string{
				"a cent":            "UPDATE aids SET fee = '12.51' WHERE k = '00001'",
				"a letter's case":   "UPDATE aids SET name = 'OLD Pier' WHERE k = '00001'",
				"filled meanwhile":  "UPDATE aids SET name = 'theirs' WHERE k = '00003'",
				"emptied":           "UPDATE aids SET fee = NULL WHERE k = '00004'",
				"deleted moved":     "UPDATE aids SET due = '2026-10-07' WHERE k = '00005'",
				"gone":              "DELETE FROM aids WHERE k = '00002'",
				"gone already":      "DELETE FROM aids WHERE k = '00005'",
				"there already":     "INSERT INTO aids (k) VALUES ('00006')",
				"a column is gone":  "ALTER TABLE aids RENAME COLUMN seasonal TO other",
				"the table is gone": "ALTER TABLE aids RENAME TO elsewhere",
			} {
				for how, client := range map[string][]string{"strict": d.strict, "lax": d.lax} {
					t.Run(what+", "+how, func(t *testing.T) {
						d.fill(t, sqlBefore)
						d.must(t, stale+";\n")
						want, back := sqlBefore, putRight[what]
						if back == "" {
							want = d.records(t)
						}
						out, err := d.run(client, forward)
						if how == "strict" {
							assert.Error(t, err)
						}
						assert.NotEmpty(t, out, "it is said")
						d.must(t, back)
						assert.Equal(t, want, d.records(t), "nothing but what the others did")
					})
				}
			}
		})
	}
}
