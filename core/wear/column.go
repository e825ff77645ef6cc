package wear

import (
	"regexp"
	"slices"
	"strings"

	"paletwin/core/wear/learn"
)

// State is what became of a column.
type State int

const (
	Intact   State = iota // the habit did nothing to it, or was kept from it
	Worn                  // the habit went over it
	Mixed                 // some cells look worn and others do not
	Doubtful              // all look worn, and may be meant: only a person can tell
)

// Column is a column of a file that was saved by a program.
type Column struct {
	Habit Habit
	State State
	Said  bool   // a person says of which program the file is
	Would int    // cells of which the habit makes something else
	Went  int    // of these, those that are seen so
	Kept  int    // of these, those that are seen as they were
	Times string // how many times as much those are that are another value, if they all are
	Turns int    // of those that went, those that are another value in the column's own reading
	Less  int    // of these, those that are not the value they were, read in any way that the column shows
	Kinds map[Kind]int
	// Rivals are habits that fit the file as well. What they would read
	// otherwise is not read.
	Rivals []Habit
	form   Form

	meant  *learn.Form   // how the values of a column that the habit went over are written
	learnt *learn.Column // what was learnt of it, nil if nothing was
	silent bool          // ways that keep the values restore them without a word
	rest   bool          // of the cells alone that the habit does not take

	rounded int // ids of which no habit, but some program made a number
	exact   int // ids of which it would have made another, and that are seen as they were
}

// Thresholds, each with its reason.
const (
	// keptShare: a column is worn if at most one in so many of the cells that
	// would be worn was kept: more would be a column that was text, with single
	// cells changed by hand.
	keptShare = 20
	// otherShare: a column is not worn where more than one in so many of the cells
	// that would be is something else: these were edited, and so the others may be.
	otherShare = 4
	// formed is how many values of a column show its form: more cost time and show
	// nothing new.
	formed = 1000
	// fewWorn is how many cells of a column alone prove that it is worn. With
	// fewer, the rest of the file has to show the same habit.
	fewWorn = 3
)

// Judge says what became of a column under a habit, as far as the column shows
// it; Settle says it of all columns of a file.
func Judge(h Habit, cells []Pair) *Column {
	c := &Column{Habit: h, Kinds: map[Kind]int{}}
	for i := 0; i < len(cells); i += len(cells)/formed + 1 {
		c.form.Take(cells[i].Snapshot)
	}
	for _, p := range cells {
		worn, kind := h.Wear(p.Snapshot)
		switch {
		case worn != p.Seen && isRounding(p.Snapshot, p.Seen):
			c.rounded++
		case p.Seen == p.Snapshot && rounds(p.Seen):
			c.exact++
		}
		if worn == p.Snapshot {
			continue
		}
		c.Would++
		switch {
		case h.Makes(p.Snapshot, p.Seen):
			c.Went++
			c.Kinds[kind]++
			switch c.form.same(p.Snapshot, p.Seen) {
			case another:
				if c.Turns++; c.Turns == 1 {
					c.Times = c.form.ratio(p.Snapshot, p.Seen)
				} else if c.Times != c.form.ratio(p.Snapshot, p.Seen) {
					c.Times = ""
				}
			case untold:
				c.Less++
			}
		case p.Seen == p.Snapshot:
			c.Kept++
		}
	}
	switch {
	case c.Went == 0:
		c.State = Intact
	case c.Kept*keptShare > c.Went, (c.Would-c.Went)*otherShare > c.Would:
		c.State = Mixed
	case c.Turns > 0:
		c.State = Doubtful
	default:
		c.State = Worn
	}
	return c
}

// Settle decides of columns that look worn, nil where nothing was found, whether
// they are: by the other columns of the file. A habit goes over a file and not
// over a column; where it would have changed more columns than it did, it was
// none. A column from which alone the habit is concluded shows it if its values are
// the same in its own reading, no other column was spared, and enough cells show it.
// A copy in which texts were kept from programs, as a lent one is, says nothing by
// what was spared.
// alone, if not nil, says of a column by its place whether the habit is concluded
// from it and no other.
func Settle(columns []*Column, texts bool, alone func(int) bool) {
	went, spared := 0, 0
	for _, c := range columns {
		switch {
		case c == nil:
		case c.Went > 0 && c.State != Mixed:
			went++
		case !texts && spares(c.Went, c.Kept, c.Would):
			spared++
		}
	}
	for f, c := range columns {
		if c == nil || c.State != Worn {
			continue
		}
		switch {
		case spared >= went,
			(c.Less > 0 || spared > 0) && (went == 1 || alone != nil && alone(f)):
			c.State = Doubtful
		case went == 1 && c.Went < fewWorn:
			c.State = Mixed
		}
	}
}

