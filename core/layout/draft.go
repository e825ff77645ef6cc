package layout

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/goccy/go-yaml"
	"github.com/zeebo/xxh3"

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
// where none could alone, together are some that could with each other.
func Draft(ctx context.Context, m *table.Image, set string, keys, together []string) ([]byte, error) {
	cols := make([]*column, len(m.Heading))
	for i := range cols {
		cols[i] = newColumn()
	}
	if err := table.Guard(func() error { return look(ctx, m, cols) }); err != nil {
		return nil, err
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
	b.WriteString("fields:\n")
	for i, h := range m.Heading {
		if h != "" {
			cols[i].write(&b, h, slices.Contains(keys, h))
		}
	}
	b.WriteString(`
# What has to hold of every record that is changed or added; docs/expressions.md.
# rules:
#   - name: service after installation
#     check: new.next_service >= new.installed
#     message: the next service is before the installation

# How many records may change without a second look.
# limits: {amend: 100, add: 20, delete: 5%}
`)
	return b.Bytes(), nil
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
	c.distinct[xxh3.HashString(text)] = struct{}{}
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
	case c.dates && !c.digits:
		c.writeDates(line, of, required)
	case c.moments:
		line("{kind: datetime"+required+"}", of+" are a day and a time")
	case c.digits && (c.zeros || c.shortest == c.longest && c.longest >= 6 || c.longest >= 12):
		same := "digits"
		length := ""
		if c.shortest == c.longest {
			same = fmt.Sprintf("%d digits", c.longest)
			length = fmt.Sprintf(", length: %d", c.longest)
		}
		line("{kind: text"+length+required+"}", of+" are "+same+": text, so that nothing rounds them or drops a zero")
	case c.numbers && c.decimals == 0:
		line("{kind: integer"+required+"}", of+" are whole numbers")
	case c.numbers && c.scale >= 0:
		line(fmt.Sprintf("{kind: decimal, scale: %d%s}", c.scale, required), fmt.Sprintf("%s are numbers, all with %d decimals", of, c.scale))
	case c.numbers:
		line("{kind: decimal"+required+"}", fmt.Sprintf("%s are numbers, with up to %d decimals", of, c.decimals))
	case c.values != nil && c.filled >= 3*len(c.values) && c.longest <= 40:
		c.writeChoice(line, of, required)
	case len(c.distinct) == c.filled && c.filled == c.rows:
		line("{kind: text"+required+"}", fmt.Sprintf("%s filled, all different, up to %d characters", of, c.longest))
	default:
		line("{kind: text"+required+"}", fmt.Sprintf("%s filled, %d different, up to %d characters", of, len(c.distinct), c.longest))
	}
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
