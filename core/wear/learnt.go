package wear

import (
	"slices"

	"paletwin/core/wear/learn"
)

// Learn learns what became of the columns that no known habit explains, from their cells
// and those that are as they were; and of the letters of the file. A measured habit goes
// first: only what it leaves is learnt of a column that it went over. marks is how much
// else of the file shows that a program nobody knows saved it.
//
// A way that keeps the values restores them without a word only where the file shows in two
// places that such a program was there: one column that is written anew may be somebody's
// work.
func Learn(columns []*Column, cells [][]Pair, k Known, marks int) (letters *learn.Letters) {
	all := make([][]learn.Cell, len(columns))
	var lettered []learn.Cell
	for f, col := range cells {
		for _, p := range col {
			all[f] = append(all[f], learn.Cell(p))
		}
		if columns[f] != nil && columns[f].Habit.Charset == "" {
			lettered = append(lettered, all[f]...)
		}
	}
	letters = learn.LearnLetters(lettered)
	for f, c := range columns {
		if c == nil || !slices.ContainsFunc(all[f], func(x learn.Cell) bool { return x.Snapshot != x.Seen }) {
			continue
		}
		c.learnFrom(all[f], letters, k.Year)
	}
	for _, c := range columns {
		if c != nil && c.learnt != nil && c.learnt.Keeps {
			if marks++; c.learnt.Only {
				marks++
			}
		}
	}
	for _, c := range columns {
		if c == nil || c.learnt == nil || c.rest {
			continue
		}
		c.State = Doubtful
		if c.learnt.Keeps && (c.learnt.Only || marks > 1) {
			c.State = Worn
		}
	}
	return letters
}

// learnFrom learns what became of one column.
func (c *Column) learnFrom(cells []learn.Cell, letters *learn.Letters, year int) {
	if c.State == Worn {
		var left []learn.Cell
		for _, x := range cells {
			if !c.Habit.takes(x.Snapshot) && !c.Habit.Makes(x.Snapshot, x.Seen) {
				left = append(left, x)
			}
		}
		if l := learn.Learn(left, letters, year); l != nil && l.Keeps {
			c.learnt, c.rest = l, true
		}
		return
	}
	if l := learn.Learn(cells, letters, year); l != nil && l.Went >= c.Went {
		c.learnt = l
	}
}

// learntKinds are the kinds of what was learnt.
var learntKinds = map[learn.Kind]Kind{learn.Numbers: Number, learn.Zeros: Zeros, learn.Digits: Precision, learn.Exponents: Exponent, learn.Days: DateForm, learn.Guesses: DateGuess,
	learn.Flags: Boolean, learn.Blanks: Whitespace, learn.Case: LetterCase, learn.Cuts: Truncated, learn.Marks: Marks, learn.Encoding: Encoding}

// readLearnt reads a cell by what was learnt.
func (c *Column) readLearnt(snapshot, seen string) Reading {
	kind, made := c.learnt.Makes(snapshot, seen)
	switch {
	case made && (c.State == Worn || c.rest):
		return Reading{As: Snapshot, Kind: learntKinds[kind]}
	case made:
		return Reading{As: Held, Kind: learntKinds[kind]}
	}
	return c.newLearnt(seen)
}

// newLearnt reads a new value by what was learnt.
func (c *Column) newLearnt(seen string) Reading {
	meant, ok := c.learnt.Meant(seen)
	if !ok || c.State == Doubtful && meant != seen {
		kind, _ := c.learnt.Makes(seen, seen)
		return Reading{As: Unknown, Kind: learntKinds[kind]}
	}
	return Reading{As: Edit, Value: meant}
}

// Way says in words what was learnt of the column, "" if nothing was.
func (c *Column) Way() string {
	if c.learnt == nil {
		return ""
	}
	return c.learnt.Words()
}