// As says how a cell is read.
type As int

const (
	Edit     As = iota // somebody changed it; Value is what was meant
	Snapshot           // software changed it: the snapshot's value stands
	Held               // it could be either
	Unknown            // somebody changed it, and what was meant cannot be told
)

// Reading is a cell that was read.
type Reading struct {
	As    As
	Kind  Kind
	Value string // of an edit
}

// Read reads a cell of the column.
func (c *Column) Read(snapshot, seen string) Reading {
	if seen == snapshot {
		return Reading{As: Snapshot}
	}
	if c.learnt != nil && (!c.rest || !c.Habit.takes(snapshot)) {
		return c.readLearnt(snapshot, seen)
	}
	_, kind := c.Habit.Wear(snapshot)
	made := c.Habit.Makes(snapshot, seen)
	switch {
	case made && c.State == Worn:
		return Reading{As: Snapshot, Kind: kind}
	case made && (c.State == Mixed || c.State == Doubtful):
		return Reading{As: Held, Kind: kind}
	case isRounding(snapshot, seen) && c.numbers():
		return Reading{As: Snapshot, Kind: Precision}
	case isRounding(snapshot, seen):
		return Reading{As: Held, Kind: Precision}
	}
	r := c.ReadNew(seen)
	if r.Value != snapshot || r.As != Edit {
		return r
	}
	if _, said := c.asSaid(seen); said {
		return Reading{As: Snapshot, Kind: c.form.kind()}
	}
	return c.asSeen(seen) // the value in another form, which nothing but a person gave it
}

var errorValue = regexp.MustCompile(`^(#(NAME\?|VALUE!|REF!|DIV/0!|N/A|NUM!|NULL!)|Err:[0-9]{3})$`)

// numbers reports whether a program that is not known made numbers of the column's
// ids, as enough of them show.
func (c *Column) numbers() bool { return c.rounded >= fewWorn && c.exact*keptShare <= c.rounded }

// ReadNew reads a cell that holds a new value: the value of which the column's
// habit makes what is seen, in the form that the column's values have. Where
// several values show alike it is Unknown.
func (c *Column) ReadNew(seen string) Reading {
	if errorValue.MatchString(seen) {
		return Reading{As: Unknown, Kind: ErrorValue}
	}
	switch {
	case seen == "":
		return Reading{As: Edit}
	case c.learnt != nil && (!c.rest || !c.Habit.takes(seen)):
		return c.newLearnt(seen)
	case c.numbers() && len(seen) >= idLength && seenNumber.MatchString(seen):
		return Reading{As: Unknown, Kind: Precision}
	case c.State == Doubtful:
		// What was meant depends on what became of the column.
		if r := c.unworn(seen); r.As == Unknown || r.Value != seen {
			return Reading{As: Unknown, Kind: c.mainKind()}
		}
	case c.State == Worn:
		return c.unworn(seen)
	}
	if r, ok := c.tidied(seen); ok {
		return r
	}
	if r, ok := c.asSaid(seen); ok {
		return r
	}
	return c.asSeen(seen)
}

// Fits is the locale of a program of a file of a format that would show so what is outside of the column's own form;
// "" is none.
func (c *Column) Fits(format, seen string) string {
	for _, h := range Habits(format) {
		as := *c
		as.Habit, as.Said = h, true
		if _, ok := as.asSaid(seen); ok {
			return h.Locale.Name
		}
	}
	return ""
}

// kind is what is another form of the column's values: a number's, or a date's.
func (f *Form) kind() Kind {
	if f.scaled() {
		return Number
	}
	return DateForm
}

// asSaid reads a value as the program writes it that a person says the file is of, where it is not in the
// column's own form and one value is.
func (c *Column) asSaid(seen string) (Reading, bool) {
	l := c.Habit.Locale
	if !c.Said || l == nil || !c.form.Outside(seen) && (l.decimal == '.' || c.form.comma > 0 || !strings.ContainsRune(seen, rune(l.decimal))) {
		return Reading{}, false
	}
	all := c.form.candidates(seen, c.Habit)
	if len(all) != 1 || all[0] == seen || c.form.Outside(all[0]) {
		return Reading{}, false
	}
	return Reading{As: Edit, Value: all[0]}, true
}

