package wear

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func habit(locale string, store Store) Habit {
	return Habit{Locale: FindLocale(locale), Special: true, Store: store, Year: 2026}
}

// What was run and measured: a row a value, with what en-US, en-GB, de-DE and
// fr-FR show in CSV, and what a workbook saved under en-US holds.
func TestHabits(t *testing.T) {
	for _, r := range [][6]string{
		{"00412", "412", "412", "412", "412", "412"},
		{"2031000417650012", "2031000417650012", "2031000417650012", "2031000417650012", "2031000417650012", "2031000417650010"},
		{"574410002345678901", "5.74410002345679E+017", "5.74410002345679E+017", "5,74410002345679E+017", "5,74410002345679E+017", "574410002345679000"},
		{"1E5", "1.00E+05", "1.00E+05", "1,00E+05", "1,00E+05", "100000"},
		{"MAR-2", "03/02/26", "01/03/02", "MAR-2", "MAR-2", "2026-03-02"},
		{"NOV-11", "11/11/26", "01/11/11", "01.11.11", "NOV-11", "2026-11-11"},
		{"3/4", "03/04/26", "03/04/26", "3/4", "03/04/26", "2026-03-04"},
		{"3-4", "3-4", "03/04/26", "3-4", "3-4", "3-4"},
		{"13/12", "13/12", "13/12/26", "13/12", "13/12/26", "13/12"},
		{"1.2.3", "1.2.3", "1.2.3", "01.02.03", "01/02/03", "1.2.3"},
		{"29.70", "29.7", "29.7", "29.70", "29.70", "29.7"},
		{"12.500", "12.5", "12.5", "12500", "12.500", "12.5"},
		{"29,70", "29,70", "29,70", "29,7", "29,7", "29,70"},
		{"0.1234567890123456789", "0.123456789012346", "0.123456789012346", "0.1234567890123456789", "0.1234567890123456789", "0.123456789012346"},
		{"04/05/2026", "04/05/26", "04/05/26", "04/05/2026", "04/05/26", "2026-04-05"},
		{"13/05/2026", "13/05/2026", "13/05/26", "13/05/2026", "13/05/26", "13/05/2026"},
		{"04.05.2026", "04.05.2026", "04.05.2026", "04.05.26", "04/05/26", "04.05.2026"},
		{"2026-03-11", "2026-03-11", "2026-03-11", "2026-03-11", "2026-03-11", "2026-03-11"},
		{"2026-03-11T07:05", "2026-03-11T07:05:00", "2026-03-11T07:05:00", "2026-03-11T07:05:00", "2026-03-11T07:05:00", "2026-03-11T07:05:00"},
		{"7:05", "07:05:00 AM", "07:05:00", "07:05:00", "07:05:00", "07:05:00"},
		{"true", "TRUE", "TRUE", "true", "true", "true"},
		{"12.5%", "12.50%", "12.50%", "12.5%", "12.5%", "0.125"},
		{"(12)", "-12", "-12", "-12", "-12", "-12"},
		{" 42", "42", "42", "42", "42", "42"},
		{"a\r\nb", "a\nb", "a\nb", "a\nb", "a\nb", "a\nb"},
		{"Fl(2) R 10s", "Fl(2) R 10s", "Fl(2) R 10s", "Fl(2) R 10s", "Fl(2) R 10s", "Fl(2) R 10s"},
	} {
		for i, l := range Locales {
			seen, kind := habit(l.Name, Shown).Wear(r[0])
			assert.Equal(t, r[i+1], seen, "%s of %q", l.Name, r[0])
			assert.Equal(t, seen == r[0], kind == "", "%s of %q", l.Name, r[0])
		}
		seen, _ := habit("en-US", Book).Wear(r[0])
		assert.Equal(t, r[5], seen, "XLSX of %q", r[0])
	}
	twice := habit("en-US", Shown)
	twice.Twice = true
	seen, _ := twice.Wear("574410002345678901")
	assert.Equal(t, "5.74E+17", seen, "saved twice, all keys become one")
}

