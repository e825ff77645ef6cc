// Package handofftest is a system that only takes files, for tests: it loads
// load files by the rules that such systems have, and answers as they do.
package handofftest

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/stretchr/testify/require"

	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/open"
)

// Importer is the system. It finds records by the first column of a file,
// makes those it does not know, takes what blank cells and its clear token mean,
// has words of its own for dates and truth, and refuses rows.
type Importer struct {
	Fields      []string // of its register, the key first
	BlankClears bool
	Clear       string
	Inward      func(field, text string) string // its words as the register has them
	Refuse      func(act, key string) string    // why a row is refused; "" takes it

	t       require.TestingT
	records map[string]map[string]string
	order   []string
	log     [][]string // key, result, message of the last load
}

// New starts a system with a register, a CSV file.
func New(t require.TestingT, register []byte) *Importer {
	i := &Importer{t: t, records: map[string]map[string]string{}, Inward: func(_, v string) string { return v }, Refuse: func(string, string) string { return "" }}
	rows := i.read("register.csv", register)
	i.Fields = rows[0]
	for _, r := range rows[1:] {
		i.put(r[0])
		for n, f := range i.Fields {
			i.records[r[0]][f] = r[n]
		}
	}
	return i
}

func (i *Importer) put(key string) map[string]string {
	if i.records[key] == nil {
		i.records[key] = map[string]string{i.Fields[0]: key}
		i.order = append(i.order, key)
	}
	return i.records[key]
}

// read reads a table with the tool's own readers: the heading and the rows. A
// cell that a JSON object does not have at all is "\x00".
func (i *Importer) read(name string, data []byte) [][]string {
	switch filepath.Ext(name) {
	case ".jsonl":
		return i.readJSON(strings.Split(strings.TrimSpace(string(data)), "\n"))
	case ".json":
		var all []json.RawMessage
		require.NoError(i.t, json.Unmarshal(data, &all), "%s", data)
		var objects []string
		for _, o := range all {
			objects = append(objects, string(o))
		}
		return i.readJSON(objects)
	}
	m, err := open.Open(name, data, table.Options{})
	require.NoError(i.t, err, name)
	rows := [][]string{m.Heading}
	for sc := csv.Body(m); ; {
		ok, err := sc.Next()
		require.NoError(i.t, err)
		if !ok {
			return rows
		}
		row := make([]string, len(m.Heading))
		for n, cell := range csv.Split(nil, sc.Raw(), m.Comma) {
			if n < len(row) {
				v, _ := csv.Value(m, cell)
				row[n] = v.String()
			}
		}
		rows = append(rows, row)
	}
}

// readJSON reads objects with the standard library, for null and what is not
// there are two things.
func (i *Importer) readJSON(objects []string) [][]string {
	var all []map[string]any
	heading := []string{"k"}
	for _, line := range objects {
		var o map[string]any
		d := json.NewDecoder(strings.NewReader(line))
		d.UseNumber()
		require.NoError(i.t, d.Decode(&o), line)
		all = append(all, o)
		for name := range o {
			if !slices.Contains(heading, name) {
				heading = append(heading, name)
			}
		}
	}
	rows := [][]string{heading}
	for _, o := range all {
		row := make([]string, len(heading))
		for n, h := range heading {
			switch v, there := o[h]; {
			case !there:
				row[n] = "\x00"
			case v == nil:
				row[n] = "\x01" // null empties
			default:
				row[n] = fmt.Sprint(v)
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// Load loads the files of a folder in the order of their names, as README.txt
// says, and then does what is to be done by hand.
func (i *Importer) Load(folder string) {
	i.log = nil
	names, err := filepath.Glob(filepath.Join(folder, "[0-9]*"))
	require.NoError(i.t, err)
	slices.Sort(names)
	for _, name := range names {
		data, err := os.ReadFile(name)
		require.NoError(i.t, err)
		i.loadFile(filepath.Base(name), data)
	}
	if data, err := os.ReadFile(filepath.Join(folder, "by-hand.csv")); err == nil {
		rows := i.read("by-hand.csv", data)
		for _, r := range rows[1:] {
			i.records[r[0]][r[1]] = r[2]
		}
	}
}

func (i *Importer) loadFile(name string, data []byte) {
	act := strings.Split(strings.TrimSuffix(name, filepath.Ext(name)), "-")[1]
	rows := i.read(name, data)
	for _, r := range rows[1:] {
		key := r[0]
		if why := i.Refuse(act, key); why != "" {
			i.log = append(i.log, []string{key, "error", why})
			continue
		}
		i.log = append(i.log, []string{key, "ok", ""})
		if act == "delete" {
			delete(i.records, key)
			i.order = slices.DeleteFunc(i.order, func(k string) bool { return k == key })
			continue
		}
		rec := i.put(key)
		for n, h := range rows[0] {
			switch v := r[n]; {
			case v == "\x00":
			case v == "\x01", i.Clear != "" && v == i.Clear:
				rec[h] = ""
			case v != "":
				rec[h] = i.Inward(h, v)
			case i.BlankClears:
				rec[h] = ""
			}
		}
	}
}

// Result is the result file of the last load.
func (i *Importer) Result() []byte {
	var b []byte
	for _, row := range append([][]string{{i.Fields[0], "result", "message"}}, i.log...) {
		b = Line(b, row)
	}
	return b
}

// Line appends a row of CSV.
func Line(b []byte, row []string) []byte {
	for n, c := range row {
		if n > 0 {
			b = append(b, ',')
		}
		b = csv.AppendCell(b, c, ',', len(row) == 1 && c == "")
	}
	return append(b, '\n')
}

// Export is the register as the system exports it.
func (i *Importer) Export() []byte {
	b := Line(nil, i.Fields)
	for _, k := range i.order {
		row := make([]string, len(i.Fields))
		for n, f := range i.Fields {
			row[n] = i.records[k][f]
		}
		b = Line(b, row)
	}
	return b
}

// State is the register by keys, whatever its order.
func (i *Importer) State() map[string]map[string]string {
	all := map[string]map[string]string{}
	for k, r := range i.records {
		all[k] = map[string]string{}
		for _, f := range i.Fields {
			all[k][f] = r[f]
		}
	}
	return all
}

// Set changes a value of a record, as somebody else would.
func (i *Importer) Set(key, field, value string) { i.records[key][field] = value }