// asSeen takes a value as it is seen, if it can be read in one way.
func (c *Column) asSeen(seen string) Reading {
	if kind, untold := c.form.Untold(seen); untold {
		return Reading{As: Unknown, Kind: kind}
	}
	return Reading{As: Edit, Value: seen}
}

// unworn reads a new value of a column that the habit went over.
func (c *Column) unworn(seen string) Reading {
	text := seen
	if c.Habit.Charset != "" {
		undone, ok := c.Habit.Charset.undo(seen)
		if !ok {
			return Reading{As: Unknown, Kind: Encoding}
		}
		text = undone
	}
	if exponentForm.MatchString(text) {
		return Reading{As: Unknown, Kind: Exponent}
	}
	for _, v := range c.form.candidates(text, c.Habit) {
		if worn, _ := c.Habit.Wear(v); worn == seen && c.agreed(v, text) {
			if c.besides(v, seen) {
				return Reading{As: Unknown, Kind: Precision}
			}
			return Reading{As: Edit, Value: v}
		}
	}
	if v, n := c.inForm(text, seen); n > 1 || n == 1 && c.besides(v, seen) {
		return Reading{As: Unknown, Kind: c.mainKind()}
	} else if n == 1 {
		return Reading{As: Edit, Value: v}
	}
	worn, _ := c.Habit.Wear(text)
	switch {
	case worn != seen && c.Habit.Charset == "":
		// What a program writes it writes again: this it did not write, so
		// that the cell was kept from it, and is what somebody wrote.
		return c.asSeen(text)
	case worn == seen && (!c.lossy() || !c.Habit.takes(text)):
		return c.asSeen(text)
	}
	return Reading{As: Unknown, Kind: c.mainKind()}
}

// inForm is the value in the column's form of which the habit makes what is seen, and of how
// many it does.
func (c *Column) inForm(text, seen string) (value string, n int) {
	for _, v := range c.meant.Candidates(text) {
		if worn, _ := c.Habit.Wear(v); worn == seen {
			value = v
			n++
		}
	}
	return value, n
}

// besides reports whether the habit makes what is seen of a number beside a value, too.
func (c *Column) besides(value, seen string) bool {
	return slices.ContainsFunc(learn.Beside(value), func(v string) bool { worn, _ := c.Habit.Wear(v); return worn == seen })
}

// Explains reports whether a program makes what is seen of the snapshot's value.
func (c *Column) Explains(snapshot, seen string) bool {
	if c.learnt != nil {
		if _, made, _ := c.learnt.Makes(snapshot, seen); made {
			return true
		}
	}
	return c.Habit.Makes(snapshot, seen) || isRounding(snapshot, seen)
}

// Outside reports whether a value is written as none of the column is.
func (c *Column) Outside(seen string) bool { return c.form.Outside(seen) }

// Unchosen reports whether the column is one of few values, and this is none of them.
func (c *Column) Unchosen(seen string) bool { return c.form.Unchosen(seen) }

// Ratio is how many times as much a number became, in the column's own reading; ""
// if one of the values is none.
func (c *Column) Ratio(snapshot, seen string) string { return c.form.ratio(snapshot, seen) }

// mainKind is the kind of most of the column's wear.
func (c *Column) mainKind() Kind {
	best, most := Number, 0
	for k, n := range c.Kinds {
		if n > most || n == most && k < best {
			best, most = k, n
		}
	}
	return best
}

// agreed reports whether the rivals read a value likewise, or not at all.
func (c *Column) agreed(value, text string) bool {
	for _, r := range c.Rivals {
		for _, v := range c.form.candidates(text, r) {
			if worn, _ := r.Wear(v); worn == text && v != value {
				return false
			}
		}
	}
	return true
}

var exponentForm = regexp.MustCompile(`^-?[0-9]+([.,][0-9]+)?E[+-][0-9]{2,3}$`)

// lossy reports whether the column's values lost what tells them, or their
// forms, apart.
func (c *Column) lossy() bool {
	return c.Kinds[Precision]+c.Kinds[Exponent]+c.Kinds[DateGuess]+c.Kinds[DateForm]+c.Kinds[Truncated]+c.Kinds[Zeros] > 0
}
