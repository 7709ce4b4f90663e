package main

import (
	"image/color"
	"os"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
)

// The colours of the lines: Osprey's first.
var colours = []color.RGBA{{0x0b, 0x6e, 0x99, 0xff}, {0xc2, 0x56, 0x1a, 0xff}}

// plotCurves draws the curves side by side into a PNG of 1280 by 800 points.
func plotCurves(curves []*curve, path string) error {
	const columns = 2
	rows := (len(curves) + columns - 1) / columns
	plots := make([][]*plot.Plot, rows)
	for i := range plots {
		plots[i] = make([]*plot.Plot, columns)
	}
	for i, c := range curves {
		p, err := c.plot()
		if err != nil {
			return err
		}
		plots[i/columns][i%columns] = p
	}
	canvas := vgimg.NewWith(vgimg.UseWH(vg.Points(960), vg.Points(600)), vgimg.UseDPI(96))
	tiles := draw.Tiles{Rows: rows, Cols: columns, PadX: vg.Points(28), PadY: vg.Points(24), PadTop: vg.Points(12), PadBottom: vg.Points(12), PadLeft: vg.Points(12), PadRight: vg.Points(20)}
	areas := plot.Align(plots, tiles, draw.New(canvas))
	for i, c := range curves {
		if c != nil {
			plots[i/columns][i%columns].Draw(areas[i/columns][i%columns])
		}
	}
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	if _, err := (vgimg.PngCanvas{Canvas: canvas}).WriteTo(f); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

func (c *curve) plot() (*plot.Plot, error) {
	p := plot.New()
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = c.title, c.x, c.y
	p.Title.TextStyle.Font.Size, p.Title.Padding = vg.Points(14), vg.Points(6)
	p.Add(plotter.NewGrid())
	if c.logarithm {
		p.X.Scale, p.Y.Scale = plot.LogScale{}, plot.LogScale{}
		p.X.Tick.Marker, p.Y.Tick.Marker = plot.LogTicks{Prec: -1}, plot.LogTicks{Prec: -1}
	} else {
		p.Y.Min, p.X.Min = 0, 0
	}
	for i, l := range c.lines {
		var points plotter.XYs
		for _, q := range l.points {
			points = append(points, plotter.XY{X: q.x, Y: q.y})
		}
		drawn, dots, err := plotter.NewLinePoints(points)
		if err != nil {
			return nil, err
		}
		drawn.Color, dots.Color = colours[i%len(colours)], colours[i%len(colours)]
		drawn.Width, dots.Shape, dots.Radius = vg.Points(1.6), draw.CircleGlyph{}, vg.Points(2.6)
		p.Add(drawn, dots)
		if len(c.lines) > 1 {
			p.Legend.Add(l.name, drawn, dots)
		}
	}
	// Where the lines are not: they rise to the right.
	p.Legend.XOffs, p.Legend.YOffs, p.Legend.Padding = vg.Points(-28), vg.Points(8), vg.Points(3)
	p.Y.Max *= 1.05
	return p, nil
}
