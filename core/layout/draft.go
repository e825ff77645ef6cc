package layout

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/goccy/go-yaml"
	"github.com/zeebo/xxh3"
	"golang.org/x/text/currency"

	"paletwin/core/expr"
	"paletwin/core/glyph"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// maxChoices is how many different values a choice may have: more are rather
// a list or free text.
const maxChoices = 12

// Draft writes a first layout of a table: kinds inferred over all its rows,
// with what was seen in comments. keys are the columns that could be the key;
// where none could alone, togetherOf gives some that could with each other; nil is that the keys are decided. said is what had to be said of the
// file so that it could be read, and lists are tables beside it that were Read.
func Draft(ctx context.Context, m *table.Image, set string, keys []string, togetherOf func(avoid []string) ([]string, error), said table.Options, lists []*Beside) ([]byte, error) {
	cols := make([]*column, len(m.Heading))
	for i := range cols {
		cols[i] = newColumn()
	}
	if err := table.Guard(func() error { return look(ctx, m, cols) }); err != nil {
		return nil, err
	}
	var avoid []string
	for i, h := range m.Heading { // what a record is worth, or when, happens to be different at most
		if c := cols[i]; !c.names() && !(c.dates && !c.digits) {
			avoid = append(avoid, h)
		}
		if togetherOf != nil && !cols[i].names() {
			keys = slices.DeleteFunc(slices.Clone(keys), func(k string) bool { return k == h })
		}
	}
	var together []string
	if len(keys) == 0 && togetherOf != nil {
		var err error
		if together, err = togetherOf(avoid); err != nil {
			return nil, err
		}
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "# A first layout of %s, drafted from %s. Every comment says what was seen there:\n# correct what is only so by chance, and take out what does not matter.\n", OneLine(set), OneLine(m.Name))
	fmt.Fprintf(&b, "record_set: %s\n\n", Scalar(set))
	switch {
	case len(together) > 0:
		parts := make([]string, len(together))
		for i, k := range together {
			parts[i] = Scalar(k)
		}
		fmt.Fprintf(&b, "key: [%s]  # filled, and together different on every row; no column is alone\n\n", strings.Join(parts, ", "))
	case len(keys) == 0:
		fmt.Fprintf(&b, "# This is no key yet: no column is filled and different on every row, and no two or\n# three are together. Name what identifies a record, [a, b].\nkey: %s\n\n", Scalar(m.Heading[0]))
	case len(keys) == 1:
		fmt.Fprintf(&b, "key: %s  # filled and different on every row; no other column is\n\n", Scalar(keys[0]))
	default:
		fmt.Fprintf(&b, "key: %s  # filled and different on every row; so are %s\n\n", Scalar(keys[0]), OneLine(strings.Join(keys[1:], ", ")))
	}
	stands(&b, said)
	b.WriteString("fields:\n")
	for i, h := range m.Heading {
		if h != "" {
			cols[i].refers(h, lists)
			cols[i].write(&b, h, slices.Contains(together, h) || len(keys) > 0 && h == keys[0])
		}
	}
	fmt.Fprintf(&b, `
# What has to hold of every record that is changed or added; docs/expressions.md.
# rules:
%s
# How many records may change without a second look.
# limits: {amend: 100, add: 20, delete: 5%%}
`, sampleRule(m.Heading, cols))
	return b.Bytes(), nil
}

// sampleRule is a rule that the table's own fields could have.
func sampleRule(headings []string, cols []*column) string {
	var days []string
	for i, h := range headings {
		if h != "" && cols[i].dates && !cols[i].digits && cols[i].filled > 0 && Scalar(h) == h && !strings.ContainsAny(h, " -.") {
			days = append(days, h)
		}
	}
	if len(days) < 2 {
		return "#   - name: filled when it changes\n#     check: new." + fieldWord(headings) + " != null\n#     message: a value is needed here\n"
	}
	return fmt.Sprintf("#   - name: in order\n#     check: new.%s >= new.%s\n#     message: %s is before %s\n", days[1], days[0], days[1], days[0])
}

