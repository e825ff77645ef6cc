package wear

import (
	"slices"

	"paletwin/core/wear/learn"
)

// File is a file of which it is learnt what an unknown program did to it.
type File struct {
	Columns []*Column // as a known habit leaves them, nil where there is none
	Cells   [][]Pair  // of each column, those that are as they were among them
	Known   Known
	Shown   []int // the decimals that number formats of the snapshot show, by column, -1 where they say none
	// Unexplained says how much of the marks of columns no known habit explains.
	Unexplained func(marks []int) int
	Marks       int // how much else shows that a program nobody knows saved the file
	// Each, if not nil, calls f for the numbers below n, perhaps at once.
	Each func(n int, f func(i int))

	letters *learn.Letters
}

// mostLearnt is how many columns are learnt from. What they show is held against all others: a program that went over a file went
// over these.
const mostLearnt = 300

// Learn learns what became of the columns that no known habit explains, and of the letters
// of the file. A measured habit goes first: only what it leaves is learnt of a column
// that it went over.
//
// A way that keeps the values restores them without a word only where the file shows in two
// places that such a program was there: one column that is written anew may be somebody's
// work.
func (x *File) Learn() *learn.Letters {
	x.learnLetters()
	if x.Each == nil {
		x.Each = func(n int, f func(int)) {
			for i := range n {
				f(i)
			}
		}
	}
	var differ []int
	for f := range x.Columns {
		if x.differs(f) {
			differ = append(differ, f)
		}
	}
	x.Each(min(len(differ), mostLearnt), func(i int) {
		f := differ[i]
		x.Columns[f].learnFrom(x.learnt(f), x.about(f))
	})
	var strong []*learn.Column
	for _, c := range x.Columns {
		if c != nil && c.learnt != nil && c.learnt.Strong {
			strong = append(strong, c.learnt)
		}
	}
	x.Each(len(differ), func(i int) {
		f := differ[i]
		if c := x.Columns[f]; c.learnt == nil || !c.learnt.Strong {
			c.adopt(learn.Adopt(x.learnt(f), strong, x.about(f)))
		}
	})
	settleLearnt(x.Columns, x.Unexplained, x.Marks)
	x.learnForms()
	return x.letters
}

// learnLetters learns of the letters in columns that no known habit wrote in another code
// page.
func (x *File) learnLetters() {
	var all []learn.Cell
	for f, col := range x.Cells {
		c := x.Columns[f]
		for _, p := range col {
			if c != nil && c.Habit.Charset == "" && !learn.ASCII(p.Snapshot) { // others say nothing of letters
				all = append(all, learn.Cell(p))
			}
		}
	}
	x.letters = learn.LearnLetters(all)
}

// learnt are the cells of a column, as they are learnt from.
func (x *File) learnt(f int) []learn.Cell {
	cells := make([]learn.Cell, len(x.Cells[f]))
	for i, p := range x.Cells[f] {
		cells[i] = learn.Cell(p)
	}
	return cells
}

// differs reports whether cells of a column differ.
func (x *File) differs(f int) bool {
	return x.Columns[f] != nil && slices.ContainsFunc(x.Cells[f], func(c Pair) bool { return c.Snapshot != c.Seen })
}

// about is what is known of a column besides its cells.
func (x *File) about(f int) learn.About {
	a := learn.About{Letters: x.letters, Year: x.Known.Year, Shown: -1}
	if f < len(x.Shown) {
		a.Shown = x.Shown[f]
	}
	return a
}

// learnForms learns how columns are written of which nothing else was learnt, where a program
// saved the file: edits are written so.
func (x *File) learnForms() {
	if x.Marks == 0 && x.letters == nil && !slices.ContainsFunc(x.Columns, func(c *Column) bool { return c != nil && c.State == Worn }) {
		return
	}
	for f, c := range x.Columns {
		if !x.differs(f) || c.learnt != nil && !c.rest {
			continue
		}
		values := make([]string, len(x.Cells[f]))
		for i := range x.Cells[f] {
			values[i] = x.Cells[f][i].Snapshot
		}
		c.meant = learn.FormOf(values)
	}
}

// adopt takes what other columns show, if it explains no less than what is known; where a
// known habit went over the column, if it explains more and keeps the values.
func (c *Column) adopt(l *learn.Column) {
	switch {
	case l == nil, c.State == Worn && (!l.Keeps || l.Went <= c.Went):
	case l.Went >= c.Went && (c.learnt == nil || l.Went >= c.learnt.Went):
		c.learnt, c.rest = l, false
	}
}

