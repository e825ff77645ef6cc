package main

import (
	"fmt"
	"image/color"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"paletwin/internal/picture"
)

// sizes measures comparisons of registers from 10,000 records on, and draws what they take against how many records there are.
func (b *bench) sizes(upTo int, to string) {
	fmt.Printf("%d runs each, the fastest; microseconds a record\n\n| records | plain read of both files | same order | shuffled | anonymous memory, shuffled |\n| --- | --- | --- | --- | --- |\n", b.runs)
	lines := make([]plotter.XYs, 3)
	for _, n := range []int{10_000, 100_000, 1_000_000, 3_000_000, 10_000_000, 20_000_000} {
		if n > upTo {
			break
		}
		b.generate(n, "register.csv", "same.csv", "shuffled.csv")
		register := b.data(n, "register.csv")
		compare := func(copy string) []string {
			return []string{b.bin("paletwin"), "compare", register, b.data(n, copy), "--key", "asset_no", "--rehearse", "--with", "memory=512MiB"}
		}
		commands := [][]string{{b.bin("stdlib"), register, b.data(n, "same.csv")}, compare("same.csv"), compare("shuffled.csv")}
		best := make([]measured, len(commands))
		for i := range b.runs + 1 {
			for k, c := range commands {
				if m := run(c...); i == 1 || i > 1 && m.wall < best[k].wall { // the first one warms up
					best[k] = m
				}
			}
		}
		row := fmt.Sprintf("| %d |", n)
		for k, m := range best {
			cost := m.wall.Seconds() / float64(n) * 1e6
			lines[k] = append(lines[k], plotter.XY{X: float64(n), Y: m.wall.Seconds()})
			row += fmt.Sprintf(" %.2f |", cost)
		}
		fmt.Println(row, best[2].anon>>20, "MB |")
	}
	must(draws(lines, to))
}

// draws draws a line for each way, both axes by powers of ten: what grows with the records is a straight line.
func draws(lines []plotter.XYs, to string) error {
	plot.DefaultFont.Variant, plotter.DefaultFont.Variant = "Sans", "Sans"
	ink, pale := picture.Light.Ink, picture.Light.Pale
	p := plot.New()
	p.BackgroundColor = picture.Light.Paper
	p.Title.Text, p.Title.Padding = "Time of a comparison, against the size of the register", vg.Points(14)
	p.X.Label.Text, p.Y.Label.Text = "records, 16 fields each", "seconds"
	p.Legend.Top, p.Legend.Left, p.Legend.XOffs, p.Legend.YOffs, p.Legend.Padding = true, true, vg.Points(14), vg.Points(-8), vg.Points(4)
	p.Legend.TextStyle.Color = ink
	p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, plot.ConstantTicks{{Value: 1e4, Label: "10,000"}, {Value: 1e5, Label: "100,000"}, {Value: 1e6, Label: "1 million"}, {Value: 1e7, Label: "10 million"}, {Value: 2e7, Label: ""}}
	p.Y.Scale, p.Y.Tick.Marker = plot.LogScale{}, plot.ConstantTicks{{Value: 0.01, Label: "0.01"}, {Value: 0.1, Label: "0.1"}, {Value: 1, Label: "1"}, {Value: 10, Label: "10"}, {Value: 100, Label: "100"}}
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = 8e3, 2.5e7, 0.01, 100
	p.Title.TextStyle.Color = ink
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		axis.Color, axis.Tick.Color, axis.Tick.Label.Color, axis.Label.TextStyle.Color = pale, pale, ink, ink
	}
	grid := plotter.NewGrid()
	grid.Vertical.Color, grid.Horizontal.Color = color.RGBA{0xe4, 0xe2, 0xdc, 0xff}, color.RGBA{0xe4, 0xe2, 0xdc, 0xff}
	p.Add(grid)
	for k, name := range []string{"plain read of both files", "compare, same order", "compare, shuffled"} {
		shade := []color.Color{pale, picture.Light.Amber, color.RGBA{0x2b, 0x6c, 0xa8, 0xff}}[k]
		line, points, err := plotter.NewLinePoints(lines[k])
		if err != nil {
			return err
		}
		line.Color, line.Width, points.Color, points.Shape, points.Radius = shade, vg.Points(2), shade, draw.CircleGlyph{}, vg.Points(3)
		p.Add(line, points)
		p.Legend.Add(name, line, points)
	}
	return p.Save(960, 540, to)
}
