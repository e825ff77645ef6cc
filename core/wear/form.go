package wear

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"

	"github.com/cockroachdb/apd/v3"

	"paletwin/core/wear/learn"
)

// Form is how the values of a column are written in the snapshot. The zero Form
// has seen none.
type Form struct {
	n        int
	digits   int // values of digits alone
	width    int // their one length, or -1
	zeros    int // those that start with a zero
	number   int // values that are decimals with a point or comma
	scale    int // their one number of decimals, or -1
	comma    int // decimals with a comma
	negative int // numbers with a minus sign
	most     *apd.Decimal
	percent  int // values that are parts of a hundred
	parts    int // their one number of decimals, or -1
	dates    map[string]int
	yes      string // the words for true and false
	no       string
	low      int // years
	high     int
	wordy    int             // values of more than one word
	longest  int             // in bytes
	coded    int             // values that a program may take for a day, a time or a number, and that are none of these kinds
	letters  map[rune]bool   // letters by their class, and all other signs
	shapes   map[string]bool // of values, up to manyShapes
	values   map[string]bool // up to manyChoices
}

// What makes a form, each with its reason.
const (
	// fewForm is how many values show a form at least.
	fewForm = 8
	// manyShapes is of how many shapes a column of codes is at most.
	manyShapes = 3
	// manyChoices is how many values a column of choices has at most, and
	// oftenChosen how often each stands there on average.
	manyChoices = 12
	oftenChosen = 5
)

var (
	pointDecimal = regexp.MustCompile(`^-?[0-9]+\.([0-9]+)$`)
	commaDecimal = regexp.MustCompile(`^-?[0-9]+,([0-9]+)$`)
	percentForm  = regexp.MustCompile(`^-?[0-9]+(?:[.,]([0-9]+))? ?%$`)
	codedForm    = regexp.MustCompile(`^(?:[0-9]{1,4}(?:[-:/.][0-9]{1,4}){1,2}(?:[ T].*)?|[A-Za-z]{3}[-/ ]?[0-9]{1,4}|[0-9]{1,2}[- ][A-Za-z]{3}|[0-9]+[Ee][0-9]+|[$£€].*[0-9]|.*[0-9] ?[$£€])$`)
)

// Take learns from a value of the snapshot.
func (f *Form) Take(v string) {
	if v == "" {
		return
	}
	f.n++
	f.look(v)
	switch {
	case strings.Trim(v, "0123456789") == "":
		f.width = oneSize(f.digits, f.width, len(v))
		f.digits++
		if v[0] == '0' && len(v) > 1 {
			f.zeros++
		}
		f.reach(v)
	case pointDecimal.MatchString(v), commaDecimal.MatchString(v):
		m := pointDecimal.FindStringSubmatch(v)
		if m == nil {
			m = commaDecimal.FindStringSubmatch(v)
			f.comma++
		}
		f.scale = oneSize(f.number, f.scale, len(m[1]))
		f.number++
		if v[0] == '-' {
			f.negative++
		}
		f.reach(v)
	case percentForm.MatchString(v):
		f.parts = oneSize(f.percent, f.parts, len(percentForm.FindStringSubmatch(v)[1]))
		f.percent++
	case strings.EqualFold(v, "true"):
		f.yes = v
	case strings.EqualFold(v, "false"):
		f.no = v
	default:
		if !f.takeDate(v) && codedForm.MatchString(v) {
			f.coded++
		}
	}
}

// oneSize is the one size that values have, or -1: n had one before.
func oneSize(n, one, size int) int {
	if n == 0 || one == size {
		return size
	}
	return -1
}

// reach keeps the largest number.
func (f *Form) reach(v string) {
	d, _, err := apd.NewFromString(strings.Replace(strings.TrimPrefix(v, "-"), ",", ".", 1))
	if err == nil && (f.most == nil || d.Cmp(f.most) > 0) {
		f.most = d
	}
}

// look learns letters, shapes and choices.
func (f *Form) look(v string) {
	if f.letters == nil {
		f.letters, f.shapes, f.values = map[rune]bool{}, map[string]bool{}, map[string]bool{}
	}
	for _, r := range v {
		f.letters[class(r)] = true
	}
	if len(f.shapes) <= manyShapes {
		f.shapes[shape(v)] = true
	}
	if len(f.values) <= manyChoices {
		f.values[v] = true
	}
	if wordy(v) {
		f.wordy++
	}
	f.longest = max(f.longest, len(v))
}

// wordy reports whether a value is of more than one word.
func wordy(v string) bool {
	words := 0
	for _, w := range strings.Fields(v) {
		if strings.ContainsFunc(w, unicode.IsLetter) {
			words++
		}
	}
	return words > 1
}

// class is one letter for all of its class; other signs are themselves.
func class(r rune) rune {
	switch {
	case r >= '0' && r <= '9':
		return '0'
	case r >= 'a' && r <= 'z':
		return 'a'
	case r >= 'A' && r <= 'Z':
		return 'A'
	case unicode.IsLetter(r):
		return 'é'
	}
	return r
}

// shape is a value with each letter and digit as its class.
func shape(v string) string { return strings.Map(class, v) }

// shows reports whether enough values show how the column is written. Sentences
// have no form.
func (f *Form) shows() bool { return f.n >= fewForm && f.wordy*4 < f.n }

// scaled reports whether the column's numbers have one scale, so that the zeros
// which a program takes away can be put back.
func (f *Form) scaled() bool { return f.number*2 > f.n && f.scale >= 0 }