// settleLearnt decides which columns are restored without a word.
// What one known habit explains shows no other program.
func settleLearnt(columns []*Column, unexplained func([]int) int, marks int) {
	own := make([]int, len(columns))
	for f, c := range columns {
		if c == nil || c.learnt == nil || !c.learnt.Keeps {
			continue
		}
		if own[f] = 1; c.learnt.Only {
			own[f] = 2
		}
	}
	marks += unexplained(own)
	for _, c := range columns {
		if c == nil || c.learnt == nil || c.rest {
			continue
		}
		c.State, c.Times = Doubtful, c.learnt.Times()
		c.silent = c.learnt.Only || marks > 1
		if c.learnt.Keeps && c.silent {
			c.State = Worn
		}
	}
}

// learnFrom learns what became of one column.
func (c *Column) learnFrom(cells []learn.Cell, a learn.About) {
	if c.State == Worn {
		if l := learn.Learn(cells, a); l != nil && l.Keeps && l.Went > c.Went {
			c.learnt = l // it explains what the habit does not
			return
		}
		var left []learn.Cell
		for _, x := range cells {
			if !c.Habit.takes(x.Snapshot) && !c.Habit.Makes(x.Snapshot, x.Seen) {
				left = append(left, x)
			}
		}
		if l := learn.Learn(left, a); l != nil {
			c.learnt, c.rest = l, true
		}
		return
	}
	if l := learn.Learn(cells, a); l != nil && (l.Went > c.Went || l.Went == c.Went && l.Keeps) {
		c.learnt = l
	}
}

// learntKinds are the kinds of what was learnt.
var learntKinds = map[learn.Kind]Kind{learn.Numbers: Number, learn.Zeros: Zeros, learn.Digits: Precision, learn.Exponents: Exponent, learn.Days: DateForm, learn.Guesses: DateGuess,
	learn.Flags: Boolean, learn.Blanks: Whitespace, learn.Case: LetterCase, learn.Cuts: Truncated, learn.Marks: Marks, learn.Encoding: Encoding}

// readLearnt reads a cell by what was learnt.
func (c *Column) readLearnt(snapshot, seen string) Reading {
	kind, made, keeps := c.learnt.Makes(snapshot, seen)
	switch {
	case made && keeps && (c.silent || c.rest):
		return Reading{As: Snapshot, Kind: learntKinds[kind]}
	case made:
		return Reading{As: Held, Kind: learntKinds[kind]}
	}
	return c.newLearnt(seen)
}

// newLearnt reads a new value by what was learnt.
func (c *Column) newLearnt(seen string) Reading {
	meant, sure, ok := c.learnt.Meant(seen)
	if !ok || (!sure || c.State == Doubtful && !c.silent) && meant != seen {
		kind, _, _ := c.learnt.Makes(seen, seen)
		return Reading{As: Unknown, Kind: learntKinds[kind]}
	}
	return Reading{As: Edit, Value: meant}
}

// tidied reads a value of a file that a program saved, in a column that shows nothing of it: a
// number is written in the column's form; a day that is not cannot be told.
func (c *Column) tidied(seen string) (Reading, bool) {
	if c.meant == nil || c.State != Intact && c.State != Mixed || c.meant.Has(seen) {
		return Reading{}, false
	}
	if !c.meant.Numbers() {
		if c.form.shapes[shape(seen)] { // as others of the column look: somebody wrote it
			return Reading{}, false
		}
		return Reading{As: Unknown, Kind: DateForm}, len(c.meant.Candidates(seen)) > 0
	}
	if all := c.meant.Write(seen); len(all) == 1 {
		return Reading{As: Edit, Value: all[0]}, true
	}
	return Reading{}, false
}

// Learnt reports whether something was learnt of the column.
func (c *Column) Learnt() bool { return c.learnt != nil }

// Known reports whether a known habit went over the column.
func (c *Column) Known() bool { return c.State == Worn && (c.learnt == nil || c.rest) }

// Way says in words what was learnt of the column, "" if nothing was.
func (c *Column) Way() string {
	if c.learnt == nil {
		return ""
	}
	return c.learnt.Words()
}
