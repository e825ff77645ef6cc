package sqldb

import (
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"paletwin/core/table"
	tablecsv "paletwin/core/table/csv"
	"paletwin/internal/target/targettest"
)

// placeOf makes a table of a CSV text.
func (d *db) placeOf(key []string, register string) *place {
	rows, err := csv.NewReader(strings.NewReader(register)).ReadAll()
	require.NoError(d.t, err)
	seen, dup := map[string]bool{}, false
	var cols []string
	for _, h := range rows[0] {
		c := d.e.ident(h) + " varchar(200)"
		for _, k := range key {
			if h == k {
				c += " NOT NULL"
			}
		}
		cols = append(cols, c)
	}
	for _, r := range rows[1:] {
		k := strings.Join(r[:len(key)], "\x00")
		dup, seen[k] = dup || seen[k], true
	}
	if !dup {
		var names []string
		for _, k := range key {
			names = append(names, d.e.ident(k))
		}
		cols = append(cols, "PRIMARY KEY ("+strings.Join(names, ", ")+")")
	}
	p := &place{d: d, key: key, dup: dup}
	p.table = d.table("(" + strings.Join(cols, ", ") + ")")
	const many = 100 // rows a statement
	for from := 1; from < len(rows); from += many {
		var params, values []string
		for _, r := range rows[from:min(from+many, len(rows))] {
			var marks []string
			for _, v := range r {
				params = append(params, v)
				marks = append(marks, d.param(len(params)))
			}
			values = append(values, "("+strings.Join(marks, ", ")+")")
		}
		d.exec("INSERT INTO "+d.e.ident(p.table)+" VALUES "+strings.Join(values, ", "), params...)
	}
	return p
}

func TestTablesAreTargets(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		targettest.Run(t, func(t *testing.T) targettest.Place { return d.placeOf([]string{"k"}, targettest.Register) })
	})
}

func TestTablesAreProven(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		targettest.Prove(t, targettest.Kind{
			Make:  func(t *testing.T, key []string, register string) targettest.Place { return d.placeOf(key, register) },
			Nulls: true,
			Read:  func(name string, b []byte) (*table.Image, error) { return tablecsv.OpenWith(name, b, table.Taken) },
		})
	})
}
