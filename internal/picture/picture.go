// Package picture draws what becomes of a field: numbers, old against new;
// choices, how many before and after; dates, along time. The drawing itself is
// gonum/plot's. Values become floating point numbers here and nowhere else,
// and only to be drawn.
package picture

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"paletwin/internal/desk"
	"paletwin/internal/term"
)

// Colours: those of the screen.
var (
	pale  = color.RGBA{0xa8, 0xa6, 0x9e, 0xff}
	amber = color.RGBA{0xd5, 0x8c, 0x00, 0xff}
	ink   = color.RGBA{0x22, 0x26, 0x2b, 0xff}
)

// move is a change of the field.
type move struct {
	from, to string
	key      string
	special  bool // something was found about it
}

// NoField says that a field has no changes to be drawn.
type NoField struct {
	Field string
	Have  []string // those that have
}

func (e *NoField) Error() string {
	return fmt.Sprintf("no change is of the field %q; changed are %s", e.Field, strings.Join(e.Have, ", "))
}

// Write draws a field's changes; format is "png" or "svg".
func Write(w io.Writer, m *desk.Matter, field, format string) error {
	var all []move
	have := map[string]bool{}
	for _, s := range m.Changes {
		for u := range s.Fields {
			f := &s.Fields[u]
			have[f.Field] = true
			if f.Field == field {
				all = append(all, move{f.From.String(), f.To.String(), s.Key.String(), len(s.States[u].Held)+len(s.States[u].Stop)+len(s.States[u].Noted) > 0})
			}
		}
	}
	if len(all) == 0 {
		e := &NoField{Field: field}
		for _, f := range m.Header.Fields {
			if have[f] {
				e.Have = append(e.Have, f)
			}
		}
		return e
	}
	plot.DefaultFont.Variant, plotter.DefaultFont.Variant = "Sans", "Sans"
	p := plot.New()
	p.Title.Text = fmt.Sprintf("%s %s: %s", m.Dossier.Meta.Number, term.Safe(m.Dossier.Meta.Title), term.Safe(field))
	p.Title.TextStyle.Font.Size, p.Title.Padding = vg.Points(14), vg.Points(8)
	p.Title.TextStyle.Color, p.X.Color, p.Y.Color = ink, pale, pale
	var err error
	switch {
	case most(all, func(v string) bool { _, ok := number(v); return ok }):
		err = numbers(p, all)
	case most(all, func(v string) bool { _, ok := day(v); return ok }):
		err = days(p, all)
	default:
		err = choices(p, all)
	}
	if err != nil {
		return err
	}
	c, err := p.WriterTo(vg.Points(720), vg.Points(480), format)
	if err != nil {
		return err
	}
	_, err = c.WriteTo(w)
	return err
}

// most reports whether nine in ten values are of a kind.
func most(all []move, is func(string) bool) bool {
	n, of := 0, 0
	for _, m := range all {
		for _, v := range []string{m.from, m.to} {
			if v == "" {
				continue
			}
			if of++; is(v) {
				n++
			}
		}
	}
	return of > 0 && n*10 >= of*9
}

func number(v string) (float64, bool) {
	if strings.Trim(v, "+-.0123456789") != "" {
		return 0, false
	}
	x, err := strconv.ParseFloat(v, 64)
	return x, err == nil && !math.IsInf(x, 0)
}

