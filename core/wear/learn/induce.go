package learn

import (
	"slices"
	"strconv"
	"sync"
	"time"
	_ "time/tzdata" // zones are there on every system
	"unicode/utf8"

	"github.com/cockroachdb/apd/v3"
)

// learner learns the ways of one column.
type learner struct {
	cells   []Cell
	letters *Letters
	year    int
	shown   int
	own     *reading
	known   map[rune]bool
	values  []string // different values of the snapshot
	seen    map[string]bool
}

func newLearner(cells []Cell, a About) *learner {
	l := &learner{letters: a.Letters, year: a.Year, shown: a.Shown, known: map[rune]bool{}, seen: map[string]bool{}}
	l.cells = cells
	for i := range cells {
		if s := cells[i].Snapshot; !l.seen[s] {
			l.seen[s] = true
			l.values = append(l.values, s)
			for _, r := range s {
				if r >= utf8.RuneSelf {
					l.known[r] = true
				}
			}
		}
	}
	l.own = ownReading(l.values)
	return l
}

// ownShare is the share, in percent, of a column's values that its own reading reads.
const ownShare = 80

// ownReading is the natural reading of most values, nil for texts.
func ownReading(values []string) *reading {
	var best *reading
	most := 0
	for _, r := range natural {
		n := 0
		for _, s := range values {
			if _, ok := r.take(s); ok {
				n++
			}
		}
		if n > most {
			best, most = r, n
		}
	}
	if most*100 < ownShare*len(values) {
		return nil
	}
	return best
}

// differing are cells of different values that differ, at even distances.
// Of one value it is what most of its cells show.
func differing(cells []Cell) []Cell {
	var all []Cell
	shows := map[string]map[string]int{}
	for _, c := range cells {
		if c.Seen == c.Snapshot {
			continue
		}
		if shows[c.Snapshot] == nil {
			shows[c.Snapshot] = map[string]int{}
			all = append(all, c)
		}
		shows[c.Snapshot][c.Seen]++
	}
	for i := range all {
		all[i].Seen = common(shows[all[i].Snapshot])
	}
	step := len(all)/induced + 1
	var some []Cell
	for i := 0; i < len(all); i += step {
		some = append(some, all[i])
	}
	return some
}

// best finds the way that explains most of the cells, nil where none stands.
func (l *learner) best(cells []Cell) *way {
	some := differing(cells)
	var found *way
	most := 0
	consider := func(w *way) {
		if w.read.sort != texts && w.idle(some) {
			return
		}
		if n := l.score(w, some); n > most && l.stands(w, cells) {
			found, most = w, n
		}
	}
	for _, r := range slices.Concat(natural, others) {
		all := (&way{read: r}).examples(some)
		if len(all) < fewWeak && r.sort != flag || len(all) == 0 {
			continue
		}
		l.propose(r, all, some, consider)
	}
	if most*5 < len(some)*4 { // what a reading of values explains, texts need not
		l.proposeTexts(some, consider)
	}
	return found
}

// idle reports whether a way makes nothing of what is seen in the first cells it reads.
func (w *way) idle(some []Cell) bool {
	tried := 0
	for _, c := range some {
		reads, made, _ := w.makes(c.Snapshot, c.Seen)
		if made {
			return false
		}
		if reads {
			if tried++; tried == 12 {
				return true
			}
		}
	}
	return true
}

// propose considers the ways of one reading.
func (l *learner) propose(r *reading, all []example, some []Cell, consider func(*way)) {
	l.proposeWays(way{read: r}, all, consider)
	if r.sort != moment {
		return
	}
	years := []int{0}
	if all[0].v.has&noYear != 0 {
		years = append(years, l.years(all)...)
	}
	for _, y := range years[1:] {
		w := way{read: r, year: y}
		l.proposeWays(w, w.examples(some), consider)
	}
	if all[0].v.has&hasClock != 0 && all[0].v.has&hasDay != 0 {
		for _, z := range placesOfTime() {
			w := way{read: r, zone: z, zoned: all[0].v.has&hasZone != 0}
			l.proposeWays(w, w.examples(some), consider)
		}
	}
	for _, k := range counts {
		for _, y := range years {
			w := way{read: r, count: k, year: y}
			if counted := slices.DeleteFunc(w.examples(some), func(x example) bool { return x.v.has&noYear != 0 || !plainNumber(x.seen) }); len(counted) >= fewWeak {
				l.proposeWays(w, counted, consider)
			}
		}
	}
}

