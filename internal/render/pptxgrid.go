package render

import (
	"bytes"
	"fmt"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"

	"gonum.org/v1/plot/vg"
)

// gridParts are what a slide on a grid is composed of: figures above, charts below them, two beside each other, and
// texts at the foot.
type gridParts struct {
	figures []figure
	charts  []gridChart
	texts   []string
}

type gridChart struct {
	title string
	chart *chartData
}

// Bounds of a slide on a grid.
const (
	gridFigures = 8
	gridCharts  = 4
	gridAcross  = 4                  // figures beside each other
	gridTop     = 1150000            // where its parts begin, in English metric units
	gridFoot    = slideHigh - 560000 // and end
	gridGap     = 180000             // between two of them
	gridFigure  = 950000             // how high a row of figures is
	leastChart  = 1500000            // how high a chart is at least
	gridHead    = 300000             // title of a chart
	gridProse   = 14.0               // points
	leastProse  = 9.0                // points
	gridHalf    = slideWide/2 - slideEdge - gridGap/2
)

// gather keeps a section for the slide.
func (p *slides) gather() error {
	g := p.grid
	switch {
	case p.plan.Kind == job.SectionText:
		g.texts = append(g.texts, p.plan.Text)
	case p.plan.Kind == job.SectionFigures:
		if g.figures = append(g.figures, p.shown...); len(g.figures) > gridFigures {
			return p.unfit(fmt.Sprintf("it has more than %d figures", gridFigures), "Leave some of them out.")
		}
	case p.chart != nil:
		if g.charts = append(g.charts, gridChart{p.plan.Title, p.chart}); len(g.charts) > gridCharts {
			return p.unfit(fmt.Sprintf("it has more than %d charts", gridCharts), "Leave some of them out.")
		}
	default:
		return p.unfit(fmt.Sprintf("the section %s is a table, and a slide on a grid has figures, charts and texts", p.plan.Section),
			"Leave the section out of this output, or give its rows as figures or a chart.")
	}
	return nil
}

func (p *slides) unfit(why, advice string) error {
	return fault.New(fault.Task, "compose the slide", why, advice)
}

// compose writes the one slide.
func (p *slides) compose() error {
	g := p.grid
	text, size, _ := p.titled(p.head.Title, "", 26, 700000/emuOfPoint)
	body := placed("title", 2, "Title", slideEdge, 420000, slideWide-2*slideEdge, 700000,
		paragraph(text, size, true, p.style.Look.Ink))
	top, foot := gridTop, gridFoot
	id := 10
	across := min(gridAcross, max(len(g.figures), 1))
	width := (slideWide - 2*slideEdge) / across
	for i, f := range g.figures {
		body += p.figureBox(f, id+i, slideEdge+width*(i%across), top+gridFigure*(i/across), width-150000, gridFigure, 26)
	}
	id += len(g.figures)
	if n := len(g.figures); n > 0 {
		top += gridFigure*((n+across-1)/across) + gridGap
	}
	// Texts take what they need, in smaller letters where charts need the room.
	needs := 0
	if rows := (len(g.charts) + 1) / 2; rows > 0 {
		needs = rows*(leastChart+gridHead) + rows*gridGap
	}
	if len(g.texts) > 0 {
		lines, points, high, err := p.proseWithin(strings.Join(g.texts, "\n"), foot-top-needs)
		if err != nil {
			return err
		}
		foot -= high
		var prose strings.Builder
		for _, line := range lines {
			prose.WriteString(paragraph(line, int(points*100), false, p.style.Look.Ink))
		}
		body += placed("", id, "Text", slideEdge, foot, slideWide-2*slideEdge, high, prose.String())
		id++
		foot -= gridGap
	}
	if foot-top < needs {
		return p.unfit("its figures and texts leave too little room for its charts", "Leave some of them out.")
	}
	charts, rels, err := p.chartsWithin(top, foot, id)
	if err != nil {
		return err
	}
	return p.slide(body+charts+p.footer(), rels)
}

