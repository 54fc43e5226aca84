package render

import (
	"fmt"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
)

// measure finds widths and the size of letters by which a table fits a width. ok
// tells whether it does at the usual size.
func (p *pdfWriter) measure(width float64) (widths []float64, font float64, ok bool) {
	n := len(p.plan.Columns)
	natural, least := make([]float64, n), make([]float64, n)
	p.pdf.SetFont("sheet", "B", bodyFont)
	for i, c := range p.plan.Columns {
		for _, word := range strings.Fields(p.letters.fit(p.style.head(c))) {
			least[i] = max(least[i], p.pdf.GetStringWidth(word))
		}
		natural[i] = max(least[i], min(p.pdf.GetStringWidth(p.letters.fit(p.style.head(c))), 24))
		if c.Width > 0 {
			natural[i] = max(least[i], float64(c.Width)*p.pdf.GetStringWidth("0"))
		}
	}
	for _, bold := range []bool{false, true} {
		style := map[bool]string{true: "B"}[bold]
		p.pdf.SetFont("sheet", style, bodyFont)
		for _, line := range p.early {
			if (line.kind != shape.Data) != bold {
				continue
			}
			for i, text := range line.cells {
				w := p.pdf.GetStringWidth(text)
				if p.plan.Columns[i].Width == 0 {
					natural[i] = max(natural[i], min(w, 110))
				}
				if p.plan.Columns[i].Kind != rows.Text {
					least[i] = max(least[i], w) // a number is not broken
				} else {
					least[i] = max(least[i], min(w, 22))
				}
			}
		}
	}
	all, fewest := 0.0, 0.0
	for i := range natural {
		natural[i] = max(natural[i], least[i]) + 2*cellPad
		least[i] += 2 * cellPad
		all, fewest = all+natural[i], fewest+least[i]
	}
	switch {
	case all <= width:
		// What is left over goes to the texts, but not so that a row falls apart.
		if spare := width - all; spare > 0 && all > width*0.6 {
			for i := range natural {
				natural[i] += spare * natural[i] / all
			}
		}
		return natural, bodyFont, true
	case fewest <= width:
		for i := range natural {
			natural[i] = least[i] + (natural[i]-least[i])*(width-fewest)/(all-fewest)
		}
		return natural, bodyFont, true
	}
	scale := width / fewest
	for i := range least {
		least[i] *= scale
	}
	return least, max(bodyFont*scale, leastFont), false
}

// begin draws the head of a table and the lines that were kept.
func (p *pdfWriter) begin() {
	direction := p.upright()
	width := p.size.Wd - 2*margin
	if direction == "L" {
		width = p.size.Ht - 2*margin
	}
	var ok bool
	p.widths, p.font, ok = p.measure(width)
	if !ok && (p.style.Page == nil || p.style.Page.Direction == "") && direction == "P" {
		direction = "L"
		p.widths, p.font, _ = p.measure(p.size.Ht - 2*margin)
	}
	if p.chart == nil {
		p.room(direction, min(60, float64(len(p.early)+3)*6))
		p.heading()
	}
	p.tableHead()
	p.begun, p.odd = true, false
	for _, line := range p.early {
		p.draw(line)
	}
	p.early = nil
}

func (p *pdfWriter) tableHead() {
	p.set("B", p.font, faintRGB)
	lines := make([][]string, len(p.widths))
	high := 1
	for i, c := range p.plan.Columns {
		lines[i] = p.split(p.letters.fit(p.style.head(c)), p.widths[i]-2*cellPad)
		high = max(high, len(lines[i]))
	}
	step := p.font * pointMM * lineHigh
	y := p.pdf.GetY()
	x := p.left
	for i, c := range p.plan.Columns {
		for n, text := range lines[i] {
			at := x + cellPad
			if c.Kind.Numeric() {
				at = x + p.widths[i] - cellPad - p.pdf.GetStringWidth(text)
			}
			p.pdf.Text(at, y+step*float64(high-len(lines[i])+n)+step*0.8, text)
		}
		x += p.widths[i]
	}
	y += step*float64(high) + 1
	p.pdf.SetDrawColor(134, 86, 27)
	p.pdf.SetLineWidth(0.35)
	p.pdf.Line(p.left, y, x, y)
	p.pdf.SetXY(p.left, y+0.6)
}

