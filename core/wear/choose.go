package wear

import (
	"slices"
	"strings"

	"paletwin/core/wear/learn"
)

// Pair is a cell as the snapshot has it and as the copy shows it.
type Pair struct{ Snapshot, Seen string }

// Known is what a person says of the file.
type Known struct {
	Format  string // of the copy: csv, xlsx, ods
	Year    int    // the clock's
	SavedIn string // a locale, or ""
	Order   string // "dmy" or "mdy", or ""
}

// All lists what may have been done to the file.
func (k Known) All() []Habit { return append(k.in(k.Year), k.in(k.Year-1)...) }

// in lists what may have been done in a year.
func (k Known) in(year int) []Habit {
	var all []Habit
	for _, h := range Habits(k.Format) {
		if k.SavedIn != "" && !strings.EqualFold(h.Locale.Name, k.SavedIn) || k.Order != "" && h.Locale.order != k.Order {
			continue
		}
		h.Year = year
		all = append(all, h)
	}
	return all
}

// Verdict is the habit that fits a file best, and how well.
type Verdict struct {
	Habit     Habit
	Explained int                 // differing cells that it makes as they are seen
	Rivals    []Habit             // others that explain as many, and would have made other texts of some
	fits      map[Habit][]fitting // of all that were tried, by column
}

// Choose finds the habit that explains most of a file's differing cells, given
// by column. Cells that it would have made something else of, in a column that
// it seems to have gone over, count against it. It returns false where none
// explains any.
func Choose(columns [][]Pair, k Known) (Verdict, bool) {
	var best Verdict
	var letters []Pair
	for _, col := range columns {
		for _, p := range col {
			if !learn.ASCII(p.Snapshot) {
				letters = append(letters, p)
			}
		}
	}
	charset := chooseCharset(letters)
	most := 0
	best.fits = map[Habit][]fitting{}
	single := best // where no column is worn, cells may be
	habits := k.in(k.Year)
	guesses := false // of dates without a year
	for n := 0; n < len(habits); n++ {
		h := habits[n]
		h.Charset = charset
		best.fits[h] = h.fits(columns)
		fit := sum(best.fits[h])
		if guesses = guesses || fit.guess; n == len(habits)-1 && guesses && h.Year == k.Year {
			habits = append(habits, k.in(k.Year-1)...)
		}
		if fit.explained > single.Explained {
			single.Habit, single.Explained = h, fit.explained
		}
		switch {
		case fit.score > most:
			most, best.Habit, best.Explained, best.Rivals = fit.score, h, fit.explained, nil
		case fit.score == most && most > 0 && !best.has(h):
			best.Rivals = append(best.Rivals, h)
		}
	}
	if most == 0 {
		return single, single.Explained > 0
	}
	return best, true
}

// Among decides between habits that fit a few cells as well, by more cells; and where
// they still fit as well, for the one that spared the fewest of the columns that it
// should have changed. The others stay its rivals.
func (v Verdict) Among(columns, kept [][]Pair) Verdict {
	if len(v.Rivals) == 0 {
		return v
	}
	best := Verdict{Habit: v.Habit, fits: v.fits}
	most := sum(v.Habit.fits(columns))
	spared := []int{most.spared}
	for _, h := range v.Rivals {
		fit := sum(h.fits(columns))
		switch {
		case fit.score > most.score:
			most, best.Habit, best.Rivals, spared = fit, h, nil, []int{fit.spared}
		case fit.score == most.score:
			best.Rivals, spared = append(best.Rivals, h), append(spared, fit.spared)
		}
	}
	best.Explained = v.Explained
	if len(best.Rivals) > 0 {
		best.preferSparing(spared, kept)
	}
	return best
}

// preferSparing takes the habit that spared the fewest columns, of which those are
// counted that changed.
func (v *Verdict) preferSparing(spared []int, kept [][]Pair) {
	all := append([]Habit{v.Habit}, v.Rivals...)
	least := 0
	for n, h := range all {
		if spared[n] += sum(h.fits(kept)).spared; spared[n] < spared[least] {
			least = n
		}
	}
	v.Habit = all[least]
	v.Rivals = slices.Delete(all, least, least+1)
}

