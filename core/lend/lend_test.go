package lend

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"pgregory.net/rapid"

	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/open"
)

// depots is the one list there is.
type depots struct{}

func (depots) List(name string) (*table.Image, error) {
	if name != "depots.csv" {
		return nil, errors.New("there is no such file")
	}
	return csv.Open(name, []byte("code,name\nD01,Saltreach\nD03,Tarn Mouth\n"))
}

const aids = `key: aid_no
fields:
  aid_no: text
  depot: {kind: reference, to: depots.csv}
  zone: {kind: choice, values: [inner, outer]}
  fee: {kind: decimal, scale: 2}
  installed: {kind: date, forms: [dd/mm/yyyy]}
  on: boolean
  cell: text
  updated: {kind: text, access: system}
`

func parse(t require.TestingT) *layout.Layout {
	l, err := layout.Parse("aids.yaml", []byte(aids), depots{})
	require.NoError(t, err)
	return l
}

func snapshot(t require.TestingT, text string) *table.Image {
	m, err := csv.Open("aids.csv", []byte(text))
	require.NoError(t, err)
	return m
}

// lent writes a copy and opens it.
func lent(t require.TestingT, c *Copy) (*table.Image, []byte) {
	c.SHA256 = strings.Repeat("0f", 32)
	var b bytes.Buffer
	_, err := c.Write(context.Background(), &b)
	require.NoError(t, err)
	m, err := open.Open("edit.xlsx", b.Bytes(), table.Options{})
	require.NoError(t, err)
	return m, b.Bytes()
}

func unchanged(t require.TestingT, s, e *table.Image, l *layout.Layout, key ...string) *compare.Result {
	res, err := compare.Run(context.Background(), s, e, compare.Options{RecordSet: "aids", Key: key, Layout: l, Proposals: compare.Proposals{Missing: compare.Asked}, Program: compare.Program{Wear: true, Year: 2026}, Loans: compare.Loans{Digest: func() (string, error) { return strings.Repeat("0f", 32), nil }}}, nil)
	require.NoError(t, err)
	require.Zero(t, res.Changes.Changes(), "%+v", res.Changes)
	return res
}

// Whatever a snapshot holds, its lent copy changes nothing when it comes back,
// with a layout and without one, whole and narrow.
func TestALentCopyChangesNothing(t *testing.T) {
	text := rapid.SampledFrom([]string{"", "MAR-2", "00417", "1E5", "3/4", "=1+2", "29.70", "TRUE", "a\nb", "Åsa", " x ", "2031000417650012"})
	rapid.Check(t, func(t *rapid.T) {
		var b strings.Builder
		b.WriteString("aid_no,depot,zone,fee,installed,on,cell,updated\n")
		for i := range rapid.IntRange(1, 8).Draw(t, "records") {
			fmt.Fprintf(&b, "%05d,%s,%s,%s,%s,%s,", i, rapid.SampledFrom([]string{"D01", "D03", "D9", ""}).Draw(t, "depot"), rapid.SampledFrom([]string{"inner", "outer"}).Draw(t, "zone"),
				rapid.SampledFrom([]string{"29.70", "10.00", "", "7.5", "n/a", "123456789012345678.25"}).Draw(t, "fee"),
				rapid.SampledFrom([]string{"11/03/2026", "", "04/05/1887", "soon"}).Draw(t, "installed"), rapid.SampledFrom([]string{"true", "false", "yes"}).Draw(t, "on"))
			b.Write(csv.AppendCell(nil, text.Draw(t, "cell"), ',', false))
			b.WriteString(",2026-09-28\n")
		}
		s := snapshot(t, b.String())
		var l *layout.Layout
		if rapid.Bool().Draw(t, "layout") {
			l = parse(t)
		}
		c := &Copy{Snapshot: s, Key: []string{"aid_no"}, Layout: l}
		if rapid.Bool().Draw(t, "narrow") {
			c.Fields = []string{"cell", "fee"}
		}
		if l != nil && rapid.Bool().Draw(t, "some") {
			var err error
			c.Where, err = l.Env().CompileBool(`zone == "outer"`)
			require.NoError(t, err)
		}
		e, _ := lent(t, c)
		if e.Lent.Records == 0 {
			return // a copy without a row is none
		}
		res := unchanged(t, s, e, l, "aid_no")
		require.Equal(t, "lent", res.Findings[0].Code)
		require.Equal(t, c.Fields != nil || e.Lent.Records < e.Lent.All, e.Lent.Narrow())
	})
}

func TestWhatALentCopyLooksLike(t *testing.T) {
	c := &Copy{Snapshot: snapshot(t, "aid_no,depot,zone,fee,installed,on,cell,updated\n00101,D01,inner,29.70,11/03/2026,true,MAR-2,x\n"), Key: []string{"aid_no"}, Layout: parse(t)}
	m, data := lent(t, c)
	assert.Equal(t, []string{"aid_no", "updated"}, m.Lent.Locked)
	f, err := excelize.OpenReader(bytes.NewReader(data))
	require.NoError(t, err)
	defer f.Close()
	assert.Equal(t, []string{"aids", "lists", howTo}, sorted(f.GetSheetList(), "aids", "lists", howTo))
	for at, want := range map[string]excelize.CellType{"A2": excelize.CellTypeInlineString, "D2": excelize.CellTypeUnset, "E2": excelize.CellTypeInlineString, "G2": excelize.CellTypeInlineString} {
		typ, err := f.GetCellType("aids", at)
		require.NoError(t, err)
		assert.Equal(t, want, typ, at)
	}
	for at, want := range map[string]string{"D2": "29.70", "E2": "11/03/2026", "G2": "MAR-2"} {
		v, err := f.GetCellValue("aids", at)
		require.NoError(t, err)
		assert.Equal(t, want, v, at)
	}
	validations, err := f.GetDataValidations("aids")
	require.NoError(t, err)
	assert.Len(t, validations, 3, "for the depot, the zone and the boolean")
	visible, err := f.GetSheetVisible("lists")
	require.NoError(t, err)
	assert.False(t, visible)
}

func sorted(have []string, want ...string) []string {
	var all []string
	for _, w := range want {
		for _, h := range have {
			if h == w {
				all = append(all, h)
			}
		}
	}
	return all
}

func TestFieldsThatAreNotThere(t *testing.T) {
	c := &Copy{Snapshot: snapshot(t, "aid_no,v\n1,a\n"), Key: []string{"aid_no"}, Fields: []string{"w"}}
	var e *FieldError
	_, err := c.Write(context.Background(), &bytes.Buffer{})
	require.ErrorAs(t, err, &e)
	assert.Equal(t, "w", e.Field)
	for file, want := range map[string]string{"aids.csv": "aids", "a/b:c*.csv": "a-b-c-", "'x'.csv": "x", ".csv": ".csv", "how to edit.csv": "records", strings.Repeat("é", 40) + ".csv": strings.Repeat("é", 31)} {
		assert.Equal(t, want, sheetName(file), file)
	}
}
