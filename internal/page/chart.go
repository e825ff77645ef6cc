package page

import (
	"fmt"
	"html/template"
	"math/big"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/term"
)

// Charts are drawn as SVG. Numbers are read exactly and become fractions of a
// chart's width only where they are drawn.

const chartWide = 380

// bars draws how many records change, field by field.
func bars(m *desk.Matter) template.HTML {
	fields := m.Dossier.Set().Fields
	most := 1
	for _, f := range fields {
		most = max(most, f.Changes)
	}
	const line, left = 22, 130
	var b strings.Builder
	fmt.Fprintf(&b, `<svg width="%d" height="%d" viewBox="0 0 %d %d" role="img" aria-label="Changes by field: %s">`, chartWide, line*len(fields)+4, chartWide, line*len(fields)+4, template.HTMLEscapeString(words(m)))
	for i, f := range fields {
		y := i * line
		wide := max(2, f.Changes*(chartWide-left-60)/most)
		fmt.Fprintf(&b, `<text x="%d" y="%d" text-anchor="end">%s</text><rect class="bar" x="%d" y="%d" width="%d" height="14"/><text x="%d" y="%d">%s</text>`,
			left-8, y+15, template.HTMLEscapeString(term.Cut(term.Safe(f.Field), 18)), left, y+4, wide, left+wide+6, y+15, term.Count(f.Changes))
	}
	b.WriteString("</svg>")
	return template.HTML(b.String())
}

// words are the bars for those who do not see them.
func words(m *desk.Matter) string {
	var parts []string
	for _, f := range m.Dossier.Set().Fields {
		parts = append(parts, fmt.Sprintf("%s %d", term.Safe(f.Field), f.Changes))
	}
	return strings.Join(parts, ", ")
}

// point is a number that changes.
type point struct {
	from, to *big.Rat
	key      string
	held     bool
}

// moves draws the numbers of the field in which most move, from against to;
// "" if there is none with three.
func moves(m *desk.Matter) (svg template.HTML, title string) {
	by := map[string][]point{}
	for _, s := range m.Changes {
		if s.Act != changeset.Amend {
			continue
		}
		for u := range s.Fields {
			f := &s.Fields[u]
			from, ok := number(f.From.String())
			to, also := number(f.To.String())
			if ok && also {
				by[f.Field] = append(by[f.Field], point{from, to, s.Key.String(), isSpecial(&s.States[u])})
			}
		}
	}
	best := ""
	for _, f := range m.Dossier.Set().Fields {
		if len(by[f.Field]) >= 3 && len(by[f.Field]) > len(by[best]) {
			best = f.Field
		}
	}
	if best == "" {
		return "", ""
	}
	return plot(by[best]), term.Safe(best) + ", from against to"
}

// number reads digits with a sign and a point.
func number(s string) (*big.Rat, bool) {
	if s == "" || len(s) > 40 || strings.Trim(s, "+-.0123456789") != "" {
		return nil, false
	}
	return new(big.Rat).SetString(s)
}

// mostPoints is how many points a chart draws.
const mostPoints = 3000

func plot(points []point) template.HTML {
	step := len(points)/mostPoints + 1
	usual := slices.DeleteFunc(slices.Clone(points), func(p point) bool { return p.held })
	if len(usual) == 0 {
		usual = points
	}
	low, high := usual[0].from, usual[0].from
	for _, p := range usual {
		for _, v := range []*big.Rat{p.from, p.to} {
			if v.Cmp(low) < 0 {
				low = v
			}
			if v.Cmp(high) > 0 {
				high = v
			}
		}
	}
	span := new(big.Rat).Sub(high, low)
	if span.Sign() == 0 {
		span.SetInt64(1)
	}
	const left, size, bottom = 60, 140, 24
	at := func(v *big.Rat) int64 { // of size
		r := new(big.Rat).Sub(v, low)
		r.Quo(r, span).Mul(r, big.NewRat(size, 1))
		n, _ := new(big.Float).SetRat(r).Int64()
		return min(max(n, 0), size) // what is held may be far off: it stands at the edge
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg width="%d" height="%d" viewBox="0 0 %d %d" role="img" aria-label="%d numbers, from %s to %s; each point is a change, its old value across and its new one up; on the dashed line nothing would change">`,
		chartWide, size+bottom+14, chartWide, size+bottom+14, len(points), low.FloatString(2), high.FloatString(2))
	fmt.Fprintf(&b, `<line class="axis" x1="%d" y1="8" x2="%d" y2="%d"/><line class="axis" x1="%d" y1="%d" x2="%d" y2="%d"/><line class="rule" x1="%d" y1="%d" x2="%d" y2="8"/>`,
		left, left, size+8, left, size+8, left+size, size+8, left, size+8, left+size)
	fmt.Fprintf(&b, `<text class="pale" x="%d" y="%d">%s</text><text class="pale" x="%d" y="%d" text-anchor="end">%s</text><text class="pale" x="%d" y="16" text-anchor="end">%s</text>`,
		left, size+bottom, low.FloatString(2), left+size, size+bottom, high.FloatString(2), left-6, high.FloatString(2))
	for i := 0; i < len(points); i += step {
		p := &points[i]
		fmt.Fprintf(&b, `<circle class="dot" cx="%d" cy="%d" r="%d"/>`, left+at(p.from), size+8-at(p.to), map[bool]int{false: 3, true: 5}[p.held])
		if p.held {
			fmt.Fprintf(&b, `<text x="%d" y="%d">%s</text>`, left+at(p.from)+8, size+12-at(p.to), template.HTMLEscapeString(term.Cut(term.Safe(p.key), 16)+": "+p.to.FloatString(2)))
		}
	}
	b.WriteString("</svg>")
	return template.HTML(b.String())
}