// What is recalled of the most common desktop program, under en-US and en-GB
// in CSV, and in a workbook.
func TestDesktopHabits(t *testing.T) {
	for _, r := range [][4]string{
		{"00412", "412", "412", "412"},
		{"110554000000", "1.10554E+11", "1.10554E+11", "110554000000"},
		{"1234567890123456", "1.23457E+15", "1.23457E+15", "1234567890123450"},
		{"29.70", "29.7", "29.7", "29.7"},
		{"1E5", "1.00E+05", "1.00E+05", "100000"},
		{"MAR2", "2-Mar", "02-Mar", "2026-03-02"},
		{"OCT-4", "4-Oct", "04-Oct", "2026-10-04"},
		{"3-4", "4-Mar", "03-Apr", "2026-03-04"},
		{"1/2", "2-Jan", "01-Feb", "2026-01-02"},
		{"2026-03", "Mar-26", "Mar-26", "2026-03-01"},
		{"2026-03-11", "3/11/2026", "11/03/2026", "2026-03-11"},
		{"2026-03-11 07:05:09", "3/11/2026 7:05", "11/03/2026 07:05", "2026-03-11T07:05:09"},
		{"04/05/2026", "4/5/2026", "04/05/2026", "2026-04-05"},
		{"1887-06-04", "1887-06-04", "1887-06-04", "1887-06-04"},
		{"2026-03-11T07:05:09Z", "2026-03-11T07:05:09Z", "2026-03-11T07:05:09Z", "2026-03-11T07:05:09Z"},
		{"07:05", "7:05", "07:05", "07:05:00"},
		{"25:30", "25:30:00", "25:30:00", "25:30:00"},
		{"true", "TRUE", "TRUE", "true"},
		{"12.5%", "12.50%", "12.50%", "0.125"},
		{"Skerry Ledge", "Skerry Ledge", "Skerry Ledge", "Skerry Ledge"},
	} {
		for i, h := range []Habit{habit("en-US", Shown), habit("en-GB", Shown), habit("en-US", Book)} {
			h.Desktop = true
			seen, _ := h.Wear(r[0])
			assert.Equal(t, r[i+1], seen, "%s of %q", h.Name(), r[0])
		}
	}
}

func TestCharsets(t *testing.T) {
	for c, want := range map[Charset]string{As1252: "Ã…sa Å\uf181Ã³dÅº", Lost1252: "Åsa ?ód?", LostLatin1: "Åsa ?ód?", LostASCII: "?sa ??d?", AsUTF8: "\ufffdsa \ufffd\ufffdd\ufffd"} {
		assert.Equal(t, want, c.wear("Åsa Łódź"), c)
	}
	back, ok := As1252.undo(As1252.wear("Åsa Łódź"))
	assert.True(t, ok)
	assert.Equal(t, "Åsa Łódź", back)
	_, ok = Lost1252.undo("Åsa ?ód?")
	assert.False(t, ok, "lost letters do not come back")
}

func column(t require.TestingT, h Habit, values ...string) *Column {
	var pairs []Pair
	for _, v := range values {
		seen, _ := h.Wear(v)
		pairs = append(pairs, Pair{v, seen})
	}
	c := Judge(h, pairs)
	require.Equal(t, Worn, c.State)
	return c
}

