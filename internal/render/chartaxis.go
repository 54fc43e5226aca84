package render

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
)

// steps gives four to eight round numbers between two.
func steps(low, high float64) []float64 {
	rough := (high - low) / 6
	if rough <= 0 || math.IsInf(rough, 0) {
		return []float64{low}
	}
	unit := math.Pow(10, math.Floor(math.Log10(rough)))
	step := unit * 10
	for _, by := range []float64{1, 2, 2.5, 5} {
		if rough <= unit*by {
			step = unit * by
			break
		}
	}
	var at []float64
	for n := math.Ceil(low / step); n*step <= high; n++ {
		// Rounded by digits, or 0.30000000000000004 would stand there.
		v, err := strconv.ParseFloat(strconv.FormatFloat(n*step, 'g', 12, 64), 64)
		if err != nil {
			break
		}
		at = append(at, v)
	}
	return at
}

// extent is what the axis of numbers spans.
func (c *chartData) extent() (low, high float64) {
	if c.plan.Chart.Form == job.ChartShare {
		return 0, 1
	}
	low, high = math.Inf(1), math.Inf(-1)
	for place := range c.along {
		up, down := 0.0, 0.0
		for i := range c.values {
			v := c.values[i][place]
			switch {
			case math.IsNaN(v):
			case c.plan.Chart.Form == job.ChartStacked && v > 0:
				up += v
			case c.plan.Chart.Form == job.ChartStacked:
				down += v
			default:
				low, high = min(low, v), max(high, v)
			}
		}
		if c.plan.Chart.Form == job.ChartStacked {
			low, high = min(low, down), max(high, up)
		}
	}
	for _, t := range c.plan.Chart.Targets {
		low, high = min(low, t.At), max(high, t.At)
	}
	if math.IsInf(low, 0) {
		return 0, 1
	}
	// Bars stand on nothing; lines do unless all of them run far above it.
	if c.plan.Chart.Form != job.ChartLine || low > 0 && low < high*0.6 {
		low, high = min(low, 0), max(high, 0)
	}
	if low == high { // one number alone: it is measured from nothing
		low, high = min(low, 0), max(high, 0)
	}
	if low == high {
		high++
	}
	room := (high - low) * 0.05
	if low < 0 || c.plan.Chart.Form == job.ChartLine && low > 0 {
		low -= room
	}
	return low, high + room
}

// Measures of the labels along the axis, in points.
const (
	labelFont  = 9
	labelGap   = 12 // between two of them
	labelLines = 3  // over which one is broken
	leastSlot  = 40 // for which labels are broken rather than passed over
	mostLabel  = 120
)

// overhang is how far the last label reaches beyond the chart.
func (c *chartData) overhang(h text.Handler) vg.Length {
	if len(c.along) == 0 || c.plan.Chart.Form != job.ChartLine {
		return 14
	}
	style := textStyle(h, labelFont, c.faint)
	return max(14, min(style.Width(c.along[len(c.along)-1]), mostLabel)/2+2)
}

// numbersWide is about how much the numbers of the other axis take of the width.
func (c *chartData) numbersWide(p *plot.Plot, h text.Handler) vg.Length {
	style := textStyle(h, labelFont, c.faint)
	widest := vg.Length(0)
	for _, t := range p.Y.Tick.Marker.Ticks(p.Y.Min, p.Y.Max) {
		widest = max(widest, style.Width(t.Label))
	}
	if c.plan.Chart.ValueTitle != "" {
		widest += titleRoom
	}
	return widest + 10
}

// ticks names as many places as can be read side by side. Labels of bars are broken over several lines where that
// lets all of them stand.
func (c *chartData) ticks(width vg.Length, h text.Handler) []plot.Tick {
	style := textStyle(h, labelFont, c.faint)
	from, to := -0.5, float64(len(c.along))-0.5
	place := func(i int) float64 { return float64(i) }
	if c.plan.Chart.Form == job.ChartLine {
		place = func(i int) float64 { return c.at[i] }
		from, to = math.Inf(1), math.Inf(-1)
		for i := range c.along {
			from, to = min(from, place(i)), max(to, place(i))
		}
	}
	slot := width / vg.Length(max(len(c.along), 1))
	if c.plan.Chart.Form != job.ChartLine && slot >= leastSlot && !c.days(slot-6, style) {
		var ticks []plot.Tick
		for i, label := range c.along {
			ticks = append(ticks, plot.Tick{Value: place(i), Label: c.broken(label, slot-6, style)})
		}
		return ticks
	}
	var ticks []plot.Tick
	// All take as much as the widest, so that they stand in even steps where their places do.
	widest := vg.Length(0)
	for _, label := range c.along {
		widest = max(widest, min(style.Width(label), mostLabel))
	}
	half := float64(widest) / 2
	free := math.Inf(-1) // from where on there is room
	for i, label := range c.along {
		label = c.shortened(label, mostLabel, style)
		at := 0.0
		if to > from {
			at = (place(i) - from) / (to - from) * float64(width)
		}
		if at-half < free {
			continue
		}
		free = at + half + labelGap
		ticks = append(ticks, plot.Tick{Value: place(i), Label: label})
	}
	return ticks
}

// days tells whether what stands along the axis are dates that are wider than a place: half a date tells nothing.
func (c *chartData) days(width vg.Length, style text.Style) bool {
	switch c.plan.Columns[c.plan.Chart.Along].Kind {
	case rows.Date, rows.Local, rows.Instant:
	default:
		return false
	}
	return slices.ContainsFunc(c.along, func(label string) bool {
		widest := c.hand.letters.shaper.Widest(label, math.Inf(1), func(s string) float64 { return float64(style.Width(s)) })
		return vg.Length(widest) > width
	})
}

// broken breaks a label over a few lines of a width; what does not fit is shortened.
func (c *chartData) broken(label string, width vg.Length, style text.Style) string {
	lines := c.hand.wrapped(label, style, width)
	if len(lines) > labelLines {
		lines = append(lines[:labelLines-1], strings.Join(lines[labelLines-1:], " "))
	}
	for i := range lines {
		lines[i] = c.shortened(lines[i], width, style)
	}
	return strings.Join(lines, "\n")
}

// shortened ends a label with an ellipsis where it is wider than a width.
func (c *chartData) shortened(label string, width vg.Length, style text.Style) string {
	return c.hand.letters.shaper.Cut(label, float64(width), func(s string) float64 { return float64(style.Width(s)) })
}
