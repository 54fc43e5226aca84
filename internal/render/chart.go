package render

import (
	"bytes"
	"cmp"
	"fmt"
	"image/color"
	"image/png"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/house"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Bounds of what a chart draws.
const (
	maxSeries = 12  // more are drawn together, as others
	keptSplit = 400 // series that are told apart to find the greatest of them
)

// chartData gathers what a chart draws.
type chartData struct {
	plan   *shape.Plan
	along  []string
	at     []float64 // places along the axis
	series []string
	values [][]float64 // by series, then place; NaN where there is none
	split  map[string]int
	places map[string]int
	form   *locale.Form // of the axis
	exact  *locale.Form // of a number by itself
	cells  []*locale.Form
	words  locale.Words
	folded int // series that are drawn together
	hand   *lettering
	look   *house.Look
	paint
	fitted bool
	wide   vg.Length // of a bar
}

func newChartData(p *shape.Plan, s *Style, cells []*locale.Form) (*chartData, error) {
	c := &chartData{
		plan: p, cells: cells, split: map[string]int{}, places: map[string]int{}, words: s.Locale.Words,
		look: s.Look, paint: paintOf(s.Look),
	}
	var err error
	if c.hand, err = newLettering(newLetters(s)); err != nil {
		return nil, err
	}
	first := p.Columns[p.Chart.Series[0]]
	of := job.Column{Percent: first.Percent, Unit: first.Unit, UnitFirst: first.UnitFirst}
	if p.Chart.Form == job.ChartShare {
		of = job.Column{Percent: true}
	}
	if c.form, err = s.Locale.Form(rows.Number, of, nil, true); err != nil {
		return nil, err
	}
	one := 1
	if of.Decimals = first.Decimals; p.Chart.Form == job.ChartShare {
		of.Decimals = &one
	}
	if c.exact, err = s.Locale.Form(rows.Number, of, nil, true); err != nil {
		return nil, err
	}
	if p.Chart.Split < 0 {
		for _, at := range p.Chart.Series {
			c.series, c.values = append(c.series, p.Columns[at].Head()), append(c.values, nil)
		}
	}
	return c, nil
}

func (c *chartData) add(cells rows.Row) error {
	ch := c.plan.Chart
	label := c.cells[ch.Along].Text(cells[ch.Along])
	place, had := len(c.along), false
	if ch.Split >= 0 {
		place, had = c.places[label]
		if !had {
			place = len(c.along)
		}
	}
	if !had {
		if len(c.along) >= MaxChart {
			return tooMuch("chart", MaxChart, "points along its axis",
				"Draw wider steps, such as weeks in place of days.")
		}
		c.places[label] = place
		at := float64(place)
		if kind := c.plan.Columns[ch.Along].Kind; kind == rows.Date || kind == rows.Local || kind == rows.Instant {
			if t, ok := cells[ch.Along].When(kind); ok {
				at = float64(t.Unix()) / 86400
			}
		}
		c.along, c.at = append(c.along, label), append(c.at, at)
		for i := range c.values {
			c.values[i] = append(c.values[i], math.NaN())
		}
	}
	if ch.Split < 0 {
		for i, at := range ch.Series {
			if err := c.put(i, place, float(cells[at])); err != nil {
				return err
			}
		}
		return nil
	}
	name := c.cells[ch.Split].Text(cells[ch.Split])
	i, known := c.split[name]
	if !known && len(c.series) == keptSplit {
		return fault.New(fault.Task, "draw the chart of section "+c.plan.Section,
			fmt.Sprintf("the column %q has more than %d values, and each would be a series", c.plan.Columns[ch.Split].Head(), keptSplit),
			"Draw fewer: let the query take the greatest, or group the others.")
	}
	if !known {
		i = len(c.series)
		values := make([]float64, len(c.along))
		for n := range values {
			values[n] = math.NaN()
		}
		c.split[name], c.series, c.values = i, append(c.series, name), append(c.values, values)
	}
	return c.put(i, place, float(cells[ch.Series[0]]))
}

// put notes a value. Shares of a whole are never negative.
func (c *chartData) put(series, place int, v float64) error {
	if v < 0 && c.plan.Chart.Form == job.ChartShare {
		return fault.New(fault.Task, "draw the chart of section "+c.plan.Section,
			fmt.Sprintf("%s is %v at %s, and a negative number is no share of a whole", c.series[series], v, c.along[place]),
			"Draw bars or lines, or leave negative numbers out of the query.")
	}
	c.values[series][place] = v
	return nil
}

// fold draws the series beyond those that can be told apart together, the greatest ones alone.
func (c *chartData) fold() {
	if len(c.series) <= maxSeries {
		return
	}
	size := make([]float64, len(c.series))
	order := make([]int, len(c.series))
	for i, values := range c.values {
		order[i] = i
		for _, v := range values {
			if !math.IsNaN(v) {
				size[i] += math.Abs(v)
			}
		}
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(size[b], size[a]) })
	alone := order[:maxSeries-1]
	slices.Sort(alone)
	others := make([]float64, len(c.along))
	for n := range others {
		others[n] = math.NaN()
	}
	for _, i := range order[maxSeries-1:] {
		for n, v := range c.values[i] {
			switch {
			case math.IsNaN(v):
			case math.IsNaN(others[n]):
				others[n] = v
			default:
				others[n] += v
			}
		}
	}
	c.folded = len(c.series) - len(alone)
	series, values := make([]string, 0, maxSeries), make([][]float64, 0, maxSeries)
	for _, i := range alone {
		series, values = append(series, c.series[i]), append(values, c.values[i])
	}
	series, values = append(series, fmt.Sprintf("%s (%d)", c.words.Others, c.folded)), append(values, others)
	c.series, c.values = series, values
}

