package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/officetest"
	"paletwin/core/table/open"
	"paletwin/internal/target"
)

const (
	manyRecords = 50_000
	manyLayout  = `record_set: aids
key: aid_no
fields:
  aid_no: text
  name: text
  depot: text
  range_nm: {kind: decimal, scale: 1}
  next_service: date
outward: {blank: keeps, clear: "~", date: dd.mm.yyyy}
`
)

// many makes a folder with a register of 50,000 records and its edited copy:
// a tenth amended in one of three ways, some added, some deleted.
func many(t *testing.T) string {
	dir := t.TempDir()
	var a, b strings.Builder
	for _, w := range []*strings.Builder{&a, &b} {
		w.WriteString("aid_no,name,depot,range_nm,next_service\n")
	}
	row := func(w *strings.Builder, i int, depot, reach, service string) {
		fmt.Fprintf(w, "%06d,\"Lantern Rock, no. %d “é”\",%s,%s,%s\n", i, i, depot, reach, service)
	}
	for i := range manyRecords {
		row(&a, i, "D03", "8.0", "2027-04-01")
		switch i % 40 {
		case 1:
			row(&b, i, "D07", "8.0", "2027-04-01")
		case 2, 12:
			row(&b, i, "D07", "9.5", "2027-05-02")
		case 3:
			row(&b, i, "D03", "8.0", "")
		case 4:
			if i%400 != 4 {
				row(&b, i, "D03", "8.0", "2027-04-01")
			}
		default:
			row(&b, i, "D03", "8.0", "2027-04-01")
		}
	}
	for i := range 120 {
		row(&b, manyRecords+i, "D01", "3.0", "2027-04-01")
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "layouts"), 0o755))
	for name, text := range map[string]string{"aids.csv": a.String(), "edited.csv": b.String(), "layouts/aids.yaml": manyLayout} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	for _, args := range [][]string{{"compare", "aids.csv", "edited.csv", "--missing", "delete", "--blank", "clear", "--with", "slips=off", "--title", "many"}, {"approve", "1", "--all", "--held"}} {
		out, code := command(t, program, dir, nil, args...)
		require.Zero(t, code, out)
	}
	return dir
}

// Every form and shape on 50,000 records: each file says as many records as
// README.txt and the journal, and reads back with the tool's own readers, with
// python3's csv and with LibreOffice, where these are.
func TestHandoffOfManyRecords(t *testing.T) {
	dir := many(t)
	require.NoError(t, os.CopyFS(filepath.Join(dir, "kept"), os.DirFS(filepath.Join(dir, "dossiers/0001-many"))))
	for _, form := range []string{"csv", "xlsx", "jsonl", "sql", "json-patch"} {
		for _, shape := range []string{"grouped", "sparse", "per-field", "full"} {
			more := []string{"--with", "shape=" + shape}
			switch {
			case form == "sql" && shape == "grouped":
				more = []string{"--with", "dialect=sqlite"}
			case form == "json-patch" && shape == "grouped":
				more = nil
			case form == "sql" || form == "json-patch":
				continue // they have no shapes
			}
			t.Run(form+" "+shape, func(t *testing.T) {
				dossier := filepath.Join(dir, "dossiers/0001-many")
				require.NoError(t, os.RemoveAll(dossier))
				require.NoError(t, os.CopyFS(dossier, os.DirFS(filepath.Join(dir, "kept"))))
				out, code := command(t, program, dir, nil, append([]string{"handoff", "1", "--current", "aids.csv", "--form", form, "--with", "max-records=2000", "--json"}, more...)...)
				require.Zero(t, code, out)
				var said struct {
					Folder string
					Loads  []target.Load
					Steps  struct{ Unknown int }
				}
				require.NoError(t, json.Unmarshal([]byte(out), &said), out)
				assert.Equal(t, 1250*4+125+120, said.Steps.Unknown)
				checkLoads(t, said.Folder, form, said.Loads)
			})
		}
	}
}

// checkLoads reads load files back.
func checkLoads(t *testing.T, folder, form string, loads []target.Load) {
	readMe, err := os.ReadFile(filepath.Join(folder, "README.txt"))
	require.NoError(t, err)
	var tables []string
	for _, l := range loads {
		assert.Regexp(t, fmt.Sprintf(`(?m)^  %s +%d  %s$`, strings.ReplaceAll(l.Name, "+", `\+`), l.Records, l.Acts), string(readMe))
		assert.LessOrEqual(t, l.Records, 2000)
		file := filepath.Join(folder, filepath.FromSlash(l.Name))
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		switch form {
		case "sql":
			assert.Equal(t, l.Records, strings.Count(string(data), "SELECT changes(),"))
		case "json-patch":
			assert.Equal(t, l.Records, strings.Count(string(data), "\n"))
		default:
			assert.Equal(t, l.Records, rows(t, file, data), l.Name)
			tables = append(tables, file)
		}
	}
	switch form {
	case "csv":
		checkWithPython(t, tables, loads)
	case "xlsx":
		officetest.Need(t)
		shown, err := os.ReadFile(officetest.Convert(t, tables[0], "en-US", "", officetest.Shown))
		require.NoError(t, err)
		assert.Equal(t, loads[0].Records, rows(t, "shown.csv", shown))
		assert.Contains(t, string(shown), "050000", "no zero is lost")
	}
}

// rows counts the records of a table with the tool's own readers.
func rows(t *testing.T, name string, data []byte) (n int) {
	m, err := open.Open(filepath.Base(name), data, table.Options{})
	require.NoError(t, err)
	for sc := csv.Body(m); ; n++ {
		ok, err := sc.Next()
		require.NoError(t, err)
		if !ok {
			return n
		}
	}
}

// checkWithPython counts the records of CSV files with python3's reader.
func checkWithPython(t *testing.T, files []string, loads []target.Load) {
	if _, err := exec.LookPath("python3"); err != nil {
		t.Log("python3 is not there; its reader was not asked")
		return
	}
	script := "import csv,sys\nfor f in sys.argv[1:]:\n rows=list(csv.DictReader(open(f,newline='',encoding='utf-8')))\n" +
		" assert all(None not in r and None not in r.values() for r in rows)\n print(len(rows))\n"
	out, err := exec.Command("python3", append([]string{"-c", script}, files...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	for i, n := range strings.Fields(string(out)) {
		assert.Equal(t, fmt.Sprint(loads[i].Records), n, loads[i].Name)
	}
}
