package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/wear"
	"paletwin/core/words"
)

// wornTally counts wear by field and kind, with examples.
type wornTally struct {
	cells    map[wornAt]*wornCells
	wornHeld int
}

type wornAt struct {
	field int
	kind  wear.Kind
}

type wornCells struct {
	n        int
	examples []string
}

// maxExamples is how many examples a finding gives.
const maxExamples = 3

func (t *wornTally) wear(field int, kind wear.Kind, from, to string) {
	if kind == "" {
		return
	}
	if t.cells == nil {
		t.cells = map[wornAt]*wornCells{}
	}
	x := t.cells[wornAt{field, kind}]
	if x == nil {
		x = new(wornCells)
		t.cells[wornAt{field, kind}] = x
	}
	x.n++
	x.show(clip(from) + " as " + clip(to))
}

// show takes an example, if it is another one and there are few.
func (x *wornCells) show(example string) {
	if len(x.examples) < maxExamples && !slices.Contains(x.examples, example) {
		x.examples = append(x.examples, example)
	}
}

func clip(s string) string {
	if r := []rune(s); len(r) > 24 {
		return string(r[:20]) + "…"
	}
	return s
}

func (t *wornTally) merge(o *wornTally) {
	t.wornHeld += o.wornHeld
	for at, x := range o.cells {
		if t.cells == nil {
			t.cells = map[wornAt]*wornCells{}
		}
		mine := t.cells[at]
		if mine == nil {
			mine = new(wornCells)
			t.cells[at] = mine
		}
		mine.n += x.n
		for _, e := range x.examples {
			mine.show(e)
		}
	}
}

var kindWords = map[wear.Kind]string{wear.Zeros: "without leading zeros", wear.Exponent: "in exponent form", wear.Precision: "with digits lost", wear.Number: "as numbers in another form",
	wear.DateForm: "as dates in another form", wear.DateGuess: "taken for dates or times", wear.Boolean: "as the program's words for true and false",
	wear.Whitespace: "with spaces or line breaks changed", wear.Unicode: "with letters composed otherwise", wear.NullToken: "with a word for nothing", wear.Encoding: "in a wrong encoding", wear.Truncated: "cut",
	wear.LetterCase: "in capitals or small letters", wear.Marks: "with other marks"}

// savedBy says which program it was, where it is known, and what the others did.
func (wr *writer) savedBy() string {
	known, by, learnt := "", 0, 0
	var ways []string
	if w := wr.letters.Words(); w != "" {
		ways = append(ways, w)
	}
	for _, c := range wr.columns {
		switch {
		case c == nil:
		case c.Known():
			known = wr.program
			by++
		case c.State == wear.Worn:
			if learnt++; c.Way() != "" && !slices.Contains(ways, c.Way()) {
				ways = append(ways, c.Way())
			}
		}
	}
	if by < learnt { // what little a known program explains another one may have done, too
		known = ""
	}
	if len(ways) > mostWays {
		ways = append(ways[:mostWays], fmt.Sprintf("and %d more", len(ways)-mostWays))
	}
	switch {
	case len(ways) == 0:
		return cmp.Or(known, "a program")
	case known == "":
		return "a program that is not known (" + strings.Join(ways, "; ") + ")"
	}
	return known + ", and a program that is not known (" + strings.Join(ways, "; ") + ")"
}

// mostWays is how many ways of writing are told in one line.
const mostWays = 4

// reportWear makes a finding a column and kind, and one that says which
// program it was.
func (wr *writer) reportWear(t *wornTally) {
	w := &wr.res.Wear
	w.ByKind, w.Held = map[wear.Kind]int{}, t.wornHeld
	var all []wornAt
	for at, x := range t.cells {
		all = append(all, at)
		w.Cells += x.n
		w.ByKind[at.kind] += x.n
	}
	if len(all) == 0 {
		return
	}
	slices.SortFunc(all, func(a, b wornAt) int {
		if a.field != b.field {
			return a.field - b.field
		}
		return strings.Compare(string(a.kind), string(b.kind))
	})
	columns := map[int]bool{}
	for _, at := range all {
		columns[at.field] = true
	}
	f := changeset.WearProgram.Finding("saved by %s: %s in %s show it", wr.savedBy(), words.Count(w.Cells, "cell"), words.Count(len(columns), "column"))
	f.Count = w.Cells
	wr.find(f, wr.copy.img.Name, "")
	for _, at := range all {
		x := t.cells[at]
		name := wr.res.Fields[at.field]
		f := changeset.Wear.Finding("%s %s (%s)", words.Count(x.n, "cell"), kindWords[at.kind], strings.Join(x.examples, ", "))
		f.Count = x.n
		wr.find(f, wr.copy.img.Name, name)
	}
}