func float(c rows.Cell) float64 {
	f, err := strconv.ParseFloat(string(c.Text), 64)
	if err != nil || math.IsInf(f, 0) {
		return math.NaN()
	}
	return f
}

// says tells what of the data is not drawn.
func (c *chartData) says() []string {
	said := c.hand.letters.says()
	if c.fold(); c.folded == 0 {
		return said
	}
	return append(said, fmt.Sprintf("the chart of section %s draws the %d greatest series, and %d together as %s",
		c.plan.Section, maxSeries-1, c.folded, c.words.Others))
}

// png draws the chart as a picture of a size in points, dots to the inch fine.
func (c *chartData) png(w io.Writer, width, height vg.Length, dpi int) error {
	c.fit()
	canvas := vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(dpi), vgimg.UseBackgroundColor(color.White))
	if err := c.draw(draw.New(canvas)); err != nil {
		return err
	}
	if err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(w, fewColours(canvas.Image())); err != nil {
		return fmt.Errorf("write the chart: %w", err)
	}
	return nil
}

// fit replaces what no face has in all that is written, once.
func (c *chartData) fit() {
	if c.fitted {
		return
	}
	c.fitted = true
	c.fold()
	for _, all := range [][]string{c.along, c.series} {
		for i := range all {
			all[i] = c.hand.letters.fit(all[i])
		}
	}
}

// svg draws the chart as SVG 1.1 to stand in an HTML page.
func (c *chartData) svg(width, height vg.Length) (string, error) {
	canvas := vgsvg.New(width, height)
	c.hand.live = true
	defer func() { c.hand.live = false }()
	if err := c.draw(draw.New(canvas)); err != nil {
		return "", err
	}
	var out bytes.Buffer
	if _, err := canvas.WriteTo(&out); err != nil {
		return "", fmt.Errorf("write the chart: %w", err)
	}
	text := out.String()
	if at := strings.Index(text, "<svg"); at > 0 {
		text = text[at:]
	}
	// Any sans font of the reader's will do.
	return strings.ReplaceAll(text, "font-family:"+sheetFace,
		"font-family:'DejaVu Sans Condensed','Segoe UI',Helvetica,Arial,sans-serif"), nil
}

// The colours of a look, as charts and pictures take them.
type paint struct{ ink, faint, grid, accent color.RGBA }

func paintOf(l *house.Look) paint {
	return paint{hexColour(l.Ink), hexColour(l.Faint), hexColour(l.Line), hexColour(l.Accent)}
}

func hexColour(s string) color.RGBA {
	n, err := strconv.ParseUint(strings.TrimPrefix(s, "#"), 16, 32)
	if err != nil {
		return color.RGBA{A: 0xff}
	}
	return color.RGBA{uint8(n >> 16), uint8(n >> 8), uint8(n), 0xff} //nolint:gosec // each is one byte of a colour
}

func textStyle(h text.Handler, size vg.Length, of color.Color) text.Style {
	return text.Style{Color: of, Font: font.Font{Typeface: sheetFace, Size: size}, Handler: h}
}

