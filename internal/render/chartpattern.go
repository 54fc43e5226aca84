package render

import (
	"image/color"
	"math"

	"ironbell/internal/core/job"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// titleRoom is what the title of the axis of numbers takes of the width, in points.
const titleRoom = 14

// title is that of an axis, as a chart writes it.
func (c *chartData) title(text string) string {
	if c.hand.live {
		return text
	}
	return c.hand.letters.fit(text)
}

// dashes are how lines are broken, by series: the first is whole.
var dashes = [][]vg.Length{nil, {7, 3}, {2, 2.5}, {9, 3, 2, 3}, {4, 2}, {12, 4}}

// hatch is how the area of a series is hatched: the directions of its lines, in parts of a half turn, and how far
// apart they are in points.
type hatch struct {
	along []float64
	apart vg.Length
}

// hatches are those of series: the first is plain.
var hatches = []hatch{{}, {[]float64{0.25}, 5}, {[]float64{0.75}, 5}, {[]float64{0}, 4}, {[]float64{0.5}, 4}, {[]float64{0.25, 0.75}, 6}}

// key draws the sign of a series in the legend.
func (c *chartData) key(to draw.Canvas, series int, in vg.Rectangle) {
	colour := hexColour(c.look.Series[series%len(c.look.Series)])
	if c.plan.Chart.Patterns && c.plan.Chart.Form == job.ChartLine {
		high := (in.Min.Y + in.Max.Y) / 2
		to.StrokeLine2(draw.LineStyle{Color: colour, Width: 2, Dashes: dashes[series%len(dashes)]}, in.Min.X-4, high, in.Max.X+2, high)
		return
	}
	to.FillPolygon(colour, []vg.Point{in.Min, {X: in.Max.X, Y: in.Min.Y}, in.Max, {X: in.Min.X, Y: in.Max.Y}})
	if c.plan.Chart.Patterns {
		c.hatch(to, series, in)
	}
}

// hatched draws the hatches of all bars.
func (c *chartData) hatched(to draw.Canvas, x, y func(float64) vg.Length) {
	c.bars(x, y, func(series, _ int, _ float64, in vg.Rectangle) { c.hatch(to, series, in) })
}

// bars calls f for each bar with its value and where it stands.
func (c *chartData) bars(x, y func(float64) vg.Length, f func(series, place int, v float64, in vg.Rectangle)) {
	stacked := c.plan.Chart.Form != job.ChartBar
	width := c.wide
	for n := range c.along {
		up, down := 0.0, 0.0
		for i := range c.values {
			v := c.height(i, n)
			if math.IsNaN(c.values[i][n]) || v == 0 {
				continue
			}
			from, mid := 0.0, x(float64(n))
			if stacked {
				sum := &up
				if v < 0 {
					sum = &down
				}
				from = *sum
				*sum += v
			} else {
				mid += width * (vg.Length(i) - vg.Length(len(c.values)-1)/2)
			}
			low, high := y(math.Min(from, from+v)), y(math.Max(from, from+v))
			f(i, n, v, vg.Rectangle{Min: vg.Point{X: mid - width/2, Y: low}, Max: vg.Point{X: mid + width/2, Y: high}})
		}
	}
}

// hatch draws the lines of a series in a rectangle.
func (c *chartData) hatch(to draw.Canvas, series int, in vg.Rectangle) {
	h := hatches[series%len(hatches)]
	style := draw.LineStyle{Color: color.White, Width: 0.9}
	for _, along := range h.along {
		sin, cos := math.Sincos(along * math.Pi)
		// Lines run along (cos, sin) and follow each other across it.
		across := func(p vg.Point) float64 { return -float64(p.X)*sin + float64(p.Y)*cos }
		least, most := math.Inf(1), math.Inf(-1)
		for _, corner := range []vg.Point{in.Min, in.Max, {X: in.Min.X, Y: in.Max.Y}, {X: in.Max.X, Y: in.Min.Y}} {
			least, most = math.Min(least, across(corner)), math.Max(most, across(corner))
		}
		for at := math.Ceil(least/float64(h.apart)) * float64(h.apart); at < most; at += float64(h.apart) {
			start := vg.Point{X: vg.Length(-at * sin), Y: vg.Length(at * cos)}
			from, end, ok := clip(start, cos, sin, in)
			if ok {
				to.StrokeLine2(style, from.X, from.Y, end.X, end.Y)
			}
		}
	}
}

// clip is the part of a line through a point that lies in a rectangle.
func clip(p vg.Point, dx, dy float64, in vg.Rectangle) (from, to vg.Point, ok bool) {
	low, high := math.Inf(-1), math.Inf(1)
	for _, side := range [][4]float64{
		{float64(p.X), dx, float64(in.Min.X), float64(in.Max.X)}, {float64(p.Y), dy, float64(in.Min.Y), float64(in.Max.Y)},
	} {
		at, step, least, most := side[0], side[1], side[2], side[3]
		if math.Abs(step) < 1e-9 {
			if at < least || at > most {
				return from, to, false
			}
			continue
		}
		a, b := (least-at)/step, (most-at)/step
		low, high = math.Max(low, math.Min(a, b)), math.Min(high, math.Max(a, b))
	}
	if low >= high {
		return from, to, false
	}
	at := func(t float64) vg.Point { return vg.Point{X: p.X + vg.Length(t*dx), Y: p.Y + vg.Length(t*dy)} }
	return at(low), at(high), true
}