// Alone reports whether the habit is concluded from one column of those that it was
// chosen by, and nothing else: another habit explains all other columns as well,
// and leaves that one as it was. Where the habit took digits that no program keeps,
// it is not asked.
func (v Verdict) Alone(column int) bool {
	others := func(fits []fitting) int { return sum(fits).score - fits[column].score }
	own := v.fits[v.Habit]
	if own[column].digits {
		return false
	}
	if others(own) == 0 {
		return true
	}
	for _, fits := range v.fits {
		if others(fits) >= others(own) && fits[column].score == 0 {
			return true
		}
	}
	return false
}

// Unexplained counts marks of columns that the known habit which explains the most of them
// leaves: marks is what each column counts, cells what it was chosen by.
func (v Verdict) Unexplained(cells [][]Pair, marks []int) int {
	differ := make([]int, len(cells))
	all := 0
	for f, col := range cells {
		for _, p := range col {
			if p.Snapshot != p.Seen {
				differ[f]++
			}
		}
		if differ[f] > 0 { // it was among those that it was chosen by
			all += marks[f]
		}
	}
	least := all
	for _, fits := range v.fits {
		n := 0
		for f, fit := range fits {
			if differ[f] > 0 && 2*fit.explained <= differ[f] {
				n += marks[f]
			}
		}
		least = min(least, n)
	}
	return least
}

// has reports whether the verdict or a rival is of the same program and locale:
// what is read differs between those, and not between ways of saving.
func (v *Verdict) has(h Habit) bool {
	return h.reads(v.Habit) || slices.ContainsFunc(v.Rivals, h.reads)
}

// reads reports whether two habits are of the same program and locale.
func (h Habit) reads(o Habit) bool {
	return o.Locale == h.Locale && o.Desktop == h.Desktop && o.Special == h.Special
}

// fitting is how well a habit fits a file, or one column.
type fitting struct {
	score     int  // cells that it explains, less those that it should have made something else of in the same columns, whether they are as they were or not
	explained int  // cells that it explains
	spared    int  // columns of which it should have changed cells, and changed none
	guess     bool // it takes cells for dates without a year
	digits    bool // it takes digits that no program keeps
}

// fits says how well the habit fits each column.
func (h Habit) fits(columns [][]Pair) []fitting {
	all := make([]fitting, len(columns))
	for f, col := range columns {
		fit := &all[f]
		went, not, kept := 0, 0, 0
		for _, p := range col {
			worn, kind := h.Wear(p.Snapshot)
			fit.guess = fit.guess || kind == DateGuess
			fit.digits = fit.digits || kind == Precision || kind == Exponent
			switch {
			case worn == p.Snapshot:
				continue
			case worn == p.Seen:
				went++
				continue
			case p.Seen == p.Snapshot:
				kept++
			}
			not++
		}
		fit.explained, fit.score = went, max(went-not, 0)
		if spares(went, kept, not) {
			fit.spared = 1
		}
	}
	return all
}

// sum is how well a habit fits all columns.
func sum(fits []fitting) fitting {
	var all fitting
	for _, f := range fits {
		all.score += f.score
		all.explained += f.explained
		all.spared += f.spared
		all.guess = all.guess || f.guess
		all.digits = all.digits || f.digits
	}
	return all
}

// spares reports whether a habit kept from a column: it should have changed cells,
// changed none, and most are as they were.
func spares(went, kept, not int) bool { return went == 0 && kept >= fewWorn && 2*kept > not }

// chooseCharset finds the wrong encoding that explains most of the cells with
// letters beyond ASCII, less those that it would have made something else of and
// that are as they were; "" if none does, or if of more than a quarter became something else.
func chooseCharset(cells []Pair) Charset {
	best, most := Charset(""), 0
	for _, c := range charsets {
		n, would, other := 0, 0, 0
		for _, p := range cells {
			worn := c.wear(strings.ReplaceAll(p.Snapshot, "\r\n", "\n"))
			if worn == p.Snapshot {
				continue
			}
			would++
			switch p.Seen {
			case worn:
				n++
			case p.Snapshot:
				n--
			default:
				other++
			}
		}
		if n > most && other*otherShare <= would {
			best, most = c, n
		}
	}
	return best
}
