// Package picture draws what becomes of a field: numbers, old against new;
// choices, how many before and after; dates, along time. The drawing itself is
// gonum/plot's. Values become floating point numbers here and nowhere else,
// and only to be drawn.
package picture

import (
	"bytes"
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
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	_ "gonum.org/v1/plot/vg/vgimg" // the two forms there are; with the build tag minimal no others are linked
	_ "gonum.org/v1/plot/vg/vgsvg"

	"paletwin/internal/desk"
	"paletwin/internal/term"
)

// Theme is the colours of a picture.
type Theme struct{ Ink, Pale, Amber, Paper color.Color }

// Light and Dark are the themes: the colours of the screen and of the page.
var (
	Light = Theme{color.RGBA{0x22, 0x26, 0x2b, 0xff}, color.RGBA{0xa8, 0xa6, 0x9e, 0xff}, color.RGBA{0xd5, 0x8c, 0x00, 0xff}, color.RGBA{0xfb, 0xfa, 0xf7, 0xff}}
	Dark  = Theme{color.RGBA{0xec, 0xea, 0xe4, 0xff}, color.RGBA{0x80, 0x7f, 0x78, 0xff}, color.RGBA{0xf0, 0xb0, 0x4a, 0xff}, color.RGBA{0x1b, 0x1d, 0x20, 0xff}}
)

// drawing is a picture that is being drawn.
type drawing struct {
	*plot.Plot
	Theme
}

// newDrawing returns an empty picture.
func newDrawing(t Theme) *drawing {
	plot.DefaultFont.Variant, plotter.DefaultFont.Variant = "Sans", "Sans"
	d := &drawing{plot.New(), t}
	d.BackgroundColor = t.Paper
	d.Title.TextStyle.Color, d.Legend.TextStyle.Color = t.Ink, t.Ink
	for _, axis := range []*plot.Axis{&d.X, &d.Y} {
		axis.Color, axis.Tick.Color, axis.Tick.Label.Color, axis.Label.TextStyle.Color = t.Pale, t.Pale, t.Ink, t.Ink
	}
	return d
}

// sans is what SVG is to be set in where the plotting library's font is not there.
var sans = []byte("font-family:Liberation Sans,DejaVu Sans,Arial,sans-serif")

// write writes the picture, so many points wide and high.
func (d *drawing) write(w io.Writer, wide, high vg.Length, format string) error {
	c, err := d.WriterTo(wide, high, format)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return err
	}
	drawn := b.Bytes()
	if format == "svg" {
		drawn = bytes.ReplaceAll(drawn, []byte("font-family:Liberation Sans"), sans)
	}
	_, err = w.Write(drawn)
	return err
}

// move is a change of the field.
type move struct {
	from, to string
	key      string
	special  bool // something was found about it
}

