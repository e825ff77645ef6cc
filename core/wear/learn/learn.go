// Package learn learns from the cells of a column, as the snapshot has them and as the
// copy shows them, what a program did that nobody knows: how it read the values, and
// how it wrote them. A way is print ∘ read: one reading of a short list, and a
// writing that is induced from the cells.
//
// What keeps a real edit from being taken for a way:
//
//   - A way is one function for the whole column, and a cell is explained where it is
//     exactly what that function makes of the snapshot's value (the digits of binary noise
//     alone are not foretold: there the number has to be the same to fifteen digits).
//   - It stands on six different values, or on both words of a flag, and each part of
//     a writing on most of them, so that no single cell makes it.
//   - Of the cells that it would have changed at most one is as it was for twenty that
//     went, and at most a quarter are something else.
//   - It keeps the value where the text that is seen is the same value to fifteen digits,
//     and read as the column's own values are is no other one. A way that does not
//     (rounding, capitals, cuts, padding, a factor) is told and never silent: the caller
//     holds the column for one decision.
package learn

import (
	"strings"
	"time"
)

// Cell is a cell as the snapshot has it and as the copy shows it.
type Cell struct{ Snapshot, Seen string }

// Thresholds; doc.go of the package wear says why.
const (
	fewValues  = 6  // different values that a way went over, at least
	keptShare  = 20 // one kept for so many that went, at most
	otherShare = 4  // one in so many is something else, at most
	fewProofs  = 3  // cells that only the new writing reads, where the old one reads others as other values
	induced    = 80 // cells that a writing is induced from
	judged     = 1000
	maxWays    = 3
)

// Kind is what kind of thing a way is.
type Kind int

// Kinds of ways.
const (
	Numbers Kind = iota
	Zeros        // numbers without the zeros before them
	Digits       // numbers that lost digits
	Exponents
	Days
	Guesses // codes taken for numbers, days or times
	Flags
	Blanks
	Case
	Cuts
	Marks
	Encoding
)

// way is what a program did to the values that it read in one way.
type way struct {
	read    *reading
	count   *count // of moments that became numbers
	letters *Letters
	print   printer
	forms   []printer // how the column writes the values
	year    int       // of days without one
	keeps   bool
	only    bool // nobody but a program writes so
	went    int
}

// of is what the way makes of a text; false if it does not read it.
func (w *way) of(s string) (string, bool) {
	v, ok := w.take(s)
	if !ok {
		return "", false
	}
	return w.write(v)
}

// take reads a text.
func (w *way) take(s string) (value, bool) {
	v, ok := w.read.take(s)
	if ok && v.has&noYear != 0 && w.year != 0 {
		v.at = time.Date(w.year, v.at.Month(), v.at.Day(), 0, 0, 0, 0, time.UTC)
		v.has &^= noYear
	}
	if ok && w.count != nil {
		if v.has&hasDay != 0 != w.count.days {
			return v, false
		}
		v.num = w.count.of(v)
	}
	return v, ok
}

func (w *way) write(v value) (string, bool) {
	if w.read.sort == text {
		v.text = w.letters.apply(v.text)
	}
	return w.print.print(v)
}

// makes reports whether the way reads a text, and whether it makes of it what is seen.
func (w *way) makes(s, seen string) (reads, made, moves bool) {
	v, ok := w.take(s)
	if !ok {
		return false, false, false
	}
	if p, is := w.print.(*numberPrint); is && p.way == noise {
		made = p.matches(v, seen)
		return true, made, made || seen == s
	}
	to, ok := w.write(v)
	if !ok {
		return false, false, false
	}
	return true, to == seen, to != s
}

// back is the value of which the way makes what is seen.
func (w *way) back(seen string) (v value, ok bool) {
	if v, ok = w.print.read(seen); !ok {
		return v, false
	}
	if w.count != nil {
		return w.count.back(v.num)
	}
	return v, true
}

// Column is what was learnt of a column.
type Column struct {
	ways    []*way
	own     *reading // how the column's values are read by people, nil if they are texts
	letters *Letters
	known   map[rune]bool // letters that the snapshot's values have
	Keeps   bool          // no value became another one
	Only    bool          // nobody but a program writes so
	Went    int           // cells that the ways made what is seen, of those that were looked at
}

// Learn learns what became of a column, nil where nothing uniform did. The letters of the
// file are told by LearnLetters; year is the clock's when the copy was saved.
func Learn(cells []Cell, letters *Letters, year int) *Column {
	l := newLearner(cells, letters, year)
	c := &Column{own: l.own, letters: letters, known: l.known, Keeps: true}
	rest := l.cells
	for range maxWays {
		w := l.best(rest)
		if w == nil {
			break
		}
		c.ways = append(c.ways, w)
		c.Keeps = c.Keeps && w.keeps
		c.Only = c.Only || w.only
		c.Went += w.went
		var left []Cell
		for _, x := range rest {
			if _, reads := w.take(x.Snapshot); !reads {
				left = append(left, x)
			}
		}
		rest = left
	}
	if len(c.ways) == 0 {
		return nil
	}
	return c
}