func day(v string) (time.Time, bool) {
	for _, form := range []string{time.DateOnly, "02.01.2006", "02/01/2006"} {
		if t, err := time.Parse(form, v[:min(len(v), len(form))]); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

// mostLabels is how many points are labelled by their keys.
const mostLabels = 12

// numbers draws old values against new ones, with the line on which nothing
// would change. What something was found about is labelled.
func numbers(p *plot.Plot, all []move) error {
	var plain, special plotter.XYs
	var labels []string
	for _, m := range all {
		from, ok := number(m.from)
		to, also := number(m.to)
		switch {
		case !ok || !also:
		case m.special:
			special = append(special, plotter.XY{X: from, Y: to})
			labels = append(labels, term.Safe(m.key+": "+m.to))
		default:
			plain = append(plain, plotter.XY{X: from, Y: to})
		}
	}
	toEdge(plain, special)
	p.X.Label.Text, p.Y.Label.Text = "from", "to"
	same := plotter.NewFunction(func(x float64) float64 { return x })
	same.Color, same.Dashes = pale, []vg.Length{vg.Points(4), vg.Points(3)}
	p.Add(plotter.NewGrid(), same)
	p.Legend.Add("no change", same)
	p.Legend.Top, p.Legend.Left = true, true
	for _, x := range []struct {
		points plotter.XYs
		size   float64
		name   string
	}{{plain, 2.5, "change"}, {special, 4, "with a finding"}} {
		if len(x.points) == 0 {
			continue
		}
		s, err := plotter.NewScatter(x.points)
		if err != nil {
			return err
		}
		s.GlyphStyle = draw.GlyphStyle{Color: amber, Radius: vg.Points(x.size), Shape: draw.CircleGlyph{}}
		if x.name != "change" {
			s.GlyphStyle.Color = ink
		}
		p.Add(s)
		p.Legend.Add(x.name, s)
	}
	if n := min(len(labels), mostLabels); n > 0 {
		l, err := plotter.NewLabels(plotter.XYLabels{XYs: special[:n], Labels: labels[:n]})
		if err != nil {
			return err
		}
		l.Offset = vg.Point{X: vg.Points(6), Y: vg.Points(-3)}
		p.Add(l)
	}
	return nil
}

// toEdge puts points that are far off the others at the edge of these, so that
// the others can be told apart; their labels say where they are.
func toEdge(plain, special plotter.XYs) {
	const fewest, far = 3, 0.5
	if len(plain) < fewest {
		return
	}
	low, high := plain[0].Y, plain[0].Y
	for _, p := range plain {
		low, high = min(low, p.Y), max(high, p.Y)
	}
	room := far * (high - low)
	for i := range special {
		special[i].Y = min(max(special[i].Y, low-room), high+room)
	}
}

// mostChoices is how many values a picture tells apart.
const mostChoices = 12

// choices draws how many of the changed records have a value before and after.
func choices(p *plot.Plot, all []move) error {
	before, after := map[string]int{}, map[string]int{}
	var names []string
	for _, m := range all {
		for _, v := range []string{m.from, m.to} {
			if before[v]+after[v] == 0 {
				names = append(names, v)
			}
			if v == m.from {
				before[v]++
			}
			if v == m.to {
				after[v]++
			}
		}
	}
	slices.SortStableFunc(names, func(a, b string) int { return before[b] + after[b] - before[a] - after[a] })
	rest := len(names) - mostChoices
	names = names[:min(len(names), mostChoices)]
	slices.Sort(names)
	var old, now plotter.Values
	var labels []string
	for _, v := range names {
		old, now = append(old, float64(before[v])), append(now, float64(after[v]))
		if v == "" {
			v = "(empty)"
		}
		labels = append(labels, term.Cut(term.Safe(v), 16))
	}
	for i, x := range []struct {
		values plotter.Values
		color  color.Color
		name   string
	}{{old, pale, "before"}, {now, amber, "after"}} {
		b, err := plotter.NewBarChart(x.values, vg.Points(16))
		if err != nil {
			return err
		}
		b.Color, b.LineStyle.Width, b.Offset = x.color, 0, vg.Points(float64(i)*17-8)
		p.Add(b)
		p.Legend.Add(x.name, b)
	}
	p.Legend.Top = true
	p.NominalX(labels...)
	p.X.Min, p.X.Max = -0.6, float64(len(labels))-0.1
	p.Y.Label.Text, p.Y.Min = "changed records", 0
	if rest > 0 {
		p.X.Label.Text = fmt.Sprintf("and %d values more", rest)
	}
	return nil
}

// days draws each change as a stroke from the old date to the new one, in the
// change set's order.
func days(p *plot.Plot, all []move) error {
	p.X.Tick.Marker = plot.TimeTicks{Format: time.DateOnly}
	p.Y.Tick.Marker = plot.ConstantTicks{}
	p.Y.Label.Text = fmt.Sprintf("%d changes", len(all))
	var old, now plotter.XYs
	for i, m := range all {
		from, ok := day(m.from)
		to, also := day(m.to)
		y := float64(len(all) - i)
		if ok {
			old = append(old, plotter.XY{X: float64(from.Unix()), Y: y})
		}
		if also {
			now = append(now, plotter.XY{X: float64(to.Unix()), Y: y})
		}
		if ok && also {
			l, err := plotter.NewLine(plotter.XYs{{X: float64(from.Unix()), Y: y}, {X: float64(to.Unix()), Y: y}})
			if err != nil {
				return err
			}
			l.Color = pale
			p.Add(l)
		}
	}
	for _, x := range []struct {
		points plotter.XYs
		color  color.Color
		name   string
	}{{old, pale, "before"}, {now, amber, "after"}} {
		if len(x.points) == 0 {
			continue
		}
		s, err := plotter.NewScatter(x.points)
		if err != nil {
			return err
		}
		s.GlyphStyle = draw.GlyphStyle{Color: x.color, Radius: vg.Points(2.5), Shape: draw.CircleGlyph{}}
		p.Add(s)
		p.Legend.Add(x.name, s)
	}
	p.Legend.Top = true
	return nil
}
