package ods

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/xmlscan"
)

// A row that is read at a glance is what it is element by element.
func TestRowsAtAGlance(t *testing.T) {
	pieces := []string{`<table:table-cell office:value-type="string"><text:p>buoy &amp; mole</text:p></table:table-cell>`, `<table:table-cell/>`, `<table:table-cell table:number-columns-repeated="3"/>`,
		`<table:table-cell office:value-type="float" office:value="2.50" calcext:value-type="float"><text:p>2.5</text:p></table:table-cell>`,
		`<table:table-cell office:value-type="float" office:value=""><text:p>x</text:p></table:table-cell>`, `<table:table-cell office:value-type="string" office:string-value=""><text:p>x</text:p></table:table-cell>`,
		`<table:covered-table-cell/>`, `<table:table-cell table:number-columns-spanned="2" table:number-rows-spanned="1"><text:p>m</text:p></table:table-cell>`,
		`<table:table-cell table:formula="of:=[.A1]" office:value-type="float" office:value="7"><text:p>7</text:p></table:table-cell>`, `<table:table-cell ><text:p>a</text:p><text:p>b</text:p></table:table-cell>`,
		`<table:table-cell office:value-type='string'><text:p>q</text:p></table:table-cell>`, `<table:table-cell><text:p>s<text:s text:c="2"/>e</text:p></table:table-cell>`, ` `, "\n", `<!-- </table:table-row> -->`,
		`<table:table-cell office:value-type="time" office:time-value="PT07H05M09S"><text:p>07:05</text:p></table:table-cell>`, `<table:table-cell office:value-type="boolean" office:boolean-value="true"><text:p>WAHR</text:p></table:table-cell>`,
		`<table:table-cell table:number-columns-repeated="2" office:value-type="date" office:date-value="2026-05-04"><text:p>4.5.</text:p></table:table-cell>`, `<table:table-cell></table:table-cell>`, `<x:y/>`}
	glances := 0
	rapid.Check(t, func(t *rapid.T) {
		row := strings.Join(rapid.SliceOfN(rapid.SampledFrom(pieces), 0, 6).Draw(t, "cells"), "") + `</table:table-row>`
		made := func() *reader {
			return &reader{x: xmlscan.Over([]byte(row)), prefix: []byte("table:"), formulas: table.Formulas{}, out: csv.Builder{Name: "r.ods"}}
		}
		one, other := made(), made()
		if !one.plain([]byte(row)) {
			return
		}
		glances++
		require.NoError(t, other.cells())
		require.Equal(t, other.filled, one.filled, row)
		require.Len(t, one.marked, len(other.marked))
		for i := range one.marked {
			require.Equal(t, other.marked[i].col, one.marked[i].col)
		}
	})
	require.Positive(t, glances)
}