// proposeWays considers a way with each of the writings that the examples may show.
func (l *learner) proposeWays(w way, all []example, consider func(*way)) {
	for _, p := range writings(w.writes(), all, false) {
		own := w
		own.print = p
		consider(&own)
	}
}

// examples are the cells that a way reads.
func (w *way) examples(cells []Cell) (all []example) {
	for _, c := range cells {
		if v, ok := w.take(c.Snapshot); ok {
			all = append(all, example{v, c.Seen})
		}
	}
	return all
}

// writings are the ways in which values of a sort may be written as they are seen, the simpler
// first; forms are those of a column, in which nothing is rounded.
func writings(s sort, all []example, form bool) (found []printer) {
	if len(all) == 0 {
		return nil
	}
	switch s {
	case number:
		for _, p := range numberPrints(all, form) {
			found = append(found, p)
		}
	case flag:
		found = append(found, flagPrintOf(all))
	case moment:
		for _, t := range templates(all) {
			found = append(found, t)
		}
	}
	return found
}

// placesOfTime are zones that moments may be moved to: of Europe and North America, and by
// full hours.
var placesOfTime = sync.OnceValue(func() []*time.Location {
	all := []*time.Location{time.UTC}
	for _, name := range []string{"Europe/London", "Europe/Berlin", "Europe/Helsinki", "America/New_York", "America/Chicago", "America/Denver", "America/Los_Angeles"} {
		if z, err := time.LoadLocation(name); err == nil {
			all = append(all, z)
		}
	}
	for h := -12; h <= 14; h++ {
		all = append(all, time.FixedZone("", h*3600))
	}
	return all
})

// years are those that days without one may have got: the clock's, and those that
// are seen.
func (l *learner) years(all []example) []int {
	votes := map[int]int{}
	for _, x := range all {
		for _, r := range runsOf(x.seen) {
			n, err := strconv.Atoi(r.text)
			switch {
			case r.kind != '0' || err != nil:
			case len(r.text) == 4 && n > 1900 && n < 2100:
				votes[n]++
			case len(r.text) == 2:
				votes[2000+n]++
			case len(r.text) == 5 && n < lastSerial:
				votes[serialZero.AddDate(0, 0, n).Year()]++
			}
		}
	}
	found := []int{l.year, l.year - 1}
	for range 2 {
		if y := common(votes); y != 0 {
			found = append(found, y)
			delete(votes, y)
		}
	}
	return found
}

// proposeTexts considers what is done to texts, with the file's letters and without.
func (l *learner) proposeTexts(some []Cell, consider func(*way)) {
	var all []example
	for _, c := range some {
		all = append(all, example{value{text: c.Snapshot}, c.Seen})
	}
	if l.letters != nil {
		consider(&way{read: asText, letters: l.letters, print: asIs})
	}
	for _, p := range textPrints(all) {
		consider(&way{read: asText, print: p})
		if l.letters != nil {
			consider(&way{read: asText, letters: l.letters, print: p})
		}
	}
}

// score is how many cells a way explains, less those of which it would have made something
// else.
func (l *learner) score(w *way, some []Cell) int {
	n := 0
	for _, c := range some {
		switch reads, made, moves := w.makes(c.Snapshot, c.Seen); {
		case !reads || !moves && !made:
		case made:
			n++
		default:
			n--
		}
	}
	return n
}