// fieldWord is the last heading that is one word.
func fieldWord(headings []string) string {
	for _, h := range slices.Backward(headings) {
		if h != "" && Scalar(h) == h && !strings.ContainsAny(h, " -.") {
			return h
		}
	}
	return "field"
}

// stands writes what had to be said of the file.
func stands(b *bytes.Buffer, said table.Options) {
	var parts []string
	if said.HeadingRow > 0 {
		parts = append(parts, fmt.Sprint("heading_row: ", said.HeadingRow))
	}
	for word, d := range delimiters {
		if said.Delimiter == d {
			parts = append(parts, "delimiter: "+word)
		}
	}
	for _, x := range [][2]string{{"sheet", said.Sheet}, {"encoding", said.Encoding}} {
		if x[1] != "" {
			parts = append(parts, x[0]+": "+Scalar(x[1]))
		}
	}
	if len(parts) > 0 {
		fmt.Fprintf(b, "columns: {%s}  # as the snapshot is read\n\n", strings.Join(parts, ", "))
	}
}

// column is what is seen of one column.
type column struct {
	rows, filled   int
	distinct       map[uint64]struct{}
	values         map[string]int // nil once there are too many
	longest        int
	shortest       int
	digits         bool // all filled cells are digits alone
	zeros          bool // one of them starts with a zero and is longer
	numbers        bool
	scale          int // the decimals of all numbers; -1 if they differ
	decimals       int // the most
	forms          []schema.Form
	dates, moments bool
	booleans       bool
	spaced         int      // cells of several words
	sample         []string // the first different values
	list           *Beside  // a list that has all of its values; nil is none
}

// mostSampled is how many different values of a column show how it is written.
const mostSampled = 500

// Beside is a table that lies beside the snapshot and may be a list that fields refer to.
type Beside struct {
	File  string
	Table *table.Image
	by    string
	name  string // the column with the names; "" is none
	codes map[string]bool
}

// Read finds the column of the table that has the codes, and the names: the first columns that are filled and
// different on every row. It reports false where there is none.
func (s *Beside) Read(ctx context.Context) (bool, error) {
	cols := make([]*column, len(s.Table.Heading))
	for i := range cols {
		cols[i] = newColumn()
	}
	if err := table.Guard(func() error { return look(ctx, s.Table, cols) }); err != nil {
		return false, err
	}
	at := -1
	for i, c := range cols {
		switch whole := s.Table.Heading[i] != "" && c.rows > 0 && len(c.distinct) == c.rows && c.filled == c.rows; {
		case whole && at < 0:
			at, s.by = i, s.Table.Heading[i]
		case at >= 0 && s.name == "" && !c.numbers && !c.dates && c.filled == c.rows && len(c.distinct)*2 >= c.rows:
			s.name = s.Table.Heading[i]
		}
	}
	if at < 0 {
		return false, nil
	}
	s.codes = map[string]bool{}
	return true, csv.Each(ctx, s.Table, func(r *csv.Line) error {
		s.codes[r.Text(at)] = true
		return nil
	})
}

// refers finds the list that has all values of a column, which repeat: of several that whose name or heading is most like the
// column's.
func (c *column) refers(heading string, lists []*Beside) {
	if c.filled < 2*len(c.distinct) || len(c.sample) < 2 && c.filled < 10 || c.dates || c.numbers && !c.digits {
		return
	}
	for _, s := range lists {
		if slices.ContainsFunc(c.sample, func(v string) bool { return !s.codes[v] }) {
			continue
		}
		if c.list == nil || alike(heading, s) > alike(heading, c.list) {
			c.list = s
		}
	}
	if c.list != nil && c.numbers && alike(heading, c.list) == 0 { // numbers that happen to be among others
		c.list = nil
	}
}

// alike is how much a column's heading says that a list is meant.
func alike(heading string, s *Beside) (n int) {
	h := strings.ToLower(heading)
	set := strings.ToLower(strings.TrimSuffix(s.File, filepath.Ext(s.File)))
	if strings.EqualFold(heading, s.by) {
		n += 2
	}
	if one := strings.TrimSuffix(set, "s"); strings.Contains(h, one) || strings.Contains(set, h) {
		n++
	}
	return n
}