// draw draws the legend above, and the chart below it.
func (c *chartData) draw(to draw.Canvas) error {
	c.fold()
	h := c.hand
	p := plot.New()
	p.TextHandler, p.BackgroundColor = h, nil
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		axis.Label.TextStyle = textStyle(h, 9, c.faint)
		axis.Tick.Label.Handler, axis.Tick.Label.Font, axis.Tick.Label.Color = h,
			font.Font{Typeface: sheetFace, Size: 9}, c.faint
		axis.Color, axis.Width, axis.Tick.Length, axis.Padding = c.grid, 1, 0, 4
	}
	p.Y.Width = 0
	p.X.Label.Text, p.Y.Label.Text = c.title(c.plan.Chart.AlongTitle), c.title(c.plan.Chart.ValueTitle)
	lines := plotter.NewGrid()
	lines.Vertical.Width, lines.Horizontal.Color, lines.Horizontal.Width = 0, c.grid, 0.75
	lines.Horizontal.Dashes = nil
	p.Add(lines)
	top := c.legend(to, h)
	area := draw.Crop(to, 4, -c.overhang(h), 4, -top)
	if err := c.plot(p, area); err != nil {
		return err
	}
	low, high := c.extent()
	p.Y.Min, p.Y.Max = low, high
	p.Y.Tick.Marker = plot.TickerFunc(func(low, high float64) []plot.Tick {
		var ticks []plot.Tick
		for _, at := range steps(low, high) {
			ticks = append(ticks, plot.Tick{
				Value: at, Label: c.form.Text(rows.Cell{Text: strconv.AppendFloat(nil, at, 'f', -1, 64)}),
			})
		}
		return ticks
	})
	p.X.Tick.Marker = plot.ConstantTicks(c.ticks(area.Max.X-area.Min.X-c.numbersWide(p, h), h))
	if low < 0 && high > 0 {
		c.across(p, 0, plotter.DefaultLineStyle.Width, c.ink, nil)
	}
	for _, t := range c.plan.Chart.Targets {
		c.across(p, t.At, 1.2, targetColour, []vg.Length{4, 3})
	}
	p.Draw(area)
	inside := p.DataCanvas(area)
	x, y := p.Transforms(&inside)
	c.named(inside, y, h)
	if c.plan.Chart.Patterns && c.plan.Chart.Form != job.ChartLine {
		c.hatched(inside, x, y)
	}
	if c.plan.Chart.Numbers && c.plan.Chart.Form != job.ChartLine {
		c.numbers(inside, x, y, h)
	}
	return nil
}

// targetColour is that of what is aimed at.
var targetColour = hexColour("#A8321A")

// across draws a line over the whole width of a chart.
func (c *chartData) across(p *plot.Plot, at float64, width vg.Length, of color.Color, dashes []vg.Length) {
	line, err := plotter.NewLine(plotter.XYs{{X: p.X.Min, Y: at}, {X: p.X.Max, Y: at}})
	if err != nil {
		return // a value that is none was refused before
	}
	line.Color, line.Width, line.Dashes = of, width, dashes
	p.Add(line)
}

// named writes the names of what is aimed at above its lines, at their right end.
func (c *chartData) named(to draw.Canvas, y func(float64) vg.Length, h text.Handler) {
	style := textStyle(h, 8, targetColour)
	style.XAlign = text.XRight
	for _, t := range c.plan.Chart.Targets {
		label := c.hand.letters.fit(t.Label)
		if label == "" {
			label = c.number(t.At)
		}
		to.FillText(style, vg.Point{X: to.Max.X - 2, Y: y(t.At) + 2}, label)
	}
}

// numbers writes the number of each bar on it, where it has room: above bars that stand side by side, and within
// those that stand on each other.
func (c *chartData) numbers(to draw.Canvas, x, y func(float64) vg.Length, h text.Handler) {
	slot := (x(1) - x(0)) * 0.9
	stacked := c.plan.Chart.Form != job.ChartBar
	if !stacked {
		slot /= vg.Length(len(c.values))
	}
	const high = 9
	c.bars(x, y, func(series, _ int, v float64, in vg.Rectangle) {
		style := textStyle(h, 8, c.ink)
		style.XAlign = text.XCenter
		label := c.number(v)
		wide := style.Width(label)
		if wide > slot || stacked && in.Max.Y-in.Min.Y < high+3 {
			return
		}
		at := vg.Point{X: (in.Min.X + in.Max.X) / 2}
		switch {
		case stacked:
			at.Y = (in.Min.Y+in.Max.Y)/2 - high/2 + 1
			area := c.look.Series[series%len(c.look.Series)]
			style.Color = hexColour(c.look.On(area))
			if c.plan.Chart.Patterns { // letters stand on no hatch
				to.FillPolygon(hexColour(area), []vg.Point{
					{X: at.X - wide/2 - 1, Y: at.Y - 2},
					{X: at.X + wide/2 + 1, Y: at.Y - 2},
					{X: at.X + wide/2 + 1, Y: at.Y + high - 1},
					{X: at.X - wide/2 - 1, Y: at.Y + high - 1},
				})
			}
		case v < 0:
			at.Y = in.Min.Y - high
		default:
			at.Y = in.Max.Y + 2
		}
		to.FillText(style, at, label)
	})
}