// Makes reports whether a way makes what is seen of the snapshot's value, and of what kind it
// is then.
func (c *Column) Makes(snapshot, seen string) (Kind, bool) {
	for _, w := range c.ways {
		if reads, made, _ := w.makes(snapshot, seen); reads {
			return w.kind(snapshot, seen), made
		}
	}
	return Encoding, c.letters != nil && c.letters.apply(snapshot) == seen
}

// Reads reports whether a program would have made something of a text.
func (c *Column) Reads(s string) bool {
	for _, w := range c.ways {
		if _, ok := w.take(s); ok {
			return true
		}
	}
	return false
}

// Meant is the value that somebody gave a cell that is seen so: the one, in the column's
// form, of which the ways make what is seen. It is false where there is none, or
// several.
func (c *Column) Meant(seen string) (string, bool) {
	var all []string
	same := true // they are one value
	var first value
	add := func(text string, v value, s sort) {
		for _, x := range all {
			if x == text {
				return
			}
		}
		if all = append(all, text); len(all) == 1 {
			first = v
		} else if s == text1 || s != number && s != moment || !first.same(v, s) {
			same = false
		}
	}
	for i, w := range c.ways {
		v, ok := w.back(seen)
		if !ok {
			continue
		}
		if w.read.sort == text {
			if t, ok := w.letters.undo(v.text, c.known); ok && c.first(i, t) {
				if to, ok := w.of(t); ok && to == seen {
					add(t, v, text)
				}
			}
			continue
		}
		for _, f := range w.forms {
			t, ok := f.print(v)
			if !ok || !c.first(i, t) {
				continue
			}
			if _, made, _ := w.makes(t, seen); made {
				if r, ok := w.take(t); ok && (w.count != nil || r.same(v, w.read.sort)) {
					add(t, v, w.read.sort)
				}
			}
		}
	}
	if !c.Reads(seen) { // it passed as it is
		if t, ok := c.letters.undo(seen, c.known); ok {
			add(t, value{}, text1)
		}
	}
	switch {
	case len(all) == 1:
		return all[0], true
	case len(all) == 0:
		return c.kept(seen)
	case same:
		for _, x := range all {
			if x == seen {
				return seen, true
			}
		}
		return all[0], true
	}
	return "", false
}

// text1 is the sort of what no way reads.
const text1 = text + 1

// first reports whether no way before one reads a text.
func (c *Column) first(i int, s string) bool {
	for _, w := range c.ways[:i] {
		if _, ok := w.take(s); ok {
			return false
		}
	}
	return true
}

// kept reads what no way makes: a value in the column's own form that was kept from the
// program stands as it is seen.
func (c *Column) kept(seen string) (string, bool) {
	for _, w := range c.ways {
		v, ok := w.take(seen)
		if !ok || w.read.sort == text || w.read.guess {
			continue
		}
		for _, f := range w.forms {
			if t, ok := f.print(v); ok && t == seen {
				return seen, true
			}
		}
		return "", false
	}
	return "", false
}

// Words say what the ways are.
func (c *Column) Words() string {
	var all []string
	for _, w := range c.ways {
		s := w.words()
		if s != "" && !strings.Contains(strings.Join(all, ", "), s) {
			all = append(all, s)
		}
	}
	return strings.Join(all, ", ")
}

func (w *way) words() string {
	var all []string
	add := func(s string) {
		if s != "" {
			all = append(all, s)
		}
	}
	if w.read.guess {
		add(w.read.name)
	}
	if w.count != nil {
		add(w.count.name)
	}
	if w.letters != nil && w.read.sort == text {
		add(w.letters.name)
	}
	add(w.print.words())
	return strings.Join(all, ", ")
}

// kind says what kind of thing became of a value.
func (w *way) kind(snapshot, seen string) Kind {
	switch w.read.sort {
	case number:
		p := w.print.(*numberPrint)
		switch {
		case strings.ContainsAny(seen, "eE"):
			return Exponents
		case w.read.guess && strings.ContainsAny(snapshot, "eE"):
			return Guesses
		case !w.keeps && (p.way == fixed || p.way == doubled || p.way == cut || p.way == digits || p.way == general), p.way == noise, p.way == digits && len(seen) > digits15:
			return Digits
		case len(snapshot) > 1 && snapshot[0] == '0' && isDigit(snapshot[1]) && len(seen) < len(snapshot):
			return Zeros
		}
		return Numbers
	case moment:
		if w.read.guess {
			return Guesses
		}
		return Days
	case flag:
		return Flags
	}
	p, ok := w.print.(*textPrint)
	switch {
	case !ok || p.name == "":
		return Encoding
	case strings.HasPrefix(p.name, "cut"):
		return Cuts
	case strings.HasPrefix(p.name, "in ") || strings.HasPrefix(p.name, "first"):
		return Case
	case strings.HasPrefix(p.name, "marks") || strings.HasPrefix(p.name, "quotes") || strings.HasPrefix(p.name, "an apostrophe"):
		return Marks
	}
	return Blanks
}