// stands reports whether a way stands on enough cells, and notes whether it keeps the
// values.
func (l *learner) stands(w *way, cells []Cell) bool {
	went, kept, other, turned, proofs := 0, 0, 0, 0, 0
	values, words := map[string]bool{}, map[bool]int{}
	w.keeps, w.lossy, w.inexact, w.grown = true, false, false, true
	w.times = ""
	differ := 0 // so many cells it went over at most
	for i := range cells {
		if cells[i].Seen != cells[i].Snapshot {
			differ++
		}
	}
	for _, c := range cells {
		if spared(differ, kept, other, len(cells)) { // the cells that are left cannot make up for it
			return false
		}
		reads, made, moves := w.makes(c.Snapshot, c.Seen)
		switch {
		case !reads || !moves:
		case made:
			went++
			values[c.Snapshot] = true
			w.grown = w.grown && len(c.Seen) > len(c.Snapshot)+2
			switch {
			case went == 1:
				w.times = l.ratio(c)
			case w.times != "" && w.times != l.ratio(c):
				w.times = ""
			}
			v, _ := w.take(c.Snapshot)
			words[v.yes]++
			switch l.same(w, v, c) {
			case lost:
				w.lossy = true
				w.keeps = w.keeps && l.shows(w)
			case turns:
				turned++
			case proof:
				proofs++
			}
		case c.Seen == c.Snapshot:
			kept++
		default:
			other++
		}
	}
	w.went = went
	if turned > 0 && proofs < fewProofs {
		w.keeps = false
	}
	w.only = w.onlyProgram() && other*keptShare <= went
	if went == 0 || spared(went, kept, other, went+kept+other) {
		return false
	}
	if w.read.sort == flag {
		return kept == 0 && (len(words) == 2 && went >= fewProofs || went >= fewValues)
	}
	if w.print == asIs { // the file shows what became of its letters
		return true
	}
	if len(values) < fewValues { // told, and never silent
		w.weak, w.keeps = true, false
		few := fewWeak
		if w.kind("", "") == Blanks {
			few = 1 // blanks are not seen
		}
		return len(values) >= few && went >= weakCells && kept == 0
	}
	return true
}

// spared reports whether so many cells were kept from a way, or are something else, that no program went over them: of all that it would have
// changed, and of those that went.
func spared(went, kept, other, all int) bool {
	return kept*keptShare > went || other*otherShare > all
}

// shows reports whether the number format of the snapshot's cells rounds as the way does: then
// the value is behind what is seen.
func (l *learner) shows(w *way) bool {
	p, ok := w.print.(*numberPrint)
	return ok && l.shown >= 0 && (p.way == fixed || p.way == doubled) && p.n == l.shown
}

// adopts reports whether a way that another column shows went over this one, too. How the
// column reads what is seen is not asked again: the other one shows it.
func (l *learner) adopts(w *way, cells []Cell) bool {
	keeps := w.keeps
	stands := l.stands(w, cells)
	kept, values := 0, map[string]bool{}
	for _, c := range cells {
		switch _, made, moves := w.makes(c.Snapshot, c.Seen); {
		case made && moves:
			values[c.Snapshot] = true
		case moves && c.Seen == c.Snapshot:
			kept++
		}
	}
	if w.weak = false; !stands {
		stands = kept == 0 && len(values) >= fewWeak
	}
	if w.read.sort != texts && w.read.sort != flag {
		w.keeps = keeps && !w.lossy
	}
	return stands
}

// sameness is what became of one value.
type sameness int

const (
	plainly sameness = iota
	lost             // it is not the value any more
	turns            // the column's own reading takes what is seen for another value
	proof            // the column's own reading does not take it, and the new writing does
)