// draftForms are the date forms that are looked for.
var draftForms = []string{"yyyy-mm-dd", "dd/mm/yyyy", "mm/dd/yyyy", "dd.mm.yyyy", "d/m/yyyy", "m/d/yyyy", "d.m.yyyy", "dd-mmm-yyyy", "yyyy/mm/dd", "yyyymmdd"}

func newColumn() *column {
	c := &column{distinct: map[uint64]struct{}{}, values: map[string]int{}, digits: true, numbers: true, scale: -2, dates: true, moments: true, booleans: true, shortest: 1 << 30}
	for _, text := range draftForms {
		f, err := schema.ParseForm(text)
		if err == nil {
			c.forms = append(c.forms, f)
		}
	}
	return c
}

func look(ctx context.Context, m *table.Image, cols []*column) error {
	return csv.Each(ctx, m, func(r *csv.Line) error {
		for i, c := range cols {
			c.take(r.Text(i))
		}
		return nil
	})
}

func (c *column) take(text string) {
	c.rows++
	if text == "" {
		return
	}
	c.filled++
	n := len([]rune(text))
	c.longest, c.shortest = max(c.longest, n), min(c.shortest, n)
	hash := xxh3.HashString(text)
	if _, known := c.distinct[hash]; !known && len(c.sample) < mostSampled {
		c.sample = append(c.sample, text)
	}
	c.distinct[hash] = struct{}{}
	if strings.Count(strings.TrimSpace(text), " ") > 2 {
		c.spaced++
	}
	if c.values != nil {
		if c.values[text]++; len(c.values) > maxChoices {
			c.values = nil
		}
	}
	onlyDigits := strings.Trim(text, "0123456789") == ""
	c.digits = c.digits && onlyDigits
	c.zeros = c.zeros || onlyDigits && n > 1 && text[0] == '0'
	if c.numbers {
		c.takeNumber(text)
	}
	if c.dates {
		c.forms = slices.DeleteFunc(c.forms, func(f schema.Form) bool { _, ok := f.Parse(text); return !ok })
		c.dates = len(c.forms) > 0
	}
	if c.moments {
		_, c.moments = expr.ParseMoment(text)
	}
	if c.booleans {
		lower := strings.ToLower(text)
		c.booleans = lower == "true" || lower == "false"
	}
}

func (c *column) takeNumber(text string) {
	if _, c.numbers = expr.ParseNumber(text); !c.numbers {
		return
	}
	_, fraction, _ := strings.Cut(text, ".")
	c.decimals = max(c.decimals, len(fraction))
	switch c.scale {
	case -2:
		c.scale = len(fraction)
	case len(fraction):
	default:
		c.scale = -1
	}
}

