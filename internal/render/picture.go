package render

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"strings"
	"unicode/utf8"

	"ironbell/internal/core/job"
	"ironbell/internal/core/shape"
	"ironbell/internal/typeface"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
)

// picture draws one section as a PNG: a chart as it is, otherwise a table,
// figures or a text, as wide and as high as they need.
type picture struct {
	out   io.Writer
	head  *Head
	style *Style
	reading
	lines   []textLine
	letters *letters
	paint
	hand *lettering
}

func newPicture(w io.Writer, h *Head, s *Style) (Writer, error) {
	letters := newLetters(s)
	hand, err := newLettering(letters)
	return &picture{out: w, head: h, style: s, letters: letters, hand: hand, paint: paintOf(s.Look)}, err
}

func (p *picture) Begin(plan *shape.Plan) error {
	return p.begin(p.style, plan, "picture", MaxColumns)
}

func (p *picture) Line(line *shape.Line) error {
	if done, err := p.take(p.style, line); done || err != nil || p.chart != nil {
		return err
	}
	if len(p.lines) >= MaxPicture {
		return tooMuch("picture", MaxPicture, "rows",
			"Choose pdf, xlsx or csv for this output, or the summary of the section.")
	}
	l := shownLine(p.plan, line, p.forms, p.totals, p.style.Locale)
	for i, c := range l.cells {
		c = p.letters.fit(strings.ReplaceAll(c, "\n", " "))
		if len(c) > 80 {
			c = p.letters.shaper.Cut(c, 80, func(s string) float64 { return float64(utf8.RuneCountInString(s)) })
		}
		l.cells[i] = c
	}
	p.lines = append(p.lines, l)
	return nil
}

func (p *picture) End() error { return nil }

// Measures of a picture, in points.
const (
	pictureEdge = 18
	pictureRow  = 17
	pictureText = 10
)

func (p *picture) lettered(size vg.Length, of color.Color, bold bool) text.Style {
	s := textStyle(p.hand, size, of)
	if bold {
		s.Font = font.Font{Typeface: sheetFace, Size: size, Weight: 3}
	}
	return s
}

// logo is the picture of the house, and how high it stands.
func (p *picture) logo() (image.Image, vg.Length, error) {
	l := p.style.Look.Logo
	if l == nil {
		return nil, 0, nil
	}
	img, err := png.Decode(bytes.NewReader(l.PNG))
	if err != nil {
		return nil, 0, fmt.Errorf("read the logo: %w", err)
	}
	_, high := l.Within(150, 34)
	return img, vg.Length(high), nil
}

func (p *picture) Close() error {
	title := p.letters.fit(p.plan.Title)
	foot := p.letters.fit(p.head.Title + "  ·  " + p.style.Locale.Words.AsOf + " " + p.head.asOf(p.style.Locale))
	big, small := p.lettered(14, p.ink, true), p.lettered(8, p.faint, false)
	width := vg.Length(620)
	var high vg.Length
	var widths []vg.Length
	var prose []string
	switch {
	case p.chart != nil && len(p.chart.along) == 0:
		high = 2 * pictureRow
	case p.chart != nil:
		high = 300
	case p.plan.Kind == job.SectionFigures:
		width, high = pictureEdge, 64
		for _, f := range p.shown {
			width += p.figureWide(f)
		}
		width = max(width, 360)
	case p.plan.Kind == job.SectionText:
		prose = p.hand.wrapped(p.letters.fit(p.plan.Text), p.lettered(pictureText, p.ink, false), width-2*pictureEdge)
		high = pictureRow * vg.Length(len(prose))
	default:
		widths = p.widths()
		width = 2 * pictureEdge
		for _, w := range widths {
			width += w
		}
		high = pictureRow * vg.Length(len(p.lines)+2)
	}
	imprint := p.letters.fit(joined(p.style.Look.Footer, p.style.Look.Legal))
	imprint = p.letters.shaper.Cut(imprint, float64(max(width, 620)-2*pictureEdge), func(s string) float64 {
		return float64(small.Width(s))
	})
	width = max(width, small.Width(imprint)+2*pictureEdge, small.Width(foot)+2*pictureEdge)
	whole := high + 2*pictureEdge + 46
	logo, logoHigh, err := p.logo()
	if err != nil {
		return err
	}
	besides := vg.Length(0)
	if logo != nil {
		besides = vg.Length(logo.Bounds().Dx())*logoHigh/vg.Length(logo.Bounds().Dy()) + pictureEdge
		whole += logoHigh - 16
	}
	width = max(width, big.Width(title)+2*pictureEdge+besides)
	if imprint != "" {
		whole += 12
	}
	canvas := vgimg.NewWith(vgimg.UseWH(width, whole), vgimg.UseDPI(144), vgimg.UseBackgroundColor(color.White))
	to := draw.New(canvas)
	to.FillText(big, vg.Point{X: pictureEdge, Y: whole - pictureEdge - 12}, title)
	low := vg.Length(pictureEdge - 6)
	if imprint != "" {
		to.FillText(small, vg.Point{X: pictureEdge, Y: low}, imprint)
		low += 12
	}
	to.FillText(small, vg.Point{X: pictureEdge, Y: low}, foot)
	top := whole - pictureEdge - 26
	if logo != nil {
		to.DrawImage(vg.Rectangle{
			Min: vg.Point{X: width - besides, Y: whole - pictureEdge/2 - logoHigh},
			Max: vg.Point{X: width - pictureEdge, Y: whole - pictureEdge/2},
		}, logo)
		top -= logoHigh - 16
	}
	switch {
	case p.chart != nil && len(p.chart.along) == 0:
		to.FillText(p.lettered(pictureText, p.faint, false), vg.Point{X: pictureEdge, Y: top - pictureRow}, p.style.Locale.Words.NoRows)
	case p.chart != nil:
		if err := p.chart.draw(draw.Crop(to, pictureEdge-8, -pictureEdge+8, low+26, top-whole)); err != nil {
			return err
		}
	case p.plan.Kind == job.SectionFigures:
		p.figures(to, top)
	case p.plan.Kind == job.SectionText:
		for i, line := range prose {
			to.FillText(p.lettered(pictureText, p.ink, false),
				vg.Point{X: pictureEdge, Y: top - pictureRow*vg.Length(i+1)}, line)
		}
	default:
		p.table(to, top, widths)
	}
	if _, err := (vgimg.PngCanvas{Canvas: canvas}).WriteTo(p.out); err != nil {
		return fmt.Errorf("write the picture: %w", err)
	}
	return nil
}

