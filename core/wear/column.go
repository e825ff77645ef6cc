package wear

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/cockroachdb/apd/v3"
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
			if !isASCII(p.Snapshot) {
				letters = append(letters, p)
			}
		}
	}
	charset := chooseCharset(letters)
	var most fitting
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
		most = best.weigh(h, fit, most)
	}
	if most.score == 0 {
		return single, single.Explained > 0
	}
	return best, true
}

// Among decides between habits that fit a few cells as well, by more cells.
func (v Verdict) Among(columns [][]Pair) Verdict {
	if len(v.Rivals) == 0 {
		return v
	}
	best := Verdict{Habit: v.Habit, fits: v.fits}
	most := sum(v.Habit.fits(columns))
	for _, h := range v.Rivals {
		most = best.weigh(h, sum(h.fits(columns)), most)
	}
	best.Explained = v.Explained
	return best
}

// weigh takes a habit that fits better than the best one so far, or as well, and
// returns how well the best one fits. Of those that explain as many the one that
// spared fewer columns is the better one; the other stays its rival.
func (v *Verdict) weigh(h Habit, fit, most fitting) fitting {
	switch {
	case fit.score == 0 || fit.score < most.score:
		return most
	case fit.score > most.score:
		v.Habit, v.Explained, v.Rivals = h, fit.explained, nil
		return fit
	}
	if fit.spared >= most.spared {
		if !v.has(h) {
			v.Rivals = append(v.Rivals, h)
		}
		return most
	}
	was := v.Habit
	v.Habit, v.Explained = h, fit.explained
	v.Rivals = slices.DeleteFunc(v.Rivals, h.reads)
	if !v.has(was) {
		v.Rivals = append(v.Rivals, was)
	}
	return fit
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
// that are as they were; "" if none does.
func chooseCharset(cells []Pair) Charset {
	best, most := Charset(""), 0
	for _, c := range charsets {
		n := 0
		for _, p := range cells {
			switch worn := c.wear(strings.ReplaceAll(p.Snapshot, "\r\n", "\n")); {
			case worn == p.Snapshot:
			case worn == p.Seen:
				n++
			case p.Seen == p.Snapshot:
				n--
			}
		}
		if n > most {
			best, most = c, n
		}
	}
	return best
}

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
	form   profile
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
	// fewWorn is how many cells of a column alone prove that it is worn. With
	// fewer, the rest of the file has to show the same habit.
	fewWorn = 3
)

// Judge says what became of a column under a habit, as far as the column shows
// it; Settle says it of all columns of a file.
func Judge(h Habit, cells []Pair) *Column {
	c := &Column{Habit: h, Kinds: map[Kind]int{}}
	for _, p := range cells {
		c.form.take(p.Snapshot)
	}
	for _, p := range cells {
		worn, kind := h.Wear(p.Snapshot)
		if worn == p.Snapshot {
			continue
		}
		c.Would++
		switch p.Seen {
		case worn:
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
		case p.Snapshot:
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
	worn, kind := c.Habit.Wear(snapshot)
	switch {
	case seen == snapshot:
		return Reading{As: Snapshot}
	case seen == worn && c.State == Worn:
		return Reading{As: Snapshot, Kind: kind}
	case seen == worn && (c.State == Mixed || c.State == Doubtful):
		return Reading{As: Held, Kind: kind}
	}
	return c.ReadNew(seen)
}

var errorValue = regexp.MustCompile(`^(#(NAME\?|VALUE!|REF!|DIV/0!|N/A|NUM!|NULL!)|Err:[0-9]{3})$`)

// ReadNew reads a cell that holds a new value: the value of which the column's
// habit makes what is seen, in the form that the column's values have. Where
// several values show alike it is Unknown.
func (c *Column) ReadNew(seen string) Reading {
	if errorValue.MatchString(seen) {
		return Reading{As: Unknown, Kind: ErrorValue}
	}
	if c.State == Doubtful && seen != "" {
		return Reading{As: Held, Kind: c.mainKind(), Value: seen}
	}
	if c.State != Worn || seen == "" {
		return Reading{As: Edit, Value: seen}
	}
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
			return Reading{As: Edit, Value: v}
		}
	}
	worn, _ := c.Habit.Wear(text)
	switch {
	case worn != seen && c.Habit.Charset == "":
		// What a program writes it writes again: this it did not write, so
		// that the cell was kept from it, and is what somebody wrote.
		return Reading{As: Edit, Value: text}
	case worn == seen && (!c.lossy() || !c.Habit.takes(text)):
		return Reading{As: Edit, Value: text}
	}
	return Reading{As: Unknown, Kind: c.mainKind()}
}

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

// profile is what the snapshot's values of a column look like.
type profile struct {
	n      int
	digits int // values of digits alone
	width  int // their one length, or -1
	zeros  int // those that start with a zero
	number int // values that are decimals with a point
	scale  int // their one number of decimals, or -1
	comma  int // decimals with a comma
	dates  map[string]int
	yes    string // the words for true and false
	no     string
	low    int // years
	high   int
}

var (
	pointDecimal = regexp.MustCompile(`^-?[0-9]+\.([0-9]+)$`)
	commaDecimal = regexp.MustCompile(`^-?[0-9]+,([0-9]+)$`)
)