// write writes the field with its evidence.
func (c *column) write(b *bytes.Buffer, heading string, key bool) {
	of := fmt.Sprintf("%d of %d", c.filled, c.rows)
	line := func(what, why string) { fmt.Fprintf(b, "  %s: %s  # %s\n", Scalar(heading), what, why) }
	required := ""
	if c.filled == c.rows && c.rows > 0 && !key {
		required = ", required: true"
	}
	switch {
	case c.filled == 0:
		line("text", "empty on every row")
	case c.booleans:
		line("{kind: boolean"+required+"}", of+" are true or false")
	case c.list != nil:
		name := ""
		if c.list.name != "" {
			name = ", name: " + Scalar(c.list.name)
		}
		line(fmt.Sprintf("{kind: reference, to: {list: %s, by: %s%s}%s}", Scalar(c.list.File), Scalar(c.list.by), name, required), of+" are in "+OneLine(c.list.File)+", which lies beside")
	case c.truths() != nil:
		t := c.truths()
		line(fmt.Sprintf("{kind: boolean, true: %s, false: %s%s}", Scalar(t[0]), Scalar(t[1]), required), of+" are "+t[0]+" or "+t[1])
	case c.dates && !c.digits:
		c.writeDates(line, of, required)
	case c.moments:
		line("{kind: datetime"+required+"}", of+" are a day and a time")
	case c.percents():
		line("{kind: percent"+c.percentScale()+required+"}", of+" are numbers with %")
	case c.amount() != "":
		line(fmt.Sprintf("{kind: money, written: %s%s}", strconv.Quote(c.amount()), required), of+" are amounts written like this one")
	case c.digits && (c.zeros || c.shortest == c.longest && c.longest >= 6 || c.longest >= 12):
		same := "digits"
		length := ""
		if c.shortest == c.longest {
			same = fmt.Sprintf("%d digits", c.longest)
			length = fmt.Sprintf(", length: %d", c.longest)
		}
		line("{kind: text"+length+c.unique(key)+required+"}", of+" are "+same+": text, so that nothing rounds them or drops a zero")
	case c.numbers && c.decimals == 0:
		line("{kind: integer"+required+"}", of+" are whole numbers")
	case c.numbers && c.scale >= 0:
		line(fmt.Sprintf("{kind: decimal, scale: %d%s}", c.scale, required), fmt.Sprintf("%s are numbers, all with %d decimals", of, c.scale))
	case c.numbers:
		line("{kind: decimal"+required+"}", fmt.Sprintf("%s are numbers, with up to %d decimals", of, c.decimals))
	case !key && c.values != nil && c.filled >= 3*len(c.values) && c.longest <= 40 && c.spaced*4 <= c.filled:
		c.writeChoice(line, of, required)
	case len(c.distinct) == c.filled && c.filled == c.rows:
		line("{kind: text"+c.unique(key)+required+"}", fmt.Sprintf("%s filled, all different, up to %d characters", of, c.longest))
	default:
		line("{kind: text"+required+"}", fmt.Sprintf("%s filled, %d different, up to %d characters", of, len(c.distinct), c.longest))
	}
}

// names reports whether values such as the column's could identify something: texts and whole numbers, and no amounts, shares or days.
func (c *column) names() bool {
	return !(c.dates && !c.digits || c.moments || c.numbers && c.decimals > 0 || c.percents() || c.amount() != "")
}

// unique says that each record has a value of its own, where codes seem to be so: one word on every row.
func (c *column) unique(key bool) string {
	if key || c.rows < 10 || len(c.distinct) != c.filled || c.filled != c.rows || c.spaced > 0 || c.longest > 40 || slices.ContainsFunc(c.sample, func(s string) bool { return strings.ContainsAny(s, " \n") }) {
		return ""
	}
	return ", unique: true"
}

// truthWords are the words for true and false that programs and people write.
var truthWords = [][2]string{{"y", "n"}, {"yes", "no"}, {"ja", "nein"}, {"j", "n"}, {"oui", "non"}, {"o", "n"}, {"si", "no"}, {"sí", "no"}, {"t", "f"}, {"on", "off"}, {"1", "0"},
	{"wahr", "falsch"}, {"vrai", "faux"}, {"x", "-"}}

// truths are the words for true and false of a column that has no other, as it writes them; nil is none.
func (c *column) truths() []string {
	if len(c.values) != 2 || c.filled < 10 {
		return nil
	}
	for _, w := range truthWords {
		t := make([]string, 2)
		for v := range c.values {
			for i := range w {
				if strings.EqualFold(v, w[i]) {
					t[i] = v
				}
			}
		}
		if t[0] != "" && t[1] != "" {
			return t
		}
	}
	return nil
}

// percents reports whether all values are numbers with a percent sign.
func (c *column) percents() bool {
	return len(c.sample) > 0 && !slices.ContainsFunc(c.sample, func(s string) bool {
		n, is := strings.CutSuffix(strings.TrimSpace(s), "%")
		_, number := expr.ParseNumber(strings.TrimSpace(n))
		return !is || !number
	})
}

