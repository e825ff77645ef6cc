package slip

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"paletwin/core/changeset"
)

// series finds cells that count up where one value was meant.
func (c *column) series() {
	j := c.j
	free := c.free()
	pairs := 0
	for k := 1; k < len(free); k++ {
		if j.Cells[free[k]].Row == j.Cells[free[k-1]].Row+1 || j.Cells[free[k]].From == j.Cells[free[k-1]].From {
			pairs++
		}
	}
	for k := 0; k < len(free); {
		n, step, between := k+1, 0, 0
		for ; n < len(free); n++ {
			a, b := &j.Cells[free[n-1]], &j.Cells[free[n]]
			s := c.countsOn(a, b)
			if s == 0 || step != 0 && s != step || counts(a.From, b.From) == s {
				break
			}
			if step = s; b.Row-a.Row <= hole && b.From != a.From {
				between += int(b.Row-a.Row) - 1
			}
		}
		run := free[k:n]
		least := fewestCounted
		if step < 0 || j.Cells[run[len(run)-1]].Row-j.Cells[run[0]].Row >= uint32(len(run)+between) {
			least++ // up, or along filtered rows, hands drag less often
		}
		if len(run) > 1 && len(run)+between >= least && c.seriesChance(run, step, between, pairs) <= 2*doubtful {
			first, last := &j.Cells[run[0]], &j.Cells[run[len(run)-1]]
			c.add(Found{Code: changeset.FillSeries, Field: c.field, Cells: slices.Clone(run), Rows: j.rowsOf(run),
				Text: fmt.Sprintf("%s count from %s to %s: perhaps %s was meant for all", j.rowWords(j.rowsOf(run)), say(first.To), say(last.To), say(first.To))})
		}
		k = max(n-1, k+1)
	}
}

// countsOn reports whether one change counts on from another, and which way:
// the next row, the next one that had the same value, or one a few rows on if
// the rows between have the values between already.
func (c *column) countsOn(a, b *Cell) int {
	if b.Row == a.Row+1 || b.From == a.From {
		if s := counts(a.To, b.To); s != 0 || b.Row == a.Row+1 {
			return s
		}
	}
	if b.Row-a.Row > hole {
		return 0
	}
	for _, step := range []int{1, -1} {
		v := a.To
		for r := a.Row + 1; ; r++ {
			v = successor(v, step)
			if r == b.Row && v == b.To {
				return step
			}
			if has, ok := c.new(r); !ok || v == "" || has != v || r >= b.Row {
				break
			}
		}
	}
	return 0
}

// seriesChance is how likely it is that a run of values counts by accident.
func (c *column) seriesChance(run []int, step, between, pairs int) float64 {
	c.look()
	p := 0.0
	for v, n := range c.counts {
		if s := successor(v, step); s != "" {
			p += float64(n) / float64(c.n) * float64(c.counts[s]) / float64(c.n)
		}
	}
	if c.kind == days {
		p = max(p, 1.0/100) // people plan for the next day
	}
	p = max(p, 1.0/(float64(c.n)+1))
	// The measure is for tables of some twenty columns.
	chance := power(p, between, max(pairs, 1)) * float64(max(1, len(c.j.columns)/20))
	for _, i := range run[1:] {
		q := p
		if c.counts[c.j.Cells[i].To] == 0 && c.kind == texts {
			q = min(p, 0.01)
		}
		chance *= q
	}
	return chance
}

// counts reports whether b comes after a where a program counts: 1, or -1
// where it counts down; 0 if neither.
func counts(a, b string) int {
	if b == "" || len(a)-len(b) > 1 || len(b)-len(a) > 1 {
		return 0
	}
	switch b {
	case successor(a, 1):
		return 1
	case successor(a, -1):
		return -1
	}
	return 0
}

// successor is what a program fills in after v: the next day, the number one
// higher, the text with the number at its end, or at its start, one higher.
// It returns "" where it would repeat v.
func successor(v string, step int) string {
	if len(v) > 60 {
		return ""
	}
	if d, form := parseDayForm(v); form != "" {
		return time.Unix((d.mantissa+int64(step))*86400, 0).UTC().Format(form) + v[min(len(v), len(form)):]
	}
	if n, ok := parseNumber(v); ok && n.scale > 0 {
		one := int64(step)
		for range n.scale {
			one *= 10
		}
		return writeLike(v, n.mantissa+one, n.scale)
	}
	end := len(v)
	start := end
	for start > 0 && isDigit(v[start-1]) {
		start--
	}
	if start == end { // no number at the end: at the start
		start, end = 0, 0
		for end < len(v) && isDigit(v[end]) {
			end++
		}
	}
	if start == end || end-start > 17 {
		return ""
	}
	n, _ := parseDigits(v[start:end])
	n += int64(step)
	if n < 0 {
		return ""
	}
	return v[:start] + fmt.Sprintf("%0*d", end-start, n) + v[end:]
}

func isDigit(b byte) bool { return b >= '0' && b <= '9' }

func parseDigits(s string) (n int64, ok bool) {
	for i := range len(s) {
		n = n*10 + int64(s[i]-'0')
	}
	return n, len(s) > 0
}

// writeLike writes a number of a scale with the sign for decimals that v has.
func writeLike(v string, mantissa int64, scale int) string {
	sign := ""
	if mantissa < 0 {
		sign, mantissa = "-", -mantissa
	}
	digits := fmt.Sprintf("%0*d", scale+1, mantissa)
	point := "."
	if strings.Contains(v, ",") {
		point = ","
	}
	return sign + digits[:len(digits)-scale] + point + digits[len(digits)-scale:]
}
