package sheet

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/table/officetest"
	"paletwin/internal/desk"
)

// Whatever a cell has, no part of it begins with what runs, wherever a program splits it, and it comes back as it was.
func TestGuardsComeOff(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := rapid.StringOf(rapid.RuneFrom([]rune("'='+-@\t\r\n＝＋－＠a1 ;|,\""))).Draw(t, "v")
		g := guard(v)
		require.Equal(t, v, unguard(g))
		require.False(t, strings.IndexAny(g, "=+-@＝＋－＠\t\r\n") == 0, "%q", g)
		for _, part := range strings.FieldsFunc(g, func(r rune) bool { return strings.ContainsRune(";\t|\r\n", r) }) {
			require.False(t, strings.IndexAny(strings.TrimLeft(part, `"`), "=+-@＝＋－＠") == 0, "%q in %q", part, g)
		}
	})
}

// What would be split by another separator, or by a line end, stands in quotes.
func TestRowsAreNotSplit(t *testing.T) {
	var b bytes.Buffer
	cells := []string{"00417", "a;=1+1", "b\t=2", "c|d", " e", "f,g", "h\"i", "j\nk", ""}
	require.NoError(t, writeRow(&b, cells))
	assert.Equal(t, "00417,\"a;=1+1\",\"b\t=2\",\"c|d\",\" e\",\"f,g\",\"h\"\"i\",\"j\nk\",\n", b.String())
	back, err := csv.NewReader(&b).Read()
	require.NoError(t, err)
	assert.Equal(t, cells, back)
}

// formulaTexts are values that one program or another takes for a formula, alone or as a part behind a separator.
var formulaTexts = []string{"=1+1", "+1+1", "-1+1", "@SUM(1;1)", "\t=1+1", "\r=1+1", "\n=1+1", "＝1+1", "＋1+1", "a;=1+1", "a\t=1+1", "a|=1+1", "a,=1+1", "a\n=1+1", `"=1+1"`, `";=1+1`, "'=1+1", "''=1+1", "=HYPERLINK(\"http://127.0.0.1:1/\";\"x\")", "=WEBSERVICE(\"http://127.0.0.1:1/\")",
	"=cmd|'/C calc'!A0", "{=1+1}", " =1+1", "\u00a0=1+1", "\u200b=1+1", "\ufeff=1+1", "=\u202e1+1"}

// TestNoFormulaInAProgram opens sheets and CSV in LibreOffice, split at whichever sign, with formulas evaluated where a file has some: none has.
func TestNoFormulaInAProgram(t *testing.T) {
	officetest.Need(t)
	dir := t.TempDir()
	var s, e bytes.Buffer
	old, edited := csv.NewWriter(&s), csv.NewWriter(&e)
	require.NoError(t, old.Write([]string{"k", "v", "=1+1"}))
	require.NoError(t, edited.Write([]string{"k", "v", "=1+1"}))
	for i, text := range formulaTexts {
		require.NoError(t, old.Write([]string{fmt.Sprint(i, text), text, text}))
		require.NoError(t, edited.Write([]string{fmt.Sprint(i, text), text, "x" + text}))
		require.NoError(t, edited.Write([]string{fmt.Sprint("new", i), text, text}))
	}
	old.Flush()
	edited.Flush()
	m := contents(t, dir, s.Bytes(), e.Bytes(), "k")
	defer m.Close()
	_, err := m.Dossier.Decide(&desk.Order{Decision: changeset.Approve, Held: true, By: "lina", Note: "=1+1", When: time.Now()})
	require.NoError(t, err)
	_, err = m.Refresh()
	require.NoError(t, err)
	var text, book bytes.Buffer
	require.NoError(t, WriteCSV(&text, m))
	require.NoError(t, Write(&book, m))
	formulas := func(name string, b []byte, in string) int {
		file := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(file, b, 0o600))
		flat, err := os.ReadFile(officetest.Convert(t, file, "en-US", in, "fods"))
		require.NoError(t, err)
		return bytes.Count(flat, []byte("table:formula="))
	}
	split := func(sign string) string { return "CSV:" + sign + ",34,76,1,,1033,false,true,false,false,false,0,true" }
	require.Positive(t, formulas("control.csv", []byte("a,=1+1\n"), split("44")), "the filter evaluates formulas")
	for _, sign := range []string{"44", "59", "9", "124", "44/59/9/124"} {
		assert.Zero(t, formulas("review.csv", text.Bytes(), split(sign)), "split at %s", sign)
	}
	assert.Zero(t, formulas("review.xlsx", book.Bytes(), ""))
}