// figureBox is a figure with its label and change, its number in letters of a size in points at most.
func (p *slides) figureBox(f figure, id, x, y, w, h int, size float64) string {
	colour, ok := markColours[f.mark]
	if !ok {
		colour = p.style.Look.Faint
	}
	room := float64(w) / emuOfPoint
	if wide := p.points(f.text, true) * size / slideFont; wide > room {
		size *= room / wide // a number is rather smaller than broken
	}
	label := p.oneLine(f.label, 11, w)
	return placed("", id, f.label, x, y, w, h, paragraph(label, 1100, false, p.style.Look.Faint)+
		paragraph(f.text, int(size*100), true, p.style.Look.Ink)+paragraph(p.oneLine(f.change, 10, w), 1000, false, colour))
}

// proseWithin breaks a text into lines in the largest letters in which it is no higher than most.
func (p *slides) proseWithin(text string, most int) (lines []string, points float64, high int, err error) {
	for points = gridProse; points >= leastProse; points-- {
		style := textStyle(p.hand, vg.Length(points), paintOf(p.style.Look).ink)
		lines = p.hand.wrapped(text, style, vg.Length(slideRoom/otherFont))
		if high = int(float64(len(lines)) * points * slideLine * emuOfPoint); high <= most {
			return lines, points, high, nil
		}
	}
	return nil, 0, 0, p.unfit("its texts are too long for it in letters that can be read", "Make them shorter.")
}

// chartsWithin draws the charts, two beside each other; one alone is as wide as the slide.
func (p *slides) chartsWithin(top, foot, id int) (body, rels string, err error) {
	all := p.grid.charts
	rows := (len(all) + 1) / 2
	if rows == 0 {
		return "", "", nil
	}
	high := (foot-top)/rows - gridGap
	for i, c := range all {
		x, w := slideEdge+(gridHalf+gridGap)*(i%2), gridHalf
		if i == len(all)-1 && i%2 == 0 {
			w = slideWide - 2*slideEdge
		}
		y := top + (high+gridGap)*(i/2)
		body += placed("", id, "Chart title", x, y, w, gridHead, paragraph(p.oneLine(c.title, 12, w), 1200, true, p.style.Look.Ink))
		id++
		if len(c.chart.along) == 0 {
			body += placed("", id, "Text", x, y+gridHead, w, gridHead, paragraph(p.style.Locale.Words.NoRows, 1200, false, p.style.Look.Faint))
			id++
			continue
		}
		var png bytes.Buffer
		if err := c.chart.png(&png, vg.Length(w)/emuOfPoint, vg.Length(high-gridHead)/emuOfPoint, 144); err != nil {
			return "", "", err
		}
		p.media++
		if err := p.put(fmt.Sprintf("ppt/media/chart%d.png", p.media), png.String()); err != nil {
			return "", "", err
		}
		p.said = append(p.said, c.chart.says()...)
		body += pictured(fmt.Sprintf("rId%d", i+2), id, "Chart", c.chart.alt(), x, y+gridHead, w, high-gridHead)
		id++
		rels += fmt.Sprintf(`<Relationship Id="rId%d" Type="%simage" Target="../media/chart%d.png"/>`, i+2, officeRel, p.media)
	}
	return body, rels, nil
}

// pictured is a picture of a slide.
func pictured(rel string, id int, name, says string, x, y, w, h int) string {
	return fmt.Sprintf(`<p:pic><p:nvPicPr><p:cNvPr id="%d" name="%s" descr="%s"/><p:cNvPicPr><a:picLocks noChangeAspect="1"/></p:cNvPicPr><p:nvPr/></p:nvPicPr><p:blipFill><a:blip r:embed="%s"/><a:stretch><a:fillRect/></a:stretch></p:blipFill><p:spPr><a:xfrm><a:off x="%d" y="%d"/><a:ext cx="%d" cy="%d"/></a:xfrm><a:prstGeom prst="rect"><a:avLst/></a:prstGeom></p:spPr></p:pic>`,
		id, escape(name), escape(says), rel, x, y, w, h)
}
