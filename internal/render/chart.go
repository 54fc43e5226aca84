package render

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
	"math"
	"strconv"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// seriesColours tell series apart also for those who see few colours: they
// differ in lightness, too.
var seriesColours = []string{
	"#86561B", "#2F6F8F", "#5B8C6A", "#B5483A", "#6B5B95", "#C79A3B", "#3C4A57", "#9AB7C4",
	"#A77B95", "#7A8B3D", "#D08770", "#50727B",
}

// maxSeries bounds how many series a chart draws.
const maxSeries = 12

// chartData gathers what a chart draws.
type chartData struct {
	plan   *shape.Plan
	along  []string
	at     []float64 // places along the axis
	series []string
	values [][]float64 // by series, then place; NaN where there is none
	split  map[string]int
	places map[string]int
	form   *locale.Form
	cells  []*locale.Form
	more   bool // there were more series than are drawn
}

func newChartData(p *shape.Plan, s *Style, cells []*locale.Form) (*chartData, error) {
	c := &chartData{plan: p, cells: cells, split: map[string]int{}, places: map[string]int{}}
	first := p.Columns[p.Chart.Series[0]]
	of := job.Column{Percent: first.Percent, Unit: first.Unit, UnitFirst: first.UnitFirst}
	if p.Chart.Form == job.ChartShare {
		of = job.Column{Percent: true}
	}
	var err error
	if c.form, err = s.Locale.Form(rows.Number, of, nil, true); err != nil {
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
			c.values[i][place] = float(cells[at])
		}
		return nil
	}
	name := c.cells[ch.Split].Text(cells[ch.Split])
	i, known := c.split[name]
	if !known {
		if len(c.series) >= maxSeries {
			c.more = true
			return nil
		}
		i = len(c.series)
		values := make([]float64, len(c.along))
		for n := range values {
			values[n] = math.NaN()
		}
		c.split[name], c.series, c.values = i, append(c.series, name), append(c.values, values)
	}
	c.values[i][place] = float(cells[ch.Series[0]])
	return nil
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
	if !c.more {
		return nil
	}
	return []string{fmt.Sprintf("the chart of section %s draws the first %d series; all rows are in its table",
		c.plan.Section, maxSeries)}
}

// altOf says in words what a chart shows.
func altOf(p *shape.Plan) string {
	var names []string
	for _, s := range p.Chart.Series {
		names = append(names, p.Columns[s].Head())
	}
	form := map[job.ChartForm]string{
		job.ChartLine: "Line chart", job.ChartBar: "Bar chart", job.ChartStacked: "Stacked bar chart",
		job.ChartShare: "Chart of shares",
	}[p.Chart.Form]
	text := fmt.Sprintf("%s: %s by %s", form, strings.Join(names, ", "), p.Columns[p.Chart.Along].Head())
	if p.Chart.Split >= 0 {
		text += ", for each " + p.Columns[p.Chart.Split].Head()
	}
	return text + ". The rows stand in the table."
}

// png draws the chart as a picture of a size in points, dots to the inch fine.
func (c *chartData) png(w io.Writer, width, height vg.Length, dpi int) error {
	canvas := vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(dpi), vgimg.UseBackgroundColor(color.White))
	if err := c.draw(draw.New(canvas)); err != nil {
		return err
	}
	if _, err := (vgimg.PngCanvas{Canvas: canvas}).WriteTo(w); err != nil {
		return fmt.Errorf("write the chart: %w", err)
	}
	return nil
}

// svg draws the chart as SVG 1.1 to stand in an HTML page.
func (c *chartData) svg(width, height vg.Length) (string, error) {
	canvas := vgsvg.New(width, height)
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
	return strings.ReplaceAll(text, "font-family:"+typeface,
		"font-family:'DejaVu Sans Condensed','Segoe UI',Helvetica,Arial,sans-serif"), nil
}

var (
	ink   = color.RGBA{0x24, 0x27, 0x2b, 0xff}
	faint = color.RGBA{0x5d, 0x61, 0x67, 0xff}
	grid  = color.RGBA{0xe5, 0xdd, 0xcd, 0xff}
)

func hexColour(s string) color.RGBA {
	n, err := strconv.ParseUint(strings.TrimPrefix(s, "#"), 16, 32)
	if err != nil {
		return ink
	}
	return color.RGBA{uint8(n >> 16), uint8(n >> 8), uint8(n), 0xff} //nolint:gosec // each is one byte of a colour
}