// moves are the changes of each field.
func moves(m *desk.Contents) map[string][]move {
	by := map[string][]move{}
	for _, s := range m.Changes {
		for u := range s.Fields {
			f := &s.Fields[u]
			by[f.Field] = append(by[f.Field], move{f.From.String(), f.To.String(), s.Key.String(), s.States[u].Found()})
		}
	}
	return by
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
func Write(w io.Writer, m *desk.Contents, field, format string) error {
	by := moves(m)
	all := by[field]
	if len(all) == 0 {
		e := &NoField{Field: field}
		for _, f := range m.Header.Fields {
			if len(by[f]) > 0 {
				e.Have = append(e.Have, f)
			}
		}
		return e
	}
	d := newDrawing(Light)
	d.Title.Text = fmt.Sprintf("%s %s: %s", m.Dossier.Meta.Number, term.Safe(m.Dossier.Meta.Title), term.Safe(field))
	d.Title.TextStyle.Font.Size, d.Title.Padding = vg.Points(14), vg.Points(8)
	if err := d.field(all); err != nil {
		return err
	}
	return d.write(w, vg.Points(720), vg.Points(480), format)
}

// field draws a field by what its values are.
func (d *drawing) field(all []move) error {
	switch {
	case most(all, func(v string) bool { _, ok := number(v); return ok }):
		return d.numbers(all)
	case most(all, func(v string) bool { _, ok := day(v); return ok }):
		return d.days(all)
	}
	return d.choices(all)
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
func (d *drawing) numbers(all []move) error {
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
	d.X.Label.Text, d.Y.Label.Text = "from", "to"
	same := plotter.NewFunction(func(x float64) float64 { return x })
	same.Color, same.Dashes = d.Pale, []vg.Length{vg.Points(4), vg.Points(3)}
	d.Add(plotter.NewGrid(), same)
	d.Legend.Add("no change", same)
	d.Legend.Top, d.Legend.Left = true, true
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
		s.GlyphStyle = draw.GlyphStyle{Color: d.Amber, Radius: vg.Points(x.size), Shape: draw.CircleGlyph{}}
		if x.name != "change" {
			s.GlyphStyle.Color = d.Ink
		}
		d.Add(s)
		d.Legend.Add(x.name, s)
	}
	n := min(len(labels), mostLabels)
	return d.label(special[:n], labels[:n])
}

// label labels points on the side on which there is room.
func (d *drawing) label(at plotter.XYs, labels []string) error {
	middle := (d.X.Min + d.X.Max) / 2
	for _, side := range []struct {
		right  bool
		align  text.XAlignment
		offset vg.Length
	}{{false, text.XLeft, 8}, {true, text.XRight, -12}} {
		var some plotter.XYLabels
		for i, p := range at {
			if (p.X > middle) == side.right {
				some.XYs, some.Labels = append(some.XYs, p), append(some.Labels, labels[i])
			}
		}
		if len(some.XYs) == 0 {
			continue
		}
		l, err := plotter.NewLabels(some)
		if err != nil {
			return err
		}
		for i := range l.TextStyle {
			l.TextStyle[i].Color, l.TextStyle[i].XAlign = d.Ink, side.align
		}
		l.Offset = vg.Point{X: side.offset, Y: vg.Points(-3)}
		d.Add(l)
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
func (d *drawing) choices(all []move) error {
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
	}{{old, d.Pale, "before"}, {now, d.Amber, "after"}} {
		b, err := plotter.NewBarChart(x.values, vg.Points(16))
		if err != nil {
			return err
		}
		b.Color, b.LineStyle.Width, b.Offset = x.color, 0, vg.Points(float64(i)*17-8)
		d.Add(b)
		d.Legend.Add(x.name, b)
	}
	d.Legend.Top = true
	d.NominalX(labels...)
	d.X.Min, d.X.Max = -0.6, float64(len(labels))-0.1
	d.Y.Label.Text, d.Y.Min = "changed records", 0
	if rest > 0 {
		d.X.Label.Text = fmt.Sprintf("and %d values more", rest)
	}
	return nil
}

// days draws each change as a stroke from the old date to the new one, in the
// change set's order.
func (d *drawing) days(all []move) error {
	d.X.Tick.Marker = plot.TimeTicks{Format: time.DateOnly}
	d.Y.Tick.Marker = plot.ConstantTicks{}
	d.Y.Label.Text = fmt.Sprintf("%d changes", len(all))
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
			l.Color = d.Pale
			d.Add(l)
		}
	}
	for _, x := range []struct {
		points plotter.XYs
		color  color.Color
		name   string
	}{{old, d.Pale, "before"}, {now, d.Amber, "after"}} {
		if len(x.points) == 0 {
			continue
		}
		s, err := plotter.NewScatter(x.points)
		if err != nil {
			return err
		}
		s.GlyphStyle = draw.GlyphStyle{Color: x.color, Radius: vg.Points(2.5), Shape: draw.CircleGlyph{}}
		d.Add(s)
		d.Legend.Add(x.name, s)
	}
	d.Legend.Top = true
	return nil
}