func TestEditsInWornColumns(t *testing.T) {
	gb, us, de := habit("en-GB", Shown), habit("en-US", Shown), habit("de-DE", Shown)
	book := habit("en-US", Book)
	for _, c := range []struct {
		col  *Column
		seen string
		as   As
		want string
	}{
		{column(t, gb, "29.70", "10.00", "5.50"), "31.5", Edit, "31.50"},
		{column(t, gb, "29.70", "10.00", "5.50"), "n/a", Edit, "n/a"},
		{column(t, de, "29,70", "10,00"), "31,5", Edit, "31,50"},
		{column(t, gb, "00412", "00417"), "733", Edit, "00733"},
		{column(t, gb, "0412", "00417"), "733", Unknown, ""},
		{column(t, gb, "11/03/2026", "25/04/2026"), "12/03/26", Edit, "12/03/2026"},
		{column(t, us, "03/11/2026", "04/25/2026"), "03/12/26", Edit, "03/12/2026"},
		{column(t, gb, "11/03/1926", "25/04/2026"), "12/03/26", Unknown, ""},
		{column(t, gb, "true", "false", "true"), "FALSE", Edit, "false"},
		{column(t, us, "MAR-2", "OCT-4", "DEC-1"), "11/05/26", Unknown, ""},
		{column(t, us, "MAR-2", "OCT-4", "DEC-1"), "Q7", Edit, "Q7"},
		{column(t, us, "MAR-2", "OCT-4", "DEC-1"), "NOV-3", Edit, "NOV-3"},
		{column(t, gb, "29.70", "10.00", "5.50"), "2970.00", Edit, "2970.00"},
		{column(t, book, "2031000417650012", "2031000417650019"), "2031000417650050", Unknown, ""},
		{column(t, us, "574410002345678901", "574410002345678902"), "5.75E+17", Unknown, ""},
		{column(t, us, "=1", "1.0", "2.0"), "#NAME?", Unknown, ""},
		{column(t, book, "12.5%", "3.0%", "80.1%", "7.7%", "0.3%", "9.9%", "50.0%", "25.5%"), "0.555", Edit, "55.5%"},
		{column(t, book, "12.5%", "3.0%", "80.1%", "7.7%", "0.3%", "9.9%", "50.0%", "25.5%"), "0.5555", Unknown, ""},
	} {
		r := c.col.ReadNew(c.seen)
		assert.Equal(t, c.as, r.As, "%q", c.seen)
		if r.As == Edit {
			assert.Equal(t, c.want, r.Value, "%q", c.seen)
		}
	}
}

// A single transformed cell among unworn ones is held, and so is what could
// be either.
func TestDoubtIsHeld(t *testing.T) {
	h := habit("en-US", Shown)
	var pairs []Pair
	for i := range 40 {
		v := fmt.Sprintf("%d.50", i)
		pairs = append(pairs, Pair{v, v})
	}
	pairs[7].Seen = "7.5"
	c := Judge(h, pairs)
	assert.Equal(t, Mixed, c.State)
	assert.Equal(t, Held, c.Read("7.50", "7.5").As)
	assert.Equal(t, Edit, c.Read("7.50", "8.50").As)
	assert.Equal(t, Intact, Judge(h, pairs[:5]).State)
	one, other := Judge(h, pairs[7:8]), Judge(h, []Pair{{"1.10", "1.1"}, {"1.20", "1.2"}, {"1.30", "1.3"}})
	Settle([]*Column{one}, false, nil)
	assert.Equal(t, Mixed, one.State, "one cell alone proves nothing")
	one = Judge(h, pairs[7:8])
	Settle([]*Column{one, other}, false, nil)
	assert.Equal(t, Worn, one.State, "unless other columns show the same program")
}

func TestCellsThatSpeakForThemselves(t *testing.T) {
	for _, c := range []struct {
		was, is string
		as      As
		kind    Kind
	}{
		{"-lantern", "#NAME?", Unknown, ErrorValue},
		{"29.70", "Err:510", Unknown, ErrorValue},
		{"=1+2", "3", Held, Formula},
		{"=> see note", "#VALUE!", Unknown, ErrorValue},
		{"0007", "'0007", Held, Formula},
		{"Zięba", "Zie\u0328ba", Snapshot, Unicode},
		{`the "Nags"`, "the “Nags”", Held, Unicode},
		{"Old Pier - light", "Old Pier – light", Held, Unicode},
	} {
		r, ok := Alone(c.was, c.is)
		assert.True(t, ok, "%q", c.is)
		assert.Equal(t, []any{c.as, c.kind}, []any{r.As, r.Kind}, "%q", c.is)
	}
	for _, p := range [][2]string{{"a", "a"}, {"Åsa", "Asa"}, {"x", "y"}, {"=1", "=2"}} {
		_, ok := Alone(p[0], p[1])
		assert.False(t, ok, "%q", p)
	}
}