// same says whether what is seen is still the value.
func (l *learner) same(w *way, v value, c Cell) sameness {
	if w.read.sort == texts {
		if !w.print.(*textPrint).keeps || w.letters != nil && !w.letters.keep {
			return lost
		}
		return plainly
	}
	if p, ok := w.print.(*flagPrint); ok && (!p.opposed() || p.yes == p.no) {
		return lost
	}
	back, ok := w.print.read(c.Seen)
	switch {
	case !ok:
	case w.count != nil:
		back, ok = w.count.back(back.num)
	case w.zone != nil:
		back.zone = v.zone // the same wall clock in the same zone
	}
	if !ok || !back.same(value{num: v.num, at: v.at, has: v.has, yes: v.yes}, w.read.sort) && !w.moved(v, back) {
		return lost
	}
	w.inexact = w.inexact || w.read.sort == number && back.num.Cmp(v.num) != 0
	if l.own == nil || w.read.guess || w.count != nil {
		return plainly
	}
	own, read := l.own.take(c.Snapshot)
	seen, reads := l.own.take(c.Seen)
	switch {
	case read && reads && !own.same(seen, l.own.sort):
		return turns
	case read && !reads:
		return proof
	}
	return plainly
}

// ratio is how many times as much a number is in the column's own reading, "" if it is
// what it was.
func (l *learner) ratio(c Cell) string {
	if l.own == nil || l.own.sort != number {
		return ""
	}
	a, ok := l.own.take(c.Snapshot)
	b, there := l.own.take(c.Seen)
	if !ok || !there || a.num.IsZero() || a.num.Cmp(b.num) == 0 {
		return ""
	}
	var q apd.Decimal
	ctx := wide
	ctx.Precision = Digits15
	if _, err := ctx.Quo(&q, b.num, a.num); err != nil {
		return ""
	}
	q.Reduce(&q)
	return q.Text('f')
}

// moved reports whether two moments differ in the zone alone that one of them does not
// write.
func (w *way) moved(a, b value) bool {
	return w.read.sort == moment && a.at.Equal(b.at)
}

// onlyProgram reports whether nobody but a program writes so: the noise of doubles and
// digits lost behind the fifteenth, counts of days, midnight behind days, seconds and
// zones behind times, letters in a wrong code page.
func (w *way) onlyProgram() bool {
	if !w.keeps {
		return false
	}
	switch p := w.print.(type) {
	case *numberPrint:
		return w.count != nil || p.way == noise || w.inexact || w.lossy // and a number format shows it so
	case *template:
		if p.has&hasClock != 0 {
			return w.grown && p.has&hasDay != 0
		}
		return slices.ContainsFunc(p.pieces, func(x piece) bool { return x.kind == literal && (x.text == "00" || x.text == "T") })
	case *textPrint:
		return p == asIs
	}
	return false
}

// forms induces how the column writes the values of a way, up to three forms, each of
// what those before it do not write.
func (l *learner) forms(w *way) []printer {
	if w.read.sort == texts {
		return nil
	}
	var all []example
	for _, s := range l.values {
		if v, ok := w.take(s); ok {
			all = append(all, example{v, s})
		}
	}
	var found []printer
	whole := len(all)
	for range maxWays {
		f, most := printer(nil), 0
		for _, p := range writings(w.read.sort, all, true) {
			n := 0
			for _, x := range all {
				if s, ok := p.print(x.v); ok && s == x.seen {
					n++
				}
			}
			if n > most {
				f, most = p, n
			}
		}
		if f == nil {
			break
		}
		found = append(found, exactly{f, w.read})
		all = slices.DeleteFunc(slices.Clone(all), func(x example) bool { s, ok := f.print(x.v); return ok && s == x.seen })
		if len(all)*oneForm < whole {
			break
		}
	}
	return found
}

// oneForm is the share, as 1/n, of values in another form below which a column has one
// form.
const oneForm = 20

// exactly writes values in a form that loses nothing of them.
type exactly struct {
	printer
	in *reading
}

func (f exactly) print(v value) (string, bool) {
	s, ok := f.printer.print(v)
	if !ok {
		return "", false
	}
	r, ok := f.in.take(s)
	if !ok {
		return "", false
	}
	switch f.in.sort {
	case number:
		return s, r.num.Cmp(v.num) == 0
	case moment:
		return s, r.at.Equal(v.at) || r.has&noYear != 0 && r.at.Month() == v.at.Month() && r.at.Day() == v.at.Day()
	}
	return s, true
}