func textStyle(h text.Handler, size vg.Length, of color.Color) text.Style {
	return text.Style{Color: of, Font: font.Font{Typeface: typeface, Size: size}, Handler: h}
}

// draw draws the legend above, and the chart below it.
func (c *chartData) draw(to draw.Canvas) error {
	h, err := lettering()
	if err != nil {
		return err
	}
	p := plot.New()
	p.TextHandler, p.BackgroundColor = h, color.Transparent
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		axis.Label.TextStyle = textStyle(h, 9, faint)
		axis.Tick.Label.Handler, axis.Tick.Label.Font, axis.Tick.Label.Color = h,
			font.Font{Typeface: typeface, Size: 9}, faint
		axis.Color, axis.Width, axis.Tick.Length, axis.Padding = grid, 1, 0, 4
	}
	p.Y.Width = 0
	lines := plotter.NewGrid()
	lines.Vertical.Width, lines.Horizontal.Color, lines.Horizontal.Width = 0, grid, 0.75
	lines.Horizontal.Dashes = nil
	p.Add(lines)
	top := c.legend(to, h)
	area := draw.Crop(to, 4, -14, 4, -top)
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
	p.X.Tick.Marker = plot.ConstantTicks(c.ticks(area.Max.X-area.Min.X, h))
	p.Draw(area)
	return nil
}

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

// legend names the series in lines at the top and tells how high it is.
func (c *chartData) legend(to draw.Canvas, h text.Handler) vg.Length {
	style := textStyle(h, 9, ink)
	x, y := to.Min.X+8, to.Max.Y-14
	for i, name := range c.series {
		if r := []rune(name); len(r) > 40 {
			name = string(r[:39]) + "…"
		}
		width := 12 + style.Width(name) + 18
		if x+width > to.Max.X && x > to.Min.X+8 {
			x, y = to.Min.X+8, y-14
		}
		to.FillPolygon(hexColour(seriesColours[i%len(seriesColours)]),
			[]vg.Point{{X: x, Y: y}, {X: x + 8, Y: y}, {X: x + 8, Y: y + 8}, {X: x, Y: y + 8}})
		to.FillText(style, vg.Point{X: x + 12, Y: y}, name)
		x += width
	}
	return to.Max.Y - y + 10
}

// plot adds the lines or bars.
func (c *chartData) plot(p *plot.Plot, area draw.Canvas) error {
	if c.plan.Chart.Form == job.ChartLine {
		for i, values := range c.values {
			colour := hexColour(seriesColours[i%len(seriesColours)])
			for _, run := range unbroken(c.at, values) {
				line, err := plotter.NewLine(run)
				if err != nil {
					return fmt.Errorf("draw the chart: %w", err)
				}
				line.Color, line.Width = colour, 1.8
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
	var below *plotter.BarChart
	for i := range c.values {
		heights := make(plotter.Values, len(c.along))
		for n := range heights {
			heights[n] = c.height(i, n)
		}
		bars, err := plotter.NewBarChart(heights, max(width, 0.6))
		if err != nil {
			return fmt.Errorf("draw the chart: %w", err)
		}
		bars.Color, bars.LineStyle.Width = hexColour(seriesColours[i%len(seriesColours)]), 0
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
	if math.IsInf(low, 0) {
		return 0, 1
	}
	// Bars stand on nothing; lines do unless all of them run far above it.
	if c.plan.Chart.Form != job.ChartLine || low > 0 && low < high*0.6 {
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

// ticks names as many places as can be read side by side.
func (c *chartData) ticks(width vg.Length, h text.Handler) []plot.Tick {
	style := textStyle(h, 9, faint)
	widest := vg.Length(20)
	for _, label := range c.along {
		widest = max(widest, style.Width(label)+14)
	}
	fit := max(int(width/widest), 2)
	step := (len(c.along) + fit - 1) / fit
	var ticks []plot.Tick
	for i := 0; i < len(c.along); i += max(step, 1) {
		at := float64(i)
		if c.plan.Chart.Form == job.ChartLine {
			at = c.at[i]
		}
		ticks = append(ticks, plot.Tick{Value: at, Label: c.along[i]})
	}
	return ticks
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