// number writes a number with the decimals of its column, or else with few digits.
func (c *chartData) number(v float64) string {
	digits, err := strconv.ParseFloat(strconv.FormatFloat(v, 'g', 6, 64), 64)
	if err != nil {
		digits = v
	}
	return c.exact.Text(rows.Cell{Text: strconv.AppendFloat(nil, digits, 'f', -1, 64)})
}

// legend names the series in lines at the top and tells how high it is.
func (c *chartData) legend(to draw.Canvas, h text.Handler) vg.Length {
	style := textStyle(h, 9, c.ink)
	x, y := to.Min.X+8, to.Max.Y-14
	for i, name := range c.series {
		name = c.hand.letters.shaper.Cut(name, 220, func(s string) float64 { return float64(style.Width(s)) })
		width := 12 + style.Width(name) + 18
		if x+width > to.Max.X && x > to.Min.X+8 {
			x, y = to.Min.X+8, y-14
		}
		c.key(to, i, vg.Rectangle{Min: vg.Point{X: x, Y: y}, Max: vg.Point{X: x + 8, Y: y + 8}})
		to.FillText(style, vg.Point{X: x + 12, Y: y}, name)
		x += width
	}
	return to.Max.Y - y + 10
}

// plot adds the lines or bars.
func (c *chartData) plot(p *plot.Plot, area draw.Canvas) error {
	if c.plan.Chart.Form == job.ChartLine {
		for i, values := range c.values {
			colour := hexColour(c.look.Series[i%len(c.look.Series)])
			for _, run := range unbroken(c.at, values) {
				line, err := plotter.NewLine(run)
				if err != nil {
					return fmt.Errorf("draw the chart: %w", err)
				}
				line.Color, line.Width = colour, 1.8
				if c.plan.Chart.Patterns {
					line.Dashes = dashes[i%len(dashes)]
				}
				p.Add(line)
				if len(run) == 1 || len(c.at) <= 31 {
					dots, err := plotter.NewScatter(run)
					if err != nil {
						return fmt.Errorf("draw the chart: %w", err)
					}
					dots.GlyphStyle = draw.GlyphStyle{Color: colour, Radius: 2.2, Shape: draw.CircleGlyph{}}
					p.Add(dots)
				}
			}
		}
		return nil
	}
	slot := (area.Max.X - area.Min.X - 60) / vg.Length(max(len(c.along), 1))
	stacked := c.plan.Chart.Form != job.ChartBar
	width := slot * 0.68
	if !stacked {
		width /= vg.Length(len(c.values))
	}
	width = min(width, 60)
	c.wide = max(width, 0.6)
	var below *plotter.BarChart
	for i := range c.values {
		heights := make(plotter.Values, len(c.along))
		for n := range heights {
			heights[n] = c.height(i, n)
		}
		bars, err := plotter.NewBarChart(heights, c.wide)
		if err != nil {
			return fmt.Errorf("draw the chart: %w", err)
		}
		bars.Color, bars.LineStyle.Width = hexColour(c.look.Series[i%len(c.look.Series)]), 0
		switch {
		case !stacked:
			bars.Offset = width * (vg.Length(i) - vg.Length(len(c.values)-1)/2)
		case below != nil:
			bars.StackOn(below)
		}
		below = bars
		p.Add(bars)
	}
	p.X.Min, p.X.Max = -0.5, float64(len(c.along))-0.5
	return nil
}

// height is how high the bar of a series is at a place: of shares, its part of
// the whole.
func (c *chartData) height(series, place int) float64 {
	v := c.values[series][place]
	if math.IsNaN(v) {
		return 0
	}
	if c.plan.Chart.Form != job.ChartShare {
		return v
	}
	whole := 0.0
	for _, values := range c.values {
		if !math.IsNaN(values[place]) {
			whole += math.Abs(values[place])
		}
	}
	if whole == 0 {
		return 0
	}
	return math.Abs(v) / whole
}

// unbroken parts a line where values are missing.
func unbroken(at, values []float64) []plotter.XYs {
	var runs []plotter.XYs
	var run plotter.XYs
	for i, v := range values {
		if math.IsNaN(v) {
			if len(run) > 0 {
				runs, run = append(runs, run), nil
			}
			continue
		}
		run = append(run, plotter.XY{X: at[i], Y: v})
	}
	if len(run) > 0 {
		runs = append(runs, run)
	}
	return runs
}
