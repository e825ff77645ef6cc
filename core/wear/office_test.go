package wear

import (
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/table"
	ours "paletwin/core/table/csv"
	"paletwin/core/table/officetest"
	"paletwin/core/table/open"
)

// probes are values of which programs make something.
var probes = []string{
	"0007", "00412", "02079460018", "007.0", "-0012", "+0012", "+4", "202603110004121", "2031000417650012", "9007199254740993", "12345678901234567", "574410002345678901", "100000000000000000",
	"1E5", "12E3", "0012E4", "7E-3", "00E1", "E12", "3D2", "2E", "1.50E", "12f", "0x1F", "1A2B", "2E5",
	"MAR-2", "DEC-1", "OCT-4", "SEP-07", "JUN/3", "Mar 2", "Mar-26", "Mar 2026", "march 2026", "Apr-31", "NOV 31", "2 MAR", "2-Mar", "MAR2", "DEC1", "SEP07", "NOV-11", "JAN", "May",
	"3/4", "1/2", "12/13", "10/3", "3-4", "1-2", "1-1", "13/12", "25/6", "2.3.0", "1.2.3", "1.10.0", "1/2/3", "10-11-12", "3-4-5", "2026-03", "2026/03", "03/2026", "31-02", "12-34", "Q1", "W12",
	"1.10", "2.0", "01.02", "10.0.0.1", "10:20", "+442079460018", "+44 20 7946 0018", "020 7946 0018", "555-0143", "07700 900 123",
	"2026-03-11", "1887-06-04", "9999-12-31", "2026-3-1", "2026-02-30", "2026/03/11", "2026.03.11", "20260311", "04/05/2026", "4/5/2026", "4/5/26", "13/05/2026", "05/13/2026", "04-05-2026", "04.05.2026",
	"11-Mar-2026", "11-Mar-26", "Mar 11, 2026", "11 March 2026", "2026-03-11 07:05", "2026-03-11T07:05", "2026-03-11T07:05:09", "2026-03-11T07:05:09Z", "2026-03-11T07:05:09.123456", "2026-03-11T07:05:09.999908", "2026-03-11T07:05:09.9994", "2026-03-11T07:05:09.9951", "2026-03-11T07:05:59.9997", "2026-03-11T07:05:09.000", "2026-03-11T24:00:00",
	"11/03/2026 07:05", "7:05", "07:05", "0:00", "25:30", "100:15", "24:00", "7:05 PM", "7h05", "07.05", "7:65", ":30",
	"29.70", "100.00", "0.10", "10.010", "57.1500", ".5", "5.", "-002.0942", "12.500", "1.234", "-0", "-0.00", "0.1234567890123456789", "3.141592653589793", "0.30000000000000004", "57.14965", "0.0000001", "1e-7",
	"1,234", "1,234.50", "1,234,567", "12,34", "1,2,3", "29,70", "100,00", "1.234,50", "(12)", "12-", "- 12", "$1,234.50", "£1,234.50", "12,50 €", "50%", "12.5%", "5 %", "0.125%", "1 1/2", "0 1/2",
	"true", "True", "FALSE", "wahr", "Yes", "0", "1", "NULL", "N/A", "#N/A", "NaN", "-", "?", " Skerry ", " 42", " 0007", "42 ", " 2026-03-11", "a\r\nb", "a\nb", "lantern out", "Fl(2) R 10s", "U-1004", "in_service", "8.0", "57.49323", "-2.58079",
}

// route is a way through LibreOffice, and what it was told there.
type route struct {
	habit       Habit
	in, out, as string
}

func routes() map[string]route {
	all := map[string]route{}
	for _, l := range Locales {
		for _, special := range []bool{true, false} {
			in := officetest.Import(l.Name, false, special)
			for _, r := range []struct {
				store    Store
				out, ext string
			}{{Shown, officetest.Shown, "csv"}, {Book, "xlsx", "xlsx"}, {Ods, "ods", "ods"}} {
				h := Habit{Locale: l, Special: special, Store: r.store, Year: time.Now().Year()}
				all[h.Name()] = route{h, in, r.out, r.ext}
			}
		}
	}
	return all
}

// through sends rows through LibreOffice and reads what comes out.
func through(t *testing.T, rows [][]string, locale, in, out, ext string) [][]string {
	var b strings.Builder
	require.NoError(t, csv.NewWriter(&b).WriteAll(rows))
	file := filepath.Join(t.TempDir(), "in.csv")
	require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o600))
	data, err := os.ReadFile(officetest.Convert(t, file, locale, in, out))
	require.NoError(t, err)
	m, err := open.Open("in."+ext, data, table.Options{HeadingRow: 1})
	require.NoError(t, err)
	all := [][]string{m.Heading}
	for s := ours.Body(m); ; {
		ok, err := s.Next()
		require.NoError(t, err)
		if !ok {
			return all
		}
		var row []string
		for _, c := range ours.Split(nil, s.Raw(), m.Comma) {
			row = append(row, string(ours.Unquote(c)))
		}
		all = append(all, row)
	}
}

// longNumbers are drawn anew each time: ids and decimals of more digits than a program
// keeps, many of them near a half behind the last that it does, and parts of seconds.
func longNumbers(seed uint64) []string {
	r := rand.New(rand.NewPCG(seed, 5))
	var all []string
	for range 150 {
		near := []string{"44", "45", "449", "4499", "46", "47", "48", "49", "499", "50", "94", "95", ""}[r.IntN(13)]
		id := fmt.Sprintf("%d%s%08d", 100_000_000_000_000+r.Int64N(899_999_999_999_999), near, r.IntN(100_000_000))
		all = append(all, id[:16+r.IntN(5)], fmt.Sprintf("%d.%s", r.IntN(3000), id), fmt.Sprintf("2026-03-11T07:05:09.%06d", r.IntN(1_000_000)))
	}
	return all
}

// What a habit says of a value is what LibreOffice does to it.
func TestHabitsAreThoseOfLibreOffice(t *testing.T) {
	officetest.Need(t)
	seed := uint64(time.Now().UnixNano())
	probes := append(slices.Clone(probes), longNumbers(seed)...)
	rows := [][]string{{"k", "v", "end"}}
	for i, p := range probes {
		rows = append(rows, []string{fmt.Sprintf("r%d", i), p, "."})
	}
	for name, r := range routes() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			got := through(t, rows, r.habit.Locale.Name, r.in, r.out, r.as)
			require.Len(t, got, len(rows))
			var wrong []string
			for i, p := range probes {
				if seen := got[i+1][1]; !r.habit.Makes(p, seen) {
					want, _ := r.habit.Wear(p)
					wrong = append(wrong, fmt.Sprintf("%q is %q, thought %q", p, seen, want))
				}
			}
			assert.Empty(t, wrong, "%d of %d, seed %d: %s", len(wrong), len(probes), seed, strings.Join(wrong, "\n"))
		})
	}
}