// draw draws one line of a table, on the next page when this one is full.
func (p *pdfWriter) draw(line textLine) {
	style := map[bool]string{true: "B"}[line.kind != shape.Data]
	p.set(style, p.font, inkRGB)
	step := p.font * pointMM * lineHigh
	broken := make([][]string, len(line.cells))
	high := 1
	for i, text := range line.cells {
		if text == "" {
			continue
		}
		if p.pdf.GetStringWidth(text) <= p.widths[i]-2*cellPad && !strings.Contains(text, "\n") {
			broken[i] = []string{text}
			continue
		}
		broken[i] = p.split(text, p.widths[i]-2*cellPad)
		high = max(high, len(broken[i]))
	}
	if most := int((p.bottom()-margin)/step) - 4; high > most {
		p.sayOnce(fmt.Sprintf("a cell of section %s is longer than a page and is cut short; html or csv hold all of it",
			p.plan.Section))
		for i := range broken {
			if len(broken[i]) > most {
				broken[i] = append(broken[i][:most-1], "…")
			}
		}
		high = most
	}
	tall := step*float64(high) + 1.1
	if p.pdf.GetY()+tall > p.bottom() {
		p.page(p.sides)
		p.tableHead()
		p.set(style, p.font, inkRGB)
	}
	y, x := p.pdf.GetY(), p.left
	if line.kind == shape.GrandTotal {
		p.pdf.SetDrawColor(134, 86, 27)
		p.pdf.SetLineWidth(0.25)
		p.pdf.Line(p.left, y, p.left+sumOf(p.widths), y)
	}
	for i, c := range p.plan.Columns {
		mark := job.MarkNone
		if i < len(line.marks) {
			mark = line.marks[i]
		}
		if mark != job.MarkNone {
			rgb, ok := markRGB[mark]
			if !ok {
				rgb = inkRGB
			}
			p.set(map[bool]string{true: "B"}[mark != job.MarkFaint], p.font, rgb)
		}
		for n, text := range broken[i] {
			at := x + cellPad
			if c.Kind.Numeric() && (line.kind == shape.Data || n == 0) {
				at = x + p.widths[i] - cellPad - p.pdf.GetStringWidth(text)
			}
			p.pdf.Text(at, y+step*float64(n)+step*0.82+0.3, text)
		}
		if mark != job.MarkNone {
			p.set(style, p.font, inkRGB)
		}
		x += p.widths[i]
	}
	y += tall
	p.pdf.SetDrawColor(229, 221, 205)
	p.pdf.SetLineWidth(0.15)
	p.pdf.Line(p.left, y, x, y)
	p.pdf.SetXY(p.left, y)
}

func sumOf(widths []float64) float64 {
	all := 0.0
	for _, w := range widths {
		all += w
	}
	return all
}

// finishTable draws what was kept, or says that there is nothing.
func (p *pdfWriter) finishTable() {
	none := !p.begun && len(p.early) == 0
	if p.chart != nil && !none && p.sideBySide() {
		return
	}
	if !p.begun {
		p.begin()
	}
	if none {
		p.set("", bodyFont, faintRGB)
		p.pdf.Text(margin+cellPad, p.pdf.GetY()+4.5, p.style.Locale.Words.NoRows)
		p.pdf.SetY(p.pdf.GetY() + 6)
	}
}

// sideBySide sets the narrow table behind a chart in columns beside each other,
// as a newspaper does. It tells whether the table is narrow enough.
func (p *pdfWriter) sideBySide() bool {
	const gap, most = 8.0, 4
	p.widths, p.font, _ = p.measure(p.width())
	wide := sumOf(p.widths)
	across := min(int((p.width()+gap)/(wide+gap)), most)
	step := p.font*pointMM*lineHigh + 1.1
	p.pdf.SetFont("sheet", "", p.font)
	for _, line := range p.early {
		for i, text := range line.cells {
			if p.pdf.GetStringWidth(text) > p.widths[i]-2*cellPad {
				return false // rows of several lines would not stand beside each other
			}
		}
	}
	if across < 2 || len(p.early) < 8 {
		return false
	}
	lines := p.early
	p.early, p.begun = nil, true
	for len(lines) > 0 {
		if p.pdf.GetY()+6*step > p.bottom() {
			p.page(p.sides)
		}
		top, low := p.pdf.GetY(), p.pdf.GetY()
		room := max(int((p.bottom()-top)/step)-2, 1)
		each := min((len(lines)+across-1)/across, room)
		for c := 0; c < across && len(lines) > 0; c++ {
			n := min(each, len(lines))
			p.left = margin + float64(c)*(wide+gap)
			p.pdf.SetXY(p.left, top)
			p.tableHead()
			for _, line := range lines[:n] {
				p.draw(line)
			}
			lines, low = lines[n:], max(low, p.pdf.GetY())
		}
		p.left = margin
		p.pdf.SetXY(margin, low)
	}
	return true
}
