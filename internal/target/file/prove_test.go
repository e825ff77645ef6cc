package file_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/open"
	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/target/file"
	"paletwin/internal/target/targettest"
)

// rendered are the forms in which files hold rows, the first being the heading.
var rendered = map[string]func(t *testing.T, rows [][]string) []byte{
	"csv": func(t *testing.T, rows [][]string) []byte {
		var b bytes.Buffer
		require.NoError(t, csv.NewWriter(&b).WriteAll(rows))
		return b.Bytes()
	},
	"jsonl": func(t *testing.T, rows [][]string) []byte {
		var b bytes.Buffer
		for _, row := range rows[1:] {
			for i, c := range row {
				b.WriteByte("{,"[min(i, 1)])
				name, err := json.Marshal(rows[0][i])
				require.NoError(t, err)
				value, err := json.Marshal(c)
				require.NoError(t, err)
				b.Write(slices.Concat(name, []byte{':'}, value))
			}
			b.WriteString("}\n")
		}
		return b.Bytes()
	},
	"json": func(t *testing.T, rows [][]string) []byte {
		var b bytes.Buffer
		b.WriteString("[\n")
		for n, row := range rows[1:] {
			b.WriteString([]string{"", ",\n"}[min(n, 1)])
			for i, c := range row {
				b.WriteString([]string{"  {", ",\n   "}[min(i, 1)])
				name, err := json.Marshal(rows[0][i])
				require.NoError(t, err)
				value, err := json.Marshal(c)
				require.NoError(t, err)
				b.Write(slices.Concat(name, []byte{':', ' '}, value))
			}
			b.WriteString("}")
		}
		b.WriteString("\n]\n")
		return b.Bytes()
	},
	"ods": func(t *testing.T, rows [][]string) []byte { return document(t, rows) },
	"xlsx": func(t *testing.T, rows [][]string) []byte {
		x := excelize.NewFile()
		defer x.Close()
		for r, row := range rows {
			for c, v := range row {
				at, err := excelize.CoordinatesToCellName(c+1, r+1)
				require.NoError(t, err)
				require.NoError(t, x.SetCellStr("Sheet1", at, v))
			}
		}
		var b bytes.Buffer
		require.NoError(t, x.Write(&b))
		return b.Bytes()
	},
}

// rowsPlace is a file of rows that a colleague writes anew.
type rowsPlace struct {
	t      *testing.T
	path   string
	key    []string
	rows   [][]string
	render func(t *testing.T, rows [][]string) []byte
	keep   bool // the rows of what is deleted
}

func (p *rowsPlace) Open(t *testing.T) target.Target {
	f, err := file.Open(disk.OS{}, p.path, p.key, new(schema.Schema), table.Options{})
	require.NoError(t, err)
	if p.keep {
		f.KeepRows()
	}
	return f
}

func (p *rowsPlace) Set(t *testing.T, key, field, value string) {
	at := slices.Index(p.rows[0], field)
	for _, row := range p.rows[1:] {
		if row[0] == key {
			row[at] = value
		}
	}
	require.NoError(t, os.WriteFile(p.path, p.render(t, p.rows), 0o644))
}

func TestFilesAreProven(t *testing.T) {
	for _, name := range []string{"csv", "jsonl", "json", "xlsx", "xlsx kept", "ods", "ods kept"} {
		form, kept, _ := strings.Cut(name, " ")
		render := rendered[form]
		t.Run(name, func(t *testing.T) {
			targettest.Prove(t, targettest.Kind{
				Make: func(t *testing.T, key []string, register string) targettest.Place {
					rows, err := csv.NewReader(strings.NewReader(register)).ReadAll()
					require.NoError(t, err)
					return &rowsPlace{t, write(t, "r."+form, render(t, rows)), key, rows, render, kept != ""}
				},
				Nulls: strings.HasPrefix(name, "json"),
				Read:  func(name string, b []byte) (*table.Image, error) { return open.Open(name, b, table.Options{}) },
			})
		})
	}
}
