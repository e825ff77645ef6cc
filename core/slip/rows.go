package slip

import (
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
)

// totalWords are what people write beside a sum.
var totalWords = []string{"total", "totals", "sum", "subtotal", "sub-total", "grand total", "average", "mean", "count", "balance", "summe", "gesamt", "zwischensumme", "total général", "totale", "somme", "suma", "totaal", "totalt", "summa"}

// rows finds rows that are no records: totals, and notes.
func (j *judge) rows() {
	for _, r := range j.Keyless {
		j.noRecord(r, true)
	}
	for _, r := range j.Adds {
		j.noRecord(r, false)
	}
}

// noRecord judges one row that matches no record.
func (j *judge) noRecord(r Row, keyless bool) {
	var filled []int
	word := ""
	for f, v := range r.Values {
		if v = strings.TrimSpace(v); v == "" {
			continue
		}
		filled = append(filled, f)
		if t := strings.ToLower(strings.TrimRight(v, " :.")); slices.Contains(totalWords, t) || len(strings.Fields(t)) <= 4 && (strings.HasPrefix(t, "total ") || strings.HasPrefix(t, "sum of ") || strings.HasSuffix(t, " total")) {
			word = v
		}
	}
	if len(filled) == 0 || len(j.Fields) < 3 && word == "" {
		return
	}
	if word == "" && 2*len(filled) > len(j.Fields) {
		return // a record, and no need to look at others
	}
	sparse := len(filled) <= 1 || len(filled)*2 < j.usuallyFilled()
	f := Found{Field: -1, Rows: []uint32{r.Row}}
	if !keyless {
		f.Adds = []uint32{r.Row}
	}
	sum, isSum := -1, false
	if sparse {
		sum, isSum = j.sumIn(r, filled)
	}
	switch {
	case word != "" && sparse:
		f.Code, f.Text = changeset.TotalRow, fmt.Sprintf("the row says %s: a line of totals is no record", say(word))
	case isSum:
		f.Code, f.Text = changeset.TotalRow, fmt.Sprintf("the row has %s as %s, which is the sum of the others: a line of totals is no record", say(r.Values[sum]), j.Fields[sum])
	case sparse && (keyless || j.oddKey(r) || len(filled) == 1 && strings.ContainsAny(r.Values[filled[0]], " ")):
		f.Code, f.Text = changeset.NoteRow, fmt.Sprintf("the row has only %s: a note is no record", say(r.Values[filled[0]]))
		if len(filled) > 1 {
			f.Text = fmt.Sprintf("the row has values in %d of %d columns only, %s first: a note is no record", len(filled), len(j.Fields), say(r.Values[filled[0]]))
		}
	default:
		return
	}
	j.add(f)
}

// usuallyFilled is how many values a record has, as a sample shows.
func (j *judge) usuallyFilled() int {
	n := 0
	for _, c := range j.columns {
		c.look()
		if c.blanks*2 < c.n {
			n++
		}
	}
	return n
}

// oddKey reports whether a row's key has a form that no key of the sample has.
func (j *judge) oddKey(r Row) bool {
	for _, f := range j.Key {
		c := j.columns[f]
		c.look()
		want := shape(r.Values[f])
		seen := false
		for v := range c.counts {
			if shape(v) == want {
				seen = true
				break
			}
		}
		if !seen {
			return true
		}
	}
	return false
}

// shape is a text with each run of digits and each run of letters as one sign.
func shape(v string) string {
	var b strings.Builder
	last := byte(0)
	for i := range len(v) {
		c := v[i]
		switch {
		case isDigit(c):
			c = '9'
		case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80:
			c = 'a'
		}
		if c != last || c != '9' && c != 'a' {
			b.WriteByte(c)
		}
		last = c
	}
	return b.String()
}

// sumIn finds a number of the row that is the sum of its column over the
// records of the copy; in copies that are not too long.
func (j *judge) sumIn(r Row, filled []int) (int, bool) {
	if j.Table.Rows() > countedRows {
		return 0, false
	}
	for _, f := range filled {
		want, ok := parseNumber(r.Values[f])
		c := j.columns[f]
		c.look()
		if !ok || c.kind != numbers || j.isKey(f) {
			continue
		}
		sum, seen := number{}, 0
		for row := range uint32(j.Table.Rows()) {
			v, ok := c.new(row)
			if !ok {
				continue
			}
			if n, ok := parseNumber(v); ok {
				sum = sum.plus(n)
				seen++
			}
		}
		if seen > 2 && sum.compare(want) == 0 {
			return f, true
		}
	}
	return 0, false
}