// Says tells what a reader of the file should know.
func (p *picture) Says() []string {
	said := p.letters.says()
	if p.chart != nil {
		said = append(said, p.chart.says()...)
	}
	return said
}

// wrapped breaks a text into lines of a width.
func (h *lettering) wrapped(s string, style text.Style, width vg.Length) []string {
	var lines []string
	wide := func(s string) float64 { return float64(style.Width(s)) }
	for paragraph := range strings.SplitSeq(s, "\n") {
		lines = append(lines, h.letters.shaper.Wrap(paragraph, float64(width), wide)...)
	}
	return lines
}

func (p *picture) widths() []vg.Length {
	plain, bold := p.lettered(pictureText, p.ink, false), p.lettered(pictureText, p.ink, true)
	widths := make([]vg.Length, len(p.plan.Columns))
	for i, c := range p.plan.Columns {
		widths[i] = bold.Width(p.letters.fit(p.style.head(c))) + 16
		for _, line := range p.lines {
			of := plain
			if line.kind != shape.Data || i < len(line.marks) && line.marks[i] != job.MarkNone {
				of = bold
			}
			widths[i] = max(widths[i], of.Width(line.cells[i])+16)
		}
	}
	return widths
}

func (p *picture) table(to draw.Canvas, top vg.Length, widths []vg.Length) {
	right := vg.Length(pictureEdge)
	for _, w := range widths {
		right += w
	}
	put := func(style text.Style, row int, i int, x vg.Length, s string) {
		at := x + 4
		if p.plan.Columns[i].Kind.Numeric() || typeface.Leftward(s) {
			at = x + widths[i] - 6 - style.Width(s)
		}
		to.FillText(style, vg.Point{X: at, Y: top - pictureRow*vg.Length(row+1) + 5}, s)
	}
	rule := func(row int, of color.Color, thick vg.Length) {
		y := top - pictureRow*vg.Length(row+1)
		to.StrokeLine2(draw.LineStyle{Color: of, Width: thick}, pictureEdge, y, right, y)
	}
	x := vg.Length(pictureEdge)
	for i, c := range p.plan.Columns {
		put(p.lettered(pictureText, p.faint, true), 0, i, x, p.letters.fit(p.style.head(c)))
		x += widths[i]
	}
	rule(0, p.accent, 1.2)
	for n, line := range p.lines {
		x = pictureEdge
		for i, cell := range line.cells {
			of, bold := color.Color(p.ink), line.kind != shape.Data
			if i < len(line.marks) && line.marks[i] != job.MarkNone {
				bold = line.marks[i] != job.MarkFaint
				if hex, ok := markColours[line.marks[i]]; ok {
					of = hexColour(hex)
				}
			}
			put(p.lettered(pictureText, of, bold), n+1, i, x, cell)
			x += widths[i]
		}
		rule(n+1, p.grid, 0.6)
	}
	if len(p.lines) == 0 {
		to.FillText(p.lettered(pictureText, p.faint, false), vg.Point{X: pictureEdge + 4, Y: top - 2*pictureRow + 5},
			p.style.Locale.Words.NoRows)
	}
}

func (p *picture) figures(to draw.Canvas, top vg.Length) {
	x := vg.Length(pictureEdge)
	for _, f := range p.shown {
		to.FillText(p.lettered(9, p.faint, false), vg.Point{X: x, Y: top - 12}, p.letters.fit(f.label))
		to.FillText(p.lettered(22, p.ink, true), vg.Point{X: x, Y: top - 38}, p.letters.fit(f.text))
		of := color.Color(p.faint)
		if hex, ok := markColours[f.mark]; ok {
			of = hexColour(hex)
		}
		to.FillText(p.lettered(8, of, false), vg.Point{X: x, Y: top - 54}, p.letters.fit(f.change))
		x += p.figureWide(f)
	}
}

// figureWide is how much of the width a figure takes.
func (p *picture) figureWide(f figure) vg.Length {
	const usual, gap = 170, 24
	return max(usual, p.lettered(9, p.faint, false).Width(p.letters.fit(f.label))+gap,
		p.lettered(22, p.ink, true).Width(p.letters.fit(f.text))+gap, p.lettered(8, p.faint, false).Width(p.letters.fit(f.change))+gap)
}