// whole reports whether the column's values are digits alone.
func (f *Form) whole() bool { return f.digits*2 > f.n }

// percents reports whether the column's values are parts of a hundred.
func (f *Form) percents() bool { return f.percent*2 > f.n }

// Outside reports whether a value is written as no value of the column is:
// by its length, letters, separators, decimals or form of date.
func (f *Form) Outside(v string) bool {
	if !f.shows() || v == "" {
		return false
	}
	for _, r := range v {
		if !f.letters[class(r)] {
			return true
		}
	}
	switch form := f.dateForm(); {
	case f.number*2 > f.n, f.whole() && f.number > 0:
		return f.otherNumber(v)
	case f.whole():
		return strings.Trim(v, "0123456789") != "" || f.width > 0 && len(v) != f.width
	case form != "":
		_, ok := exactDate(form, v)
		return !ok
	case f.coded*2 > f.n:
		return !codedForm.MatchString(v) || len(v) > f.longest
	case f.choices():
		return false
	case len(f.shapes) <= manyShapes:
		return !f.shapes[shape(v)]
	}
	return false
}

// otherNumber reports whether a value of a column of numbers is none, or has
// other decimals or a sign.
func (f *Form) otherNumber(v string) bool {
	if _, ok := f.decimal(v); !ok || v[0] == '-' && f.negative == 0 {
		return true
	}
	if f.scale < 0 || f.digits > 0 && strings.Trim(v, "-0123456789") == "" {
		return false
	}
	return len(v)-1-strings.LastIndexAny(v, ".,") != f.scale || !strings.ContainsAny(v, ".,")
}

// Unchosen reports whether a column has few values, each often, and this is none
// of them.
func (f *Form) Unchosen(v string) bool { return f.shows() && f.choices() && v != "" && !f.values[v] }

// choices reports whether the column has few values, and each often.
func (f *Form) choices() bool {
	return len(f.values) <= manyChoices && f.n >= oftenChosen*len(f.values)
}

// farther is how many times as great as the column's greatest a number is that
// may be one whose decimals were taken for groups of three digits.
const farther = 10

// Untold reports whether a value that is seen in a cell which was edited is outside
// the column's form and can be read in more than one way, so that what was meant
// cannot be told; and of which kind it is.
func (f *Form) Untold(seen string) (Kind, bool) {
	if !f.shows() || !f.Outside(seen) && !f.moved(seen) {
		return "", false
	}
	codes := f.coded*2 > f.n
	dates := f.dateForm() != ""
	switch {
	case exponentForm.MatchString(seen), longExponent.MatchString(seen):
		return Exponent, true
	case calendar.MatchString(seen):
		return DateGuess, codes || dates && f.turnedDay(seen)
	case plainNumber.MatchString(seen):
		if f.number*2 > f.n {
			return Number, f.moved(seen)
		}
		return Number, codes || dates || f.percents()
	}
	return "", false
}

var (
	longExponent = regexp.MustCompile(`^-?[0-9]+(\.[0-9]+)?[Ee][+-]?[0-9]+$`)
	calendar     = regexp.MustCompile(`^([0-9]{4})[-/.]([0-9]{1,2})[-/.]([0-9]{1,2})([ T].*)?$|^([0-9]{1,2})[-/.]([0-9]{1,2})[-/.]([0-9]{2}|[0-9]{4})([ T].*)?$`)
	plainNumber  = regexp.MustCompile(`^-?[0-9]+([.,][0-9]+)?$`)
)

// moved reports whether a whole number may be one of three decimals whose sign was
// taken for a separator of groups.
func (f *Form) moved(seen string) bool {
	if f.scale != 3 || f.number*2 <= f.n || strings.ContainsAny(seen, ".,") {
		return false
	}
	d, ok := f.decimal(seen)
	if !ok {
		return false
	}
	reach := new(apd.Decimal)
	_, err := apd.BaseContext.WithPrecision(learn.Digits15).Mul(reach, f.most, apd.New(farther, 0))
	return err == nil && d.Abs(d).Cmp(reach) > 0
}

// candidates lists values of the column's own form that may stand behind what
// is seen, the likeliest first.
func (f *Form) candidates(seen string, h Habit) []string {
	var all []string
	point := strings.Replace(seen, string(h.Locale.decimal), ".", 1)
	if f.scaled() {
		if v, ok := rescaled(point, 0, f.scale); ok {
			if f.comma > 0 {
				v = strings.Replace(v, ".", ",", 1)
			}
			all = append(all, v)
		}
	}
	if f.percents() && f.parts >= 0 && !strings.Contains(seen, "%") {
		if v, ok := rescaled(point, 2, f.parts); ok {
			all = append(all, v+"%")
		}
	}
	if f.whole() && f.zeros > 0 && f.width > 0 && strings.Trim(seen, "0123456789") == "" && len(seen) < f.width {
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

// rescaled writes a number that has not more decimals, times ten so many times, with
// so many decimals.
func rescaled(text string, tens int32, scale int) (string, bool) {
	d, _, err := apd.NewFromString(text)
	if err != nil || d.Form != apd.Finite {
		return "", false
	}
	if d.Exponent += tens; -int(d.Exponent) > scale {
		return "", false
	}
	q := new(apd.Decimal)
	_, err = apd.BaseContext.WithPrecision(100).Quantize(q, d, -int32(scale))
	return q.Text('f'), err == nil
}
