package learn

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/thorough"
)

// program is something that a program does to values of a kind, written for the tests
// without anything of this package.
type program struct {
	name   string
	value  func(r *rand.Rand) string
	does   func(string) string
	keeps  bool // the values are what they were
	unique bool // what was meant can be told of what is seen
}

func price(r *rand.Rand) string {
	return fmt.Sprintf("%d.%02d", r.IntN(3000), r.IntN(10)*(1+9*r.IntN(2)))
}

func day(r *rand.Rand) string {
	return time.Date(1995+r.IntN(30), time.Month(1+r.IntN(12)), 1+r.IntN(28), 0, 0, 0, 0, time.UTC).Format("2006-01-02")
}

func moved(from, to string) func(string) string {
	return func(s string) string {
		t, err := time.Parse(from, s)
		if err != nil {
			return s
		}
		return t.Format(to)
	}
}

func float(s string) float64 { f, _ := strconv.ParseFloat(s, 64); return f }

var programs = []program{
	{"no zeros at the end", price, func(s string) string { return strconv.FormatFloat(float(s), 'f', -1, 64) }, true, true},
	{"fifteen digits", func(r *rand.Rand) string { return fmt.Sprintf("57.%014d", r.Int64N(1e14)) }, func(s string) string { return strconv.FormatFloat(float(s), 'g', 15, 64) }, true, false},
	{"decimal commas", price, func(s string) string { return strings.Replace(s, ".", ",", 1) }, true, true},
	{"four decimals", price, func(s string) string { return fmt.Sprintf("%.4f", float(s)) }, true, true},
	{"a currency and groups", price, func(s string) string {
		whole, part, _ := strings.Cut(s, ".")
		if len(whole) > 3 {
			whole = whole[:len(whole)-3] + "," + whole[len(whole)-3:]
		}
		return "$" + whole + "." + part
	}, true, true},
	{"one decimal", price, func(s string) string { return strconv.FormatFloat(float(s), 'f', 1, 64) }, false, false},
	{"pence", price, func(s string) string { return strings.Replace(s, ".", "", 1) }, false, true},
	{"percent", func(r *rand.Rand) string { return fmt.Sprintf("%d.%d%%", r.IntN(99), r.IntN(10)) }, func(s string) string {
		return strconv.FormatFloat(float(strings.TrimSuffix(s, "%"))/100, 'f', 3, 64)
	}, true, true},
	{"zeros before", func(r *rand.Rand) string { return fmt.Sprintf("%05d", r.IntN(15_000)) }, func(s string) string { n, _ := strconv.Atoi(s); return strconv.Itoa(n) }, true, true},
	{"days with dots", day, moved("2006-01-02", "02.01.2006"), true, true},
	{"days with names", day, moved("2006-01-02", "Jan 2, 2006"), true, true},
	{"days as moments", day, moved("2006-01-02", "2006-01-02T00:00:00.000Z"), true, true},
	{"days counted", day, func(s string) string {
		t, _ := time.Parse("2006-01-02", s)
		return strconv.Itoa(int(t.Sub(time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)).Hours() / 24))
	}, true, true},
	{"days and months exchanged", func(r *rand.Rand) string { return day(r)[:5] + fmt.Sprintf("%02d-%02d", 1+r.IntN(12), 1+r.IntN(12)) }, func(s string) string { return s[:5] + s[8:] + "-" + s[5:7] }, false, true},
	{"afternoons", func(r *rand.Rand) string { return fmt.Sprintf("%02d:%02d", r.IntN(24), r.IntN(60)) }, moved("15:04", "3:04 PM"), true, true},
	{"flags", func(r *rand.Rand) string { return []string{"true", "false"}[r.IntN(2)] }, func(s string) string { return map[string]string{"true": "Yes", "false": "No"}[s] }, true, true},
	{"flags turned", func(r *rand.Rand) string { return []string{"true", "false"}[r.IntN(2)] }, func(s string) string { return map[string]string{"true": "No", "false": "Yes"}[s] }, false, true},
	{"capitals", func(r *rand.Rand) string { return fmt.Sprintf("quay %c%d", 'a'+rune(r.IntN(26)), r.IntN(900)) }, strings.ToUpper, false, false},
	{"cut", func(r *rand.Rand) string { return fmt.Sprintf("remark %d on aid %d", r.IntN(900), r.IntN(900)) }, func(s string) string { return s[:9] }, false, false},
}

// rarely reports whether the program leaves many values as they are, so that another way may
// explain those that it changes.
func (p program) rarely() bool {
	return !p.keeps || p.name == "no zeros at the end" || p.name == "zeros before" || p.name == "fifteen digits"
}

// trials tries a law with random values, and says which they were where it fails.
func trials(t *testing.T, n int, law func(t *testing.T, r *rand.Rand)) {
	for range n {
		seed := rand.Uint64()
		law(t, rand.New(rand.NewPCG(seed, 1)))
		if t.Failed() {
			t.Fatalf("seed %d", seed)
		}
	}
}

