package measure

import (
	"fmt"
	"image/color"
	"io"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"

	"humblemule.example/internal/sentence"
)

// Bar is one of a chart of bars: what it stands for, how long it is, and what is written at
// its end.
type Bar struct {
	What  string
	Value float64
	Label string
}

// Line is one of a chart of lines; X and Y are as long.
type Line struct {
	Name string
	X, Y []float64
}

// The inks of charts: those of the console.
var (
	paper = color.NRGBA{0xff, 0xff, 0xff, 0xff}
	ink   = color.NRGBA{0x22, 0x2b, 0x33, 0xff}
	quiet = color.NRGBA{0x6b, 0x77, 0x82, 0xff}
	rule  = color.NRGBA{0xdd, 0xe2, 0xe6, 0xff}
	inks  = []color.Color{color.NRGBA{0x1f, 0x6f, 0x8b, 0xff}, color.NRGBA{0xc2, 0x6a, 0x2d, 0xff}, color.NRGBA{0x4d, 0x7c, 0x4f, 0xff}, color.NRGBA{0x7a, 0x5c, 0x99, 0xff}}
)

func sheet(title string) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = paper
	p.Title.Text, p.Title.Padding = title, vg.Points(10)
	p.Title.TextStyle.Font.Size, p.Title.TextStyle.Color = vg.Points(13), ink
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.Color, a.Tick.Color = rule, rule
		a.Label.TextStyle.Color, a.Tick.Label.Color = quiet, quiet
		a.Label.TextStyle.Font.Size, a.Tick.Label.Font.Size = vg.Points(10), vg.Points(10)
	}
	return p
}

// grouped writes the numbers of an axis as everywhere else, leaving out those of ticks which
// have none.
type grouped struct{ plot.Ticker }

func (g grouped) Ticks(from, to float64) []plot.Tick {
	all := g.Ticker.Ticks(from, to)
	for i := range all {
		if v := all[i].Value; all[i].Label != "" && v >= 1000 {
			all[i].Label = sentence.Grouped(int64(v))
		}
	}
	return all
}

// Bars draws lengths below each other as SVG, the first one on top. What each stands for is
// written above it, from the axis on: a reader's font may be wider than ours.
func Bars(w io.Writer, title, axis string, bars []Bar) error {
	p := sheet(title)
	n := len(bars)
	values := make(plotter.Values, n)
	names, ends := make(plotter.XYs, n), make(plotter.XYs, n)
	what, says := make([]string, n), make([]string, n)
	longest := 0.0
	for i, b := range bars {
		at := n - 1 - i
		values[at] = b.Value
		names[at], what[at] = plotter.XY{X: 0, Y: float64(at) + 0.42}, b.What
		ends[at], says[at] = plotter.XY{X: b.Value, Y: float64(at)}, b.Label
		longest = max(longest, b.Value)
	}
	chart, err := plotter.NewBarChart(values, vg.Points(10))
	if err != nil {
		return err
	}
	chart.Horizontal, chart.Color, chart.LineStyle.Width = true, inks[0], 0
	p.Add(chart)
	if err := label(p, names, what, ink, 0); err != nil {
		return err
	}
	if err := label(p, ends, says, quiet, 6); err != nil {
		return err
	}
	p.HideY()
	p.Y.Min, p.Y.Max = -0.5, float64(n)
	p.X.Min, p.X.Max = 0, 1.5*longest // room for what is written at the ends
	p.X.Label.Text, p.X.Tick.Marker = axis, grouped{plot.DefaultTicks{}}
	return write(w, p, vg.Points(float64(90+30*n)))
}

// label writes texts at points, so far to the right of them.
func label(p *plot.Plot, at plotter.XYs, texts []string, ink color.Color, right float64) error {
	all, err := plotter.NewLabels(plotter.XYLabels{XYs: at, Labels: texts})
	if err != nil {
		return err
	}
	for i := range all.TextStyle {
		all.TextStyle[i].Font.Size, all.TextStyle[i].Color, all.TextStyle[i].YAlign = vg.Points(10), ink, draw.YCenter
	}
	all.Offset = vg.Point{X: vg.Points(right)}
	p.Add(all)
	return nil
}

// Lines draws how figures grow, as SVG, over an axis of powers of ten where that is asked for.
func Lines(w io.Writer, title, x, y string, powers bool, lines []Line) error {
	p := sheet(title)
	p.X.Label.Text, p.Y.Label.Text = x, y
	p.Y.Min, p.Y.Tick.Marker = 0, grouped{plot.DefaultTicks{}}
	if powers {
		p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, grouped{plot.LogTicks{Prec: -1}}
	}
	grid := plotter.NewGrid()
	grid.Vertical.Width, grid.Horizontal.Color = 0, rule
	p.Add(grid)
	highest, last := 0.0, 0.0
	for i, l := range lines {
		points := make(plotter.XYs, len(l.X))
		for k := range l.X {
			points[k] = plotter.XY{X: l.X[k], Y: l.Y[k]}
			highest = max(highest, l.Y[k])
		}
		line, dots, err := plotter.NewLinePoints(points)
		if err != nil {
			return err
		}
		line.Color, line.Width = inks[i%len(inks)], vg.Points(1.5)
		dots.Color, dots.Shape, dots.Radius = inks[i%len(inks)], draw.CircleGlyph{}, vg.Points(2.5)
		p.Add(line, dots)
		end := points[len(points)-1]
		if err := label(p, plotter.XYs{end}, []string{l.Name}, inks[i%len(inks)], 7); err != nil {
			return err
		}
		last = max(last, end.X)
	}
	p.Y.Max = 1.15 * highest
	if p.X.Max = 1.25 * last; powers { // room for the names
		p.X.Max = 8 * last
	}
	return write(w, p, vg.Points(300))
}

func write(w io.Writer, p *plot.Plot, height vg.Length) error {
	const width = 720
	c := vgsvg.New(vg.Points(width), height)
	const margin = 10
	p.Draw(draw.Crop(draw.New(c), margin, -margin, margin, -margin))
	if _, err := c.WriteTo(w); err != nil {
		return fmt.Errorf("the chart was not written: %w", err)
	}
	return nil
}