// dateForms are forms of dates as snapshots have them.
var dateForms = []string{"2006-01-02", "02/01/2006", "01/02/2006", "02.01.2006", "2/1/2006", "1/2/2006", "2.1.2006", "02-01-2006", "2-Jan-2006", "02-Jan-2006"}

func (f *profile) take(v string) {
	if v == "" {
		return
	}
	f.n++
	switch {
	case strings.Trim(v, "0123456789") == "":
		switch {
		case f.digits == 0:
			f.width = len(v)
		case f.width != len(v):
			f.width = -1
		}
		f.digits++
		if v[0] == '0' && len(v) > 1 {
			f.zeros++
		}
	case pointDecimal.MatchString(v), commaDecimal.MatchString(v):
		m := pointDecimal.FindStringSubmatch(v)
		if m == nil {
			m = commaDecimal.FindStringSubmatch(v)
			f.comma++
		}
		switch {
		case f.number == 0:
			f.scale = len(m[1])
		case f.scale != len(m[1]):
			f.scale = -1
		}
		f.number++
	case strings.EqualFold(v, "true"):
		f.yes = v
	case strings.EqualFold(v, "false"):
		f.no = v
	default:
		f.takeDate(v)
	}
}

func (f *profile) takeDate(v string) {
	if len(v) < 8 || len(v) > 11 || v[len(v)-1] < '0' || v[len(v)-1] > '9' {
		return
	}
	for _, form := range dateForms {
		t, ok := exactDate(form, v)
		if !ok {
			continue
		}
		if f.dates == nil {
			f.dates, f.low, f.high = map[string]int{}, t.Year(), t.Year()
		}
		f.dates[form]++
		f.low, f.high = min(f.low, t.Year()), max(f.high, t.Year())
	}
}

// candidates lists values of the column's own form that may stand behind what
// is seen, the likeliest first.
func (f *profile) candidates(seen string, h Habit) []string {
	var all []string
	point := strings.Replace(seen, string(h.Locale.decimal), ".", 1)
	if f.number*2 > f.n && f.scale >= 0 {
		if d, _, err := apd.NewFromString(point); err == nil && -int(d.Exponent) <= f.scale && d.Form == apd.Finite {
			q := new(apd.Decimal)
			ctx := apd.BaseContext.WithPrecision(100)
			if _, err := ctx.Quantize(q, d, -int32(f.scale)); err == nil {
				v := q.Text('f')
				if f.comma > 0 {
					v = strings.Replace(v, ".", ",", 1)
				}
				all = append(all, v)
			}
		}
	}
	if f.digits*2 > f.n && f.zeros > 0 && f.width > 0 && strings.Trim(seen, "0123456789") == "" && len(seen) < f.width {
		all = append(all, fmt.Sprintf("%0*s", f.width, seen))
	}
	switch {
	case strings.EqualFold(seen, h.Locale.yes) && f.yes != "" || seen == "true":
		all = append(all, f.yes)
	case strings.EqualFold(seen, h.Locale.no) && f.no != "" || seen == "false":
		all = append(all, f.no)
	}
	return append(all, f.dateCandidates(seen, h)...)
}

// dateForm is the form that most of the column's values have, if they are dates
// whose order of day and month is told.
func (f *profile) dateForm() string {
	form, most := "", 0
	for _, x := range dateForms {
		if n := f.dates[x]; n > most {
			form, most = x, n
		}
	}
	if most*2 <= f.n {
		return ""
	}
	for x, n := range f.dates {
		if n == most && dayFirst(x) != dayFirst(form) {
			return "" // day and month could be exchanged in every one
		}
	}
	return form
}

// dateCandidates reads a date in the form that the habit writes, and writes it
// in the column's own, as it stands and with day and month exchanged: a
// program that took one for the other took it so here, too. A century that the
// column does not have is not taken.
func (f *profile) dateCandidates(seen string, h Habit) []string {
	form := f.dateForm()
	if form == "" {
		return nil
	}
	sep := h.Locale.sep
	shown := "02" + sep + "01" + sep + "06"
	if h.Locale.order == "mdy" {
		shown = "01" + sep + "02" + sep + "06"
	}
	for _, written := range []string{"2006-01-02", shown, strings.Replace(shown, "06", "2006", 1), "1/2/2006"} {
		if written == "1/2/2006" && h.Locale.order != "mdy" {
			continue
		}
		t, err := time.Parse(written, seen)
		if err != nil {
			continue
		}
		if written == shown && (t.Year()/100 != f.low/100 || t.Year()/100 != f.high/100) {
			return nil
		}
		all := []string{t.Format(form)}
		if form[:4] != "2006" && t.Day() <= 12 {
			all = append(all, time.Date(t.Year(), time.Month(t.Day()), int(t.Month()), 0, 0, 0, 0, time.UTC).Format(form))
		}
		return all
	}
	return nil
}

// dayFirst reports whether a date form has the day before the month.
func dayFirst(form string) bool {
	return strings.Index(form, "2") < strings.IndexAny(form, "1J") && form[:4] != "2006"
}