// draw makes the cells of a column, of which some were edited before the program saved it.
func (p program) draw(r *rand.Rand, edits int) (cells []Cell) {
	for i := range 60 + r.IntN(30) {
		v := p.value(r)
		seen := v
		if i < edits {
			seen = p.value(r)
		}
		cells = append(cells, Cell{v, p.does(seen)})
	}
	return cells
}

var about = About{Year: 2026, Shown: -1}

// What a program does to a column is learnt from some of its cells, and is then known of
// values that nobody has seen: what it makes of them, and of what it makes what is seen.
// It keeps the values where it does.
func TestProgramsAreLearnt(t *testing.T) {
	for _, p := range programs {
		t.Run(p.name, func(t *testing.T) {
			trials(t, thorough.Few(100, 6), func(t *testing.T, r *rand.Rand) {
				cells := p.draw(r, 4)
				c := Learn(cells, about)
				require.NotNil(t, c, p.name)
				assert.Equal(t, p.keeps, c.Keeps, c.Words())
				for range 40 {
					v := p.value(r)
					if p.keeps { // of a number just between two, a program that rounds takes either
						require.Equal(t, p.does(v), c.Of(v), "%q, learnt as %s", v, c.Words())
					}
					meant, sure, ok := c.Meant(p.does(v))
					switch {
					case p.unique && p.keeps:
						require.True(t, ok && sure, "%q seen as %q", v, p.does(v))
						require.Equal(t, v, meant)
					case ok && sure:
						require.Equal(t, v, meant, "seen as %q, learnt as %s", p.does(v), c.Words())
					}
				}
			})
		})
	}
}

// An edit is explained by no way: what is seen of it is not what the ways make of the
// snapshot's value.
func TestEditsAreNotExplained(t *testing.T) {
	trials(t, thorough.Few(1000, 50), func(t *testing.T, r *rand.Rand) {
		p := programs[r.IntN(len(programs))]
		cells := p.draw(r, 6)
		c := Learn(cells, about)
		require.NotNil(t, c)
		for _, x := range cells[:6] {
			if _, made, _ := c.Makes(x.Snapshot, x.Seen); made {
				require.Equal(t, p.does(x.Snapshot), x.Seen, p.name)
			}
		}
	})
}

// No way stands on a single cell: without any one of them the same is learnt.
func TestWaysStandWithoutAnyCell(t *testing.T) {
	trials(t, thorough.Few(1000, 50), func(t *testing.T, r *rand.Rand) {
		p := programs[r.IntN(len(programs))]
		cells := p.draw(r, 3)
		all := Learn(cells, about)
		without := r.IntN(len(cells))
		less := Learn(slices.Delete(slices.Clone(cells), without, without+1), about)
		require.NotNil(t, all)
		require.NotNil(t, less)
		for range 30 {
			v := p.value(r)
			require.Equal(t, all.Of(v), less.Of(v), "%s: %s and %s", p.name, all.Words(), less.Words())
		}
	})
}

// Few values show nothing that could be restored without a word, however many cells have
// them; and where more than one cell in twenty was kept, or more than a quarter is something
// else, there is no way.
func TestWhatShowsNoWay(t *testing.T) {
	trials(t, thorough.Few(1000, 60), func(t *testing.T, r *rand.Rand) {
		p := programs[r.IntN(len(programs))]
		values := []string{}
		for range 5 {
			values = append(values, p.value(r))
		}
		var few []Cell
		for range 60 {
			v := values[r.IntN(len(values))]
			few = append(few, Cell{v, p.does(v)})
		}
		if c := Learn(few, about); c != nil && !strings.HasPrefix(p.name, "flags") {
			assert.False(t, c.Keeps, "%s from %q", p.name, values)
		}
		cells := p.draw(r, 0)
		kept, other := slices.Clone(cells), slices.Clone(cells)
		for i := range cells {
			if i%10 == 0 {
				kept[i].Seen = kept[i].Snapshot
			}
			if i%3 == 0 {
				other[i].Seen = "what somebody wrote " + strconv.Itoa(i)
			}
		}
		for _, x := range [][]Cell{kept, other} {
			if c := Learn(x, about); c != nil {
				for _, y := range cells {
					_, made, keeps := c.Makes(y.Snapshot, y.Seen)
					require.False(t, made && keeps && y.Snapshot != y.Seen && !p.rarely(), "%s: %s", p.name, c.Words())
				}
			}
		}
	})
}

