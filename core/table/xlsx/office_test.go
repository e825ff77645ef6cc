package xlsx

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/table"
	"paletwin/core/table/officetest"
)

// Rows that are taken out of forty workbooks leave what LibreOffice leaves that takes the same rows out: what formulas, names, rules,
// merged cells, comments, links, print areas and charts point at.
func TestRowsGoAsInLibreOffice(t *testing.T) {
	officetest.Need(t)
	dir := t.TempDir()
	if keep := os.Getenv("KEEP"); keep != "" {
		dir = keep
	}
	var jobs strings.Builder
	const books = 40
	for seed := range uint64(books) {
		data, last := anyBook(t, seed)
		r := rand.New(rand.NewPCG(seed, 1))
		var gone []int
		for n := 2; n <= last; n++ {
			if r.IntN(4) == 0 {
				gone = append(gone, n)
			}
		}
		b := load(t, data)
		ops := make([]table.Op, len(gone))
		for i, n := range gone {
			ops[i] = table.Op{Kind: table.RemoveRow, Row: n}
		}
		refused, err := b.Refuse(ops)
		require.NoError(t, err)
		require.Empty(t, refused)
		var made bytes.Buffer
		require.NoError(t, b.Edit(1, ops, &made))
		name := func(what string) string { return filepath.Join(dir, fmt.Sprintf("%02d-%s", seed, what)) }
		require.NoError(t, os.WriteFile(name("was.xlsx"), data, 0o600))
		require.NoError(t, os.WriteFile(name("made.xlsx"), made.Bytes(), 0o600))
		slices.Reverse(gone)
		rows := strings.Trim(strings.ReplaceAll(fmt.Sprint(gone), " ", ","), "[]")
		fmt.Fprintf(&jobs, "%s\t%s\t%s\t%s\n", name("was.xlsx"), b.sheet.name, rows, name("want.txt"))
		fmt.Fprintf(&jobs, "%s\t%s\t\t%s\n", name("made.xlsx"), b.sheet.name, name("got.txt"))
	}
	officetest.Rows(t, jobs.String())
	seen, followed := 0, 0
	for seed := range books {
		read := func(what string) []string {
			return officetest.Seen(t, filepath.Join(dir, fmt.Sprintf("%02d-%s", seed, what)))
		}
		want, got := read("want.txt"), read("got.txt")
		stale := map[string]bool{}
		for _, rule := range read("want.txt.rules") {
			stale[rule] = true
		}
		seen += len(want)
		for i := 0; i < len(want) && i < len(got); i++ {
			at, formula, rule := strings.Cut(want[i], " rule ")
			ours, _, _ := strings.Cut(got[i], " rule ")
			switch {
			case want[i] == got[i] && rule:
				followed++
			case rule && at == ours && (stale[formula] || strings.Contains(formula, "#REF!")):
				// As chance has it, LibreOffice leaves a rule's formula as it was; and where the first row of a rule goes, see below.
				want[i] = got[i]
			case strings.Contains(want[i], " format ") && strings.Contains(want[i], "#REF!"):
				// Where the first row of a format goes, its formula is that of the next here; there it points at what is gone.
				a, b := strings.SplitN(want[i], " ", 9), strings.SplitN(got[i], " ", 9)
				if n := slices.Index(a, "format"); n+1 < len(b) && slices.Equal(a[:n+2], b[:n+2]) {
					want[i] = got[i]
				}
			}
		}
		assert.Equal(t, want, got, "book %d", seed)
	}
	require.Greater(t, seen, 40*books)
	require.Greater(t, followed, books/2)
}
