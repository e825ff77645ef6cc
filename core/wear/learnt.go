package wear

import (
	"slices"

	"paletwin/core/wear/learn"
)

// Learn learns what became of the columns that no known habit explains, from their cells
// and those that are as they were; and of the letters of the file. A measured habit goes
// first: only what it leaves is learnt of a column that it went over. unexplained says how much
// of what columns show no known habit explains; marks is how much else of the file shows that
// a program nobody knows saved it; shown are the decimals that number formats of a snapshot
// show, by column, -1 where they say none.
//
// A way that keeps the values restores them without a word only where the file shows in two
// places that such a program was there: one column that is written anew may be somebody's
// work.
func Learn(columns []*Column, cells [][]Pair, k Known, shown []int, unexplained func(marks []int) int, marks int) (letters *learn.Letters) {
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
	about := func(f int) learn.About {
		a := learn.About{Letters: letters, Year: k.Year, Shown: -1}
		if f < len(shown) {
			a.Shown = shown[f]
		}
		return a
	}
	var others []*learn.Column
	for f, c := range columns {
		if c != nil && slices.ContainsFunc(all[f], differs) {
			c.learnFrom(all[f], about(f))
		}
		if c != nil && c.learnt != nil && c.learnt.Strong {
			others = append(others, c.learnt)
		}
	}
	for f, c := range columns {
		if c != nil && c.State != Worn && (c.learnt == nil || !c.learnt.Strong) && slices.ContainsFunc(all[f], differs) {
			if l := learn.Adopt(all[f], others, about(f)); l != nil && l.Went >= c.Went && (c.learnt == nil || l.Went >= c.learnt.Went) {
				c.learnt = l
			}
		}
	}
	settleLearnt(columns, unexplained, marks)
	touched := marks > 0 || letters != nil || slices.ContainsFunc(columns, func(c *Column) bool { return c != nil && c.State == Worn })
	for f, c := range columns {
		if touched && c != nil && (c.learnt == nil || c.rest) && slices.ContainsFunc(all[f], differs) {
			values := make([]string, len(all[f]))
			for i := range all[f] {
				values[i] = all[f][i].Snapshot
			}
			c.meant = learn.FormOf(values)
		}
	}
	return letters
}

func differs(c learn.Cell) bool { return c.Snapshot != c.Seen }

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
