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
	"slices"
	"strings"
	"time"
)

// Cell is a cell as the snapshot has it and as the copy shows it.
type Cell struct{ Snapshot, Seen string }

// Thresholds; the package comment says what for.
const (
	fewValues  = 6  // different values that a way went over, at least
	keptShare  = 20 // one kept for so many that went, at most
	otherShare = 4  // one in so many is something else, at most
	fewWeak    = 2  // different values of a way that is told and never silent, and
	weakCells  = 6  // its cells, of which none was kept
	fewProofs  = 3  // cells that only the new writing reads, where the old one reads others as other values
	induced    = 80 // cells that a writing is induced from
	maxWays    = 3
	choices    = 12 // so many different codes are all that there are
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
	forms   []printer      // how the column writes the values
	zoned   bool           // the snapshot's moments have zones
	zone    *time.Location // in which moments are written, nil as they were
	year    int            // of days without one
	keeps   bool           // the values; a weak way is taken to keep none
	only    bool           // nobody but a program writes so
	weak    bool           // it stands on few values
	lossy   bool           // values became others that cannot be told back
	inexact bool           // numbers are the same to fifteen digits alone
	times   string         // how many times as much the values are in the column's own reading, "" if not all alike
	grown   bool           // all that is seen is longer by more than a sign or two
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
	if w.letters != nil && !w.letters.knows(s) {
		return value{}, false
	}
	v, ok := w.read.take(s)
	if ok && v.has&noYear != 0 && w.year != 0 {
		v.at = time.Date(w.year, v.at.Month(), v.at.Day(), 0, 0, 0, 0, time.UTC)
		v.has &^= noYear
	}
	if ok && w.zone != nil {
		v = w.local(v)
	}
	if ok && w.count != nil {
		if v.has&hasDay != 0 != w.count.days {
			return v, false
		}
		v.num = w.count.of(v)
	}
	return v, ok
}

// local is a moment as it is written in the way's zone: one that was written with a zone is
// moved, one without is taken to be of that zone.
func (w *way) local(v value) value {
	at := v.at.Add(-time.Duration(v.zone) * time.Minute).In(w.zone)
	if v.has&hasZone == 0 {
		at = time.Date(v.at.Year(), v.at.Month(), v.at.Day(), v.at.Hour(), v.at.Minute(), v.at.Second(), v.at.Nanosecond(), w.zone)
	}
	name, seconds := at.Zone()
	v.at = time.Date(at.Year(), at.Month(), at.Day(), at.Hour(), at.Minute(), at.Second(), at.Nanosecond(), time.UTC)
	v.zone, v.name = seconds/60, name
	return v
}