// A way that another column shows is adopted where values are few; that it kept the values
// there does not make it keep those that it rounds here.
func TestAdopt(t *testing.T) {
	var kept, same, rounded []Cell
	for i := range 40 {
		v := fmt.Sprintf("%d.%d", 3+i, i%10)
		kept = append(kept, Cell{v, v + "0"})
		v = fmt.Sprintf("%d.5", 7+i%3)
		same = append(same, Cell{v, v + "0"})
		v = fmt.Sprintf("%d.12%d", 7+i%3, 1+i%3)
		rounded = append(rounded, Cell{v, v[:len(v)-1]})
	}
	other := Learn(kept, about)
	require.True(t, other.Keeps && other.Strong)
	assert.True(t, Adopt(same, []*Column{other}, about).Keeps)
	if c := Adopt(rounded, []*Column{other}, about); c != nil {
		assert.False(t, c.Keeps)
	}
}

// What became of letters is told by the code page, or letter by letter; a letter that one
// text alone shows is not restored without a word.
func TestLetters(t *testing.T) {
	names := []string{"Åsa", "Zięba", "Łódź", "Skørvik", "Ålesund", "Źrebiec", "Øst", "Łeba", "ęta"}
	cells := func(does func(string) string) (all []Cell) {
		for i := range 40 {
			s := fmt.Sprint(names[i%len(names)], " ", i)
			all = append(all, Cell{s, does(s)})
		}
		return all
	}
	latin1 := func(s string) string {
		var b strings.Builder
		for _, x := range []byte(s) {
			b.WriteRune(rune(x))
		}
		return b.String()
	}
	l := LearnLetters(cells(latin1))
	assert.Equal(t, "UTF-8 read as Latin-1", l.Words())
	back, ok := l.undo(latin1("Łódź 7"), map[rune]bool{'Ł': true, 'ó': true, 'ź': true})
	assert.True(t, ok)
	assert.Equal(t, "Łódź 7", back)

	odd := strings.NewReplacer("Ł", "¤", "ó", "³", "ź", "¥", "Å", "Ö")
	l = LearnLetters(cells(odd.Replace))
	require.NotNil(t, l)
	assert.Equal(t, odd.Replace("Łódź Å"), l.apply("Łódź Å"))
	assert.True(t, l.keep)
	assert.False(t, LearnLetters(cells(strings.NewReplacer("Ł", "L", "ó", "o", "ź", "z").Replace)).keep, "somebody may write L for Ł")
	assert.Nil(t, LearnLetters(cells(func(s string) string { return s })))
	assert.Nil(t, LearnLetters([]Cell{{"Łódź 1", "¤ódź 1"}, {"Åsa", "Åsa"}}), "one text is not enough")
}

// Whatever stands in cells, learning ends, and what is learnt makes of a value what it
// says it does.
func TestHostileCells(t *testing.T) {
	odd := []string{"", " ", "-", ".", ",", "0", "00", "-0", "1e999", "9e99999", "1,2,3", "1.2.3", "999999999999999999999999999999999999999999999999999999999999", "00/00/0000", "31/02/2026", "2026-02-30",
		"29/02/2100", "99:99", "24:00", "12:61 PM", "0:00 AM", "2026-03-11T07:05:09.123456789+14:30", "T", "Z", "Mar", "MAR-99", "Sept 3", "$", "£-", "(5", "5)", "%", "-5%%", "\x00", "\xff\xfe", "\u202e12", "١٢٣", "²", "1\u00a0234",
		"=1+1", "NaN", "Infinity", "0x1F", strings.Repeat("9", 400), strings.Repeat("é", 400), "é", "e\u0301", "TRUE", "f", "1", "a\tb", "a\r\nb", "-1e-400", "1.", ".5", "+", "+-1", "5e", "e5"}
	trials(t, thorough.Few(3000, 150), func(t *testing.T, r *rand.Rand) {
		pick := func() string {
			s := odd[r.IntN(len(odd))]
			if r.IntN(3) == 0 {
				s += odd[r.IntN(len(odd))]
			}
			return s
		}
		var cells []Cell
		does := func(s string) string { return s }
		switch r.IntN(3) {
		case 0:
			does = strings.ToUpper
		case 1:
			does = func(s string) string { return programs[r.IntN(5)].does(s) }
		}
		for range 8 + r.IntN(60) {
			v := pick()
			cells = append(cells, Cell{v, does(v)})
			if r.IntN(6) == 0 {
				cells[len(cells)-1].Seen = pick()
			}
		}
		a := about
		a.Letters, a.Shown = LearnLetters(cells), r.IntN(4)-1
		c := Learn(cells, a)
		FormOf([]string{pick(), pick(), pick(), pick()}).Candidates(pick())
		if c == nil {
			return
		}
		for range 60 {
			v := pick()
			c.Makes(v, pick())
			c.Words()
			if meant, _, ok := c.Meant(v); ok {
				_, made, _ := c.Makes(meant, v)
				require.True(t, made || meant == v || !c.Reads(meant), "%q is meant by %q, of which %q is made", meant, v, c.Of(meant))
			}
		}
	})
}
