package picture

import (
	"bytes"
	"fmt"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"paletwin/internal/desk"
	"paletwin/internal/term"
)

// mostPoints is how many changes a picture of a summary draws.
const mostPoints = 800

// Bars draws how many records change, field by field, as SVG. In words are the
// same numbers, for those who do not see them.
func Bars(m *desk.Contents, t Theme) (svg []byte, inWords string, err error) {
	d := newDrawing(t)
	fields := m.Dossier.Set().Fields
	n := len(fields)
	values := make(plotter.Values, n)
	names, parts := make([]string, n), make([]string, n)
	counts := plotter.XYLabels{XYs: make(plotter.XYs, n), Labels: make([]string, n)}
	most := 1
	for i, f := range fields {
		at := n - 1 - i // from the top down
		values[at], names[at] = float64(f.Changes), term.Cut(term.Safe(f.Field), 18)
		counts.XYs[at], counts.Labels[at] = plotter.XY{X: float64(f.Changes), Y: float64(at)}, term.Count(f.Changes)
		parts[i] = fmt.Sprintf("%s %d", term.Safe(f.Field), f.Changes)
		most = max(most, f.Changes)
	}
	inWords = strings.Join(parts, ", ")
	if n == 0 {
		return nil, inWords, nil
	}
	b, err := plotter.NewBarChart(values, vg.Points(11))
	if err != nil {
		return nil, "", err
	}
	b.Horizontal, b.Color, b.LineStyle.Width = true, t.Amber, 0
	l, err := plotter.NewLabels(counts)
	if err != nil {
		return nil, "", err
	}
	l.Offset = vg.Point{X: vg.Points(4), Y: vg.Points(-4)}
	for i := range l.TextStyle {
		l.TextStyle[i].Color = t.Ink
	}
	d.Add(b, l)
	d.NominalY(names...)
	d.Y.Min, d.Y.Max, d.X.Min, d.X.Max = -0.6, float64(n)-0.4, 0, 1.2*float64(most)
	d.X.Tick.Marker, d.X.LineStyle.Width = plot.ConstantTicks{}, 0
	var out bytes.Buffer
	err = d.write(&out, vg.Points(290), vg.Points(float64(17*n+8)), "svg")
	return out.Bytes(), inWords, err
}

// Moves draws, as SVG, the field of which most numbers change, from against to.
// field is "" if there is none with three.
func Moves(m *desk.Contents, t Theme) (svg []byte, field, inWords string, err error) {
	by := moves(m)
	var best []move
	for _, f := range m.Dossier.Set().Fields {
		var numbers []move
		for _, x := range by[f.Field] {
			_, ok := number(x.from)
			if _, also := number(x.to); ok && also {
				numbers = append(numbers, x)
			}
		}
		if len(numbers) >= 3 && len(numbers) > len(best) {
			field, best = f.Field, numbers
		}
	}
	if field == "" {
		return nil, "", "", nil
	}
	inWords = fmt.Sprintf("%d changes of %s; each point is one, its old value across and its new one up; on the dashed line nothing would change", len(best), term.Safe(field))
	d := newDrawing(t)
	if err := d.numbers(thinned(best)); err != nil {
		return nil, "", "", err
	}
	var out bytes.Buffer
	err = d.write(&out, vg.Points(290), vg.Points(210), "svg")
	return out.Bytes(), field, inWords, err
}

// thinned are so many changes that a picture of a summary holds, and all that
// something was found about.
func thinned(all []move) []move {
	step := len(all)/mostPoints + 1
	var some []move
	for i, m := range all {
		if i%step == 0 || m.special {
			some = append(some, m)
		}
	}
	return some
}