func TestChoosesTheProgram(t *testing.T) {
	ids := []Pair{{"00412", "412"}, {"00413", "413"}}
	dates := []Pair{{"13/05/2026", "13/05/26"}, {"04/05/2026", "04/05/26"}}
	v, ok := Choose([][]Pair{ids, dates}, Known{Format: "csv", Year: 2026})
	require.True(t, ok)
	assert.Equal(t, "en-GB", v.Habit.Locale.Name)
	assert.Equal(t, 4, v.Explained)
	v, ok = Choose([][]Pair{ids, dates}, Known{Format: "csv", Year: 2026, SavedIn: "fr-FR"})
	require.True(t, ok)
	assert.Equal(t, "fr-FR", v.Habit.Locale.Name, "what the person knows counts")
	long := []Pair{{"2031000417650012", "2031000417650010"}, {"2031000417650019", "2031000417650020"}}
	kept := []Pair{{"29.70", "29.70"}, {"10.00", "10.00"}, {"31.20", "31.20"}}
	v, ok = Choose([][]Pair{long}, Known{Format: "csv", Year: 2026})
	require.True(t, ok)
	assert.EqualValues(t, '.', v.Among([][]Pair{long}, nil).Habit.Locale.decimal)
	v = v.Among([][]Pair{long}, [][]Pair{kept})
	assert.EqualValues(t, ',', v.Habit.Locale.decimal, "a program that would have changed the fees spared them")
	names := []Pair{{"Zięba 1", "Zi?ba 1"}}
	for i := range 20 {
		names = append(names, Pair{fmt.Sprint("Zięba ", 2+i), fmt.Sprint("Zięba ", 2+i)})
	}
	v, _ = Choose([][]Pair{ids, names}, Known{Format: "csv", Year: 2026})
	assert.Empty(t, v.Habit.Charset, "one edit does not turn the letters of a whole file")
	_, ok = Choose([][]Pair{{{"a", "b"}, {"29.70", "31.20"}}}, Known{Format: "csv", Year: 2026})
	assert.False(t, ok, "edits are no wear")
}

// Whatever is edited in a worn column: it is read as what was meant, or not
// read at all; and only what looks just like the unedited cell is taken for it.
func TestAnEditIsNeverReadAsAnother(t *testing.T) {
	kinds := map[string]*rapid.Generator[string]{
		"fees": rapid.StringMatching(`[1-9][0-9]{0,3}\.[0-9]{2}`),
		"ids":  rapid.StringMatching(`0[0-9]{4}`),
		"dates": rapid.Custom(func(t *rapid.T) string {
			return fmt.Sprintf("%02d/%02d/20%02d", rapid.IntRange(1, 28).Draw(t, "d"), rapid.IntRange(1, 12).Draw(t, "m"), rapid.IntRange(0, 29).Draw(t, "y"))
		}),
		"serials": rapid.StringMatching(`203[0-9]{13}`),
		"codes":   rapid.SampledFrom([]string{"MAR-2", "OCT-4", "SEP07", "3-4", "2E5", "12E3", "JUN/3", "NOV-11", "1-2", "Q7", "1.10", "1.1", "7:05"}),
		"flags":   rapid.SampledFrom([]string{"true", "false"}),
		"texts":   rapid.StringOfN(rapid.RuneFrom([]rune("ab 1é.,-/:\r\n")), 0, 8, -1),
	}
	rapid.Check(t, func(t *rapid.T) {
		h := rapid.SampledFrom(Habits(rapid.SampledFrom([]string{"csv", "xlsx", "ods"}).Draw(t, "format"))).Draw(t, "habit")
		h.Year = 2026
		values := rapid.SliceOfN(kinds[rapid.SampledFrom([]string{"fees", "ids", "dates", "serials", "codes", "flags", "texts"}).Draw(t, "kind")], 2, 20).Draw(t, "values")
		var pairs []Pair
		for _, v := range values {
			seen, _ := h.Wear(v)
			pairs = append(pairs, Pair{v, seen})
		}
		c := Judge(h, pairs)
		was, meant := values[0], values[1]
		worn, _ := h.Wear(was)
		seen, _ := h.Wear(meant)
		r := c.Read(was, seen)
		switch {
		case seen == worn:
			require.NotEqual(t, Unknown, r.As)
		case seen == was:
			// the edit looks like the snapshot: nothing can tell
		case r.As == Edit:
			again, _ := h.Wear(r.Value)
			if twice, _ := h.Wear(seen); twice != seen {
				return // which programs do not write: held to be what somebody wrote
			}
			require.Equal(t, seen, again, "%s: %q edited to %q, seen %q, read %q", h.Name(), was, meant, seen, r.Value)
		default:
			require.NotEqual(t, Snapshot, r.As)
		}
	})
}