func (w *way) write(v value) (string, bool) {
	if w.read.sort == texts {
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
	p, isNumber := w.print.(*numberPrint)
	if isNumber && p.loose() {
		made = p.near(v, seen)
		return true, made, !made || seen != s
	}
	to, ok := w.write(v)
	if !ok {
		return false, false, false
	}
	return true, to == seen || isNumber && seen != s && p.tie(v, seen), to != s
}

// back is the value of which the way makes what is seen.
func (w *way) back(seen string) (v value, ok bool) {
	if v, ok = w.print.read(seen); !ok {
		return v, false
	}
	if w.count != nil {
		return w.count.back(v.num)
	}
	if w.zone != nil && w.zoned {
		at := time.Date(v.at.Year(), v.at.Month(), v.at.Day(), v.at.Hour(), v.at.Minute(), v.at.Second(), v.at.Nanosecond(), w.zone)
		v.at = at.UTC()
	}
	return v, true
}

// Column is what was learnt of a column.
type Column struct {
	ways    []*way
	own     *reading // how the column's values are read by people, nil if they are texts
	letters *Letters
	known   map[rune]bool   // letters that the snapshot's values have
	values  map[string]bool // the snapshot's values
	Keeps   bool            // no value became another one
	Only    bool            // nobody but a program writes so
	Strong  bool            // a way stands on enough values
	Went    int             // cells that the ways made what is seen, of those that were looked at
}

// About is what is known of a column besides its cells.
type About struct {
	Letters *Letters // what became of the file's letters, by LearnLetters
	Year    int      // the clock's when the copy was saved
	Shown   int      // decimals that the snapshot's cells show, by their number format; -1 where that is not said
}

// Learn learns what became of a column, nil where nothing uniform did.
func Learn(cells []Cell, a About) *Column {
	l := newLearner(cells, a)
	return l.learn(l.best)
}

// learn takes up to three ways, each of what those before it do not read.
func (l *learner) learn(best func(rest []Cell) *way) *Column {
	c := &Column{own: l.own, letters: l.letters, known: l.known, values: l.seen, Keeps: true}
	rest := l.cells
	for range maxWays {
		w := best(rest)
		if w == nil {
			break
		}
		w.forms = l.forms(w)
		c.add(w)
		rest = w.leaves(rest)
	}
	if len(c.ways) == 0 {
		return nil
	}
	return c
}

// add takes a way in.
func (c *Column) add(w *way) {
	c.ways = append(c.ways, w)
	c.Keeps = c.Keeps && w.keeps
	c.Only = c.Only || w.only
	c.Strong = c.Strong || !w.weak
	c.Went += w.went
}

// leaves are the cells that the way does not read.
func (w *way) leaves(cells []Cell) []Cell {
	var left []Cell
	for _, x := range cells {
		if _, reads := w.take(x.Snapshot); !reads {
			left = append(left, x)
		}
	}
	return left
}

// Adopt looks whether what was learnt of other columns of the file became of one whose values
// are too few to show it. A way that is adopted keeps values where it kept them there, and
// of the cells that it would have changed none was kept.
func Adopt(cells []Cell, others []*Column, a About) *Column {
	l := newLearner(cells, a)
	return l.learn(func(rest []Cell) (best *way) {
		for _, o := range others {
			for _, w := range o.ways {
				own := *w
				if !w.weak && !w.read.guess && l.adopts(&own, rest) && (best == nil || own.went > best.went || own.went == best.went && own.keeps && !best.keeps) {
					best = &own
				}
			}
		}
		return best
	})
}

// Makes reports whether a way makes what is seen of the snapshot's value, of what kind it
// is then, and whether the way keeps the values.
func (c *Column) Makes(snapshot, seen string) (k Kind, made, keeps bool) {
	for _, w := range c.ways {
		if reads, made, _ := w.makes(snapshot, seen); reads {
			return w.kind(snapshot, seen), made, w.keeps
		}
	}
	return Encoding, c.letters != nil && c.letters.apply(snapshot) == seen, c.letters != nil && c.letters.keep
}

// Of is what the copy shows of a value.
func (c *Column) Of(s string) string {
	for _, w := range c.ways {
		if to, ok := w.of(s); ok {
			return to
		}
	}
	return c.letters.apply(s)
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
// several. sure is false where the way that was taken does not keep values.
func (c *Column) Meant(seen string) (text string, sure, ok bool) {
	m := meanings{c: c, seen: seen}
	for i, w := range c.ways {
		v, ok := w.back(seen)
		m.printed = m.printed || ok && w.read.sort != texts
		if ok && !w.lossy {
			m.take(i, w, v)
		}
	}
	if !m.printed && !c.Reads(seen) { // it passed as it is
		if t, ok := c.letters.undo(seen, c.known); ok {
			m.add(t, true)
		}
	}
	switch len(m.all) {
	case 0:
		t, ok := c.kept(seen)
		return t, true, ok
	case 1:
		return m.all[0], m.sure, !m.guess || len(c.values) > choices || c.values[m.all[0]]
	}
	for _, t := range m.all { // of several codes the one that is in use
		if c.values[t] {
			if text != "" {
				return "", false, false
			}
			text = t
		}
	}
	return text, m.sure, text != "" && m.guess
}

// meanings are the values that may have been given.
type meanings struct {
	c       *Column
	seen    string
	all     []string
	sure    bool
	guess   bool // they are codes
	printed bool // what is seen looks like what a way of numbers, moments or flags writes
}

func (m *meanings) add(t string, sure bool) {
	if !slices.Contains(m.all, t) {
		m.all, m.sure = append(m.all, t), sure
	}
}

// take adds the texts of a value of a way, the nth of the column.
func (m *meanings) take(n int, w *way, v value) {
	sure := w.keeps || w.weak
	if w.read.sort == texts {
		if t, ok := w.letters.undo(v.text, m.c.known); ok && m.c.first(n, t) {
			if to, ok := w.of(t); ok && to == m.seen {
				m.add(t, sure)
			}
		}
		return
	}
	for _, f := range w.forms {
		t, ok := f.print(v)
		if !ok || !m.c.first(n, t) || !m.c.ownReads(t, w) {
			continue
		}
		if _, made, _ := w.makes(t, m.seen); !made {
			continue
		}
		if r, ok := w.take(t); ok && w.alone(t, m.seen) && (w.count != nil || r.same(v, w.read.sort)) {
			m.add(t, sure)
			m.guess = m.guess || w.read.guess
		}
	}
}

// ownReads reports whether the column's own reading takes a text that is of its kind.
func (c *Column) ownReads(s string, w *way) bool {
	if c.own == nil || c.own.sort != w.read.sort {
		return true
	}
	_, ok := c.own.take(s)
	return ok
}

// alone reports whether the way makes what is seen of no number beside: with the last
// digit one more, or one less.
func (w *way) alone(s, seen string) bool {
	if w.read.sort != number {
		return true
	}
	for _, x := range Beside(s) {
		if _, made, _ := w.makes(x, seen); made {
			return false
		}
	}
	return true
}

// Beside are the numbers beside one that is written with decimals: with the last digit one
// more, and one less.
func Beside(s string) []string {
	at := strings.LastIndexAny(s, "0123456789")
	if at < 0 || !strings.ContainsAny(s, ".,") && len(s) <= Digits15 {
		return nil
	}
	var all []string
	for _, d := range []byte{1, 9} {
		b := []byte(s)
		b[at] = '0' + (b[at]-'0'+d)%10
		all = append(all, string(b))
	}
	return all
}

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
		if !ok || w.read.guess {
			continue
		}
		if to, ok := w.of(seen); !ok || to == seen {
			return "", false // the program may have made it
		}
		if w.read.sort == texts {
			return seen, true
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

// Times is how many times as much the values are in the column's own reading, "" if they
// are not all alike.
func (c *Column) Times() string {
	if len(c.ways) == 0 {
		return ""
	}
	return c.ways[0].times
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
	if w.letters != nil && w.read.sort == texts {
		add(w.letters.name)
	}
	if w.inexact {
		add("digits lost behind the fifteenth")
	}
	add(w.print.words())
	return strings.Join(all, ", ")
}

// writes is the sort of what the way writes.
func (w *way) writes() sort {
	if w.count != nil {
		return number
	}
	return w.read.sort
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
		case w.inexact:
			return Digits
		case !w.keeps && (p.way == fixed || p.way == doubled || p.way == cut || p.way == digits || p.way == general), p.way == noise, p.way == digits && len(seen) > Digits15:
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
	return w.print.(*textPrint).kind
}
