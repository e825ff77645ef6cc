package main

import (
	"fmt"
	"image/color"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	_ "gonum.org/v1/plot/vg/vgimg" // PNG
)

// sizes measures comparisons of registers from 10,000 records on, and draws what a record costs against how many there are.
func (b *bench) sizes(upTo int, picture string) {
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
			lines[k] = append(lines[k], plotter.XY{X: float64(n), Y: cost})
			row += fmt.Sprintf(" %.2f |", cost)
		}
		fmt.Println(row, best[2].anon>>20, "MB |")
	}
	must(draws(lines, picture))
}

// draws draws a line for each way, with its name at its end.
func draws(lines []plotter.XYs, picture string) error {
	plot.DefaultFont.Variant, plotter.DefaultFont.Variant = "Sans", "Sans"
	ink, pale := color.RGBA{0x22, 0x26, 0x2b, 0xff}, color.RGBA{0xa8, 0xa6, 0x9e, 0xff}
	p := plot.New()
	p.BackgroundColor = color.RGBA{0xfb, 0xfa, 0xf7, 0xff}
	p.Title.Text = "What a record costs, against how many there are"
	p.X.Label.Text, p.Y.Label.Text = "records of the register, 16 fields each", "microseconds a record"
	p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, plot.ConstantTicks{{Value: 1e4, Label: "10,000"}, {Value: 1e5, Label: "100,000"}, {Value: 1e6, Label: "1 million"}, {Value: 1e7, Label: "10 million"}, {Value: 2e7, Label: ""}}
	p.X.Min, p.X.Max, p.Y.Min = 8e3, 9e7, 0
	p.Title.TextStyle.Color = ink
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		axis.Color, axis.Tick.Color, axis.Tick.Label.Color, axis.Label.TextStyle.Color = pale, pale, ink, ink
	}
	grid := plotter.NewGrid()
	grid.Vertical.Width, grid.Horizontal.Color = 0, color.RGBA{0xe4, 0xe2, 0xdc, 0xff}
	p.Add(grid)
	for k, name := range []string{"plain read of both files", "compare, same order", "compare, shuffled"} {
		shade := []color.Color{pale, color.RGBA{0xd5, 0x8c, 0x00, 0xff}, color.RGBA{0x2b, 0x6c, 0xa8, 0xff}}[k]
		line, points, err := plotter.NewLinePoints(lines[k])
		if err != nil {
			return err
		}
		line.Color, line.Width, points.Color, points.Shape, points.Radius = shade, vg.Points(2), shade, draw.CircleGlyph{}, vg.Points(3)
		last := lines[k][len(lines[k])-1]
		label, err := plotter.NewLabels(plotter.XYLabels{XYs: plotter.XYs{last}, Labels: []string{"  " + name}})
		if err != nil {
			return err
		}
		label.TextStyle[0].Color, label.TextStyle[0].YAlign = ink, draw.YCenter
		p.Add(line, points, label)
	}
	return p.Save(960, 540, picture)
}