// percentScale is how many decimals percents have, where all have as many.
func (c *column) percentScale() string {
	scale := -1
	for _, s := range c.sample {
		n, _ := strings.CutSuffix(strings.TrimSpace(s), "%")
		_, fraction, _ := strings.Cut(strings.TrimSpace(n), ".")
		if scale >= 0 && scale != len(fraction) {
			return ""
		}
		scale = len(fraction)
	}
	return fmt.Sprintf(", scale: %d", scale)
}

// amount is the value that shows best how the column writes amounts, which all values are then; "" is none.
func (c *column) amount() string {
	if c.numbers || len(c.sample) == 0 {
		return ""
	}
	best := ""
	for _, s := range c.sample {
		if len(strings.Trim(s, "-()")) > len(best) {
			best = strings.Trim(s, "-()")
		}
	}
	a, err := schema.ParseAmount(best)
	if err != nil || len(best) == 0 || strings.Count(best, " ") > 2 || len(strings.TrimFunc(best, func(r rune) bool { return r < '0' || r > '9' })) < len([]rune(best))-5 {
		return ""
	}
	f := &schema.Field{Kind: schema.Money, Amount: a}
	if slices.ContainsFunc(c.sample, func(s string) bool { _, ok := f.Number(s); return !ok || !money(s) }) {
		return ""
	}
	return best
}

// money reports whether what stands beside an amount's digits, if anything, is a currency's sign or code.
func money(s string) bool {
	beside := strings.TrimFunc(strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) || strings.ContainsRune(".,'-()", r) || unicode.IsSpace(r) {
			return -1
		}
		return r
	}, s), unicode.IsSpace)
	_, err := currency.ParseISO(beside)
	return beside == "" || err == nil && strings.ToUpper(beside) == beside || len([]rune(beside)) == 1 && unicode.In([]rune(beside)[0], unicode.Sc)
}

func (c *column) writeDates(line func(what, why string), of, required string) {
	first := c.forms[0]
	why := of + " are dates in this form"
	for _, f := range c.forms[1:] {
		if strings.HasPrefix(f.Text, "m") != strings.HasPrefix(first.Text, "m") {
			why += fmt.Sprintf("; %s fits as well: no day above 12 proves which", f.Text)
			break
		}
	}
	if why == of+" are dates in this form" && !strings.HasPrefix(first.Text, "y") {
		why += "; a number above 12 proves the order of day and month"
	}
	line(fmt.Sprintf("{kind: date, forms: [%s]%s}", first.Text, required), why)
}

func (c *column) writeChoice(line func(what, why string), of, required string) {
	var all []string
	for v := range c.values {
		all = append(all, v)
	}
	slices.SortFunc(all, func(a, b string) int {
		if n := c.values[b] - c.values[a]; n != 0 {
			return n
		}
		return strings.Compare(a, b)
	})
	var counts []string
	quoted := make([]string, len(all))
	for i, v := range all {
		quoted[i] = Scalar(v)
		counts = append(counts, fmt.Sprintf("%s %d", OneLine(v), c.values[v]))
	}
	line(fmt.Sprintf("{kind: choice, values: [%s]%s}", strings.Join(quoted, ", "), required), of+" filled: "+strings.Join(counts, ", "))
}

// Scalar writes a text as YAML, in quotes where it needs them.
func Scalar(s string) string {
	if glyph.Shown(s) != s || strings.ContainsFunc(s, unicode.IsControl) {
		return strconv.QuoteToASCII(s) // whose escapes are YAML's, too
	}
	if s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ_ ") == "" && strings.TrimSpace(s) == s && !slices.Contains([]string{"true", "false", "null", "yes", "no", "on", "off", "y", "n"}, strings.ToLower(s)) {
		return s
	}
	b, err := yaml.MarshalWithOptions(s, yaml.JSON())
	if err != nil {
		return fmt.Sprintf("%q", s)
	}
	return strings.TrimSpace(string(b))
}

// OneLine is a text that fits into a comment, and of which everything can be seen.
func OneLine(s string) string {
	return glyph.Shown(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, s))
}
