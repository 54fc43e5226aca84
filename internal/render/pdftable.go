package render

import (
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
)

// needs finds how wide each column would be, and how narrow it may become.
func (p *pdfWriter) needs(width float64) (natural, least []float64) {
	f := &tableFit{plan: p.plan, lines: p.early, pad: cellPad, shaper: p.letters.shaper, longest: width * 0.3, heads: make([]string, len(p.plan.Columns))}
	f.natural.head, f.natural.cell = 24, 110
	for i, c := range p.plan.Columns {
		f.heads[i] = p.letters.fit(p.style.head(c))
	}
	bold := true
	p.letter("B", bodyFont)
	f.width = func(text string, b bool) float64 {
		if b != bold {
			bold = b
			p.letter(map[bool]string{true: "B"}[bold], bodyFont)
		}
		return p.wide(text)
	}
	return f.needs()
}

// measure finds widths and the size of letters by which all columns fit a width. ok
// tells whether they do at the usual size.
func (p *pdfWriter) measure(width float64) (ok bool) {
	natural, least := p.needs(width)
	return p.spread(width, allColumns(p.plan), natural, least)
}

// spread gives columns their widths.
func (p *pdfWriter) spread(width float64, show []int, natural, least []float64) (ok bool) {
	widths, scale := spread(width, show, natural, least)
	p.show, p.widths, p.font, p.pad = show, widths, bodyFont*scale, cellPad*scale
	return scale == 1
}

// begin draws the head of a table and the lines that were kept.
func (p *pdfWriter) begin() {
	direction := p.upright()
	across := map[string]float64{"P": p.size.Wd / p.scale, "L": p.size.Ht / p.scale}
	ok := p.measure(p.column(across[direction]))
	if !ok && p.only == "" && p.directed() == "" && direction == "P" {
		direction = "L"
		ok = p.measure(p.column(across[direction]))
	}
	if !ok && p.chart == nil && p.parts() {
		p.held = true
		p.turn(direction)
		return
	}
	p.font = max(p.font, leastFont)
	switch {
	case p.chart == nil:
		p.room(direction, p.opening())
		p.heading()
	case p.pdf.GetY()+p.opening() > p.bottom():
		p.page(p.sides) // the chart stands above, and the head would stand alone below it
	}
	p.tableHead()
	p.begun = true
	for _, line := range p.early {
		p.add(line)
	}
	p.early = nil
}

// above is how high the title and the head of a table are.
const above = 8.5 + 9.0

// opening is how high a table is that has only begun: its title, its head and its first rows, of which one at
// least stands below them.
func (p *pdfWriter) opening() float64 {
	const few = 4
	high, first := above, above
	for i, line := range p.early[:min(len(p.early), few)] {
		high += p.lay(line).tall
		if i == 0 {
			first = high
		}
	}
	return max(first, min(high, (p.bottom()-margin)*0.6))
}

// parts tells whether a table that is too wide is parted: the output says so, or its letters would be too small.
func (p *pdfWriter) parts() bool {
	if p.style.Page != nil && p.style.Page.Wide != "" {
		return p.style.Page.Wide == job.WideParted
	}
	return p.font < leastFont && p.only == ""
}

// turn begins a page unless the one at hand has a direction already.
func (p *pdfWriter) turn(direction string) {
	if p.pdf.PageNo() == 0 || p.sides != direction { // a part of a table is as wide as the page
		p.page(direction)
	}
}

func (p *pdfWriter) tableHead() {
	p.set("B", p.font, p.faintRGB)
	lines := make([][]string, len(p.widths))
	high := 1
	size := make([]float64, len(p.widths))
	for _, i := range p.show {
		// A word of a head is rather smaller than broken.
		text, room := p.letters.fit(p.style.head(p.plan.Columns[i])), p.widths[i]-2*p.pad
		p.pdf.SetFontSize(p.font)
		size[i] = p.font
		if widest := p.widestWord(text); widest > room+rounding {
			size[i] *= room / widest
			p.pdf.SetFontSize(size[i])
		}
		lines[i] = p.split(text, room)
		high = max(high, len(lines[i]))
	}
	step := p.font * pointMM * lineHigh
	y := p.pdf.GetY()
	x := p.left
	for _, i := range p.show {
		p.pdf.SetFontSize(size[i])
		for n, text := range lines[i] {
			foot := y + step*float64(high-len(lines[i])+n) + step*0.8
			if p.plan.Columns[i].Kind.Numeric() {
				p.write(x+p.widths[i]-p.pad-p.wide(text), foot, text)
				continue
			}
			p.within(x+p.pad, foot, p.widths[i]-2*p.pad, text)
		}
		x += p.widths[i]
	}
	y += step*float64(high) + 1
	p.rule(p.style.Look.Accent)
	p.pdf.SetLineWidth(0.35)
	p.pdf.Line(p.left, y, x, y)
	p.pdf.SetXY(p.left, y+0.6)
}

// widestWord is the width of the widest word of a text in the letters that are set.
func (p *pdfWriter) widestWord(text string) (widest float64) {
	if !p.letters.shaper.Plain(text) {
		return p.letters.shaper.Widest(text, p.width(), p.wide)
	}
	for word := range strings.FieldsSeq(text) {
		widest = max(widest, p.wide(word))
	}
	return widest
}

// laid is a line with its cells broken into the lines that they take.
type laid struct {
	textLine

	broken [][]string
	small  map[int]float64 // share of the size of letters of a cell that may not be broken and is too wide
	tall   float64
}

// rowGap is what stands between the letters of two rows, in millimetres.
const rowGap = 1.1

// lay breaks the cells of a line.
func (p *pdfWriter) lay(line textLine) laid {
	p.set(map[bool]string{true: "B"}[line.kind != shape.Data], p.font, p.inkRGB)
	step := p.font * pointMM * lineHigh
	l := laid{textLine: line, broken: make([][]string, len(line.cells))}
	high := 1
	for _, i := range p.show {
		text := line.cells[i]
		if text == "" {
			continue
		}
		room := p.widths[i] - 2*p.pad
		w := p.wide(text)
		switch {
		case w <= room+rounding && !strings.Contains(text, "\n"):
			l.broken[i] = []string{text}
		case p.plan.Columns[i].Kind != rows.Text && line.kind == shape.Data:
			if l.small == nil {
				l.small = map[int]float64{}
			}
			l.broken[i], l.small[i] = []string{text}, room/w
		default:
			l.broken[i] = p.split(text, room)
			high = max(high, len(l.broken[i]))
		}
	}
	if most := int((p.bottom() - margin - above - rowGap) / step); high > most {
		p.sayOnce(fmt.Sprintf("a cell of section %s is longer than a page and is cut short; html or csv hold all of it",
			p.plan.Section))
		for i := range l.broken {
			if len(l.broken[i]) > most {
				l.broken[i] = append(l.broken[i][:most-1], "…")
			}
		}
		high = most
	}
	l.tall = step*float64(high) + rowGap
	return l
}

// add draws a line once it is known what follows it. A total stays with the row before it, and the last row of a
// table does not stand on a page alone.
func (p *pdfWriter) add(line textLine) {
	l := p.lay(line)
	if n := len(p.kept); n > 0 && line.kind != shape.Data {
		p.kept[n-1] = append(p.kept[n-1], l)
		return
	}
	if len(p.kept) == 2 {
		p.together(p.kept[0])
		p.kept = append(p.kept[:0], p.kept[1])
	}
	p.kept = append(p.kept, []laid{l})
}

// finish draws the lines that were kept back.
func (p *pdfWriter) finish() {
	p.together(slices.Concat(p.kept...))
	p.kept = nil
}

// together draws lines on one page, unless they take much of it.
func (p *pdfWriter) together(lines []laid) {
	tall := 0.0
	for _, l := range lines {
		tall += l.tall
	}
	if p.pdf.GetY()+tall > p.bottom() && tall < (p.bottom()-margin)/2 {
		p.page(p.sides)
		p.tableHead()
	}
	for _, l := range lines {
		p.draw(l)
	}
}

// draw draws one line of a table, on the next page when this one is full.
func (p *pdfWriter) draw(line laid) {
	style := map[bool]string{true: "B"}[line.kind != shape.Data]
	if p.pdf.GetY()+line.tall > p.bottom() {
		p.page(p.sides)
		p.tableHead()
	}
	p.set(style, p.font, p.inkRGB)
	step := p.font * pointMM * lineHigh
	y, x := p.pdf.GetY(), p.left
	if line.kind == shape.GrandTotal {
		p.rule(p.style.Look.Accent)
		p.pdf.SetLineWidth(0.25)
		p.pdf.Line(p.left, y, p.left+sumOf(p.widths), y)
	}
	for _, i := range p.show {
		mark := job.MarkNone
		if i < len(line.marks) {
			mark = line.marks[i]
		}
		if mark != job.MarkNone {
			rgb, ok := markRGB[mark]
			if !ok {
				rgb = p.inkRGB
			}
			p.set(map[bool]string{true: "B"}[mark != job.MarkFaint], p.font, rgb)
		}
		if share, is := line.small[i]; is {
			p.pdf.SetFontSize(p.font * share)
		}
		for n, text := range line.broken[i] {
			foot := y + step*float64(n) + step*0.82 + 0.3
			if p.plan.Columns[i].Kind.Numeric() && (line.kind == shape.Data || n == 0) {
				p.write(x+p.widths[i]-p.pad-p.wide(text), foot, text)
				continue
			}
			p.within(x+p.pad, foot, p.widths[i]-2*p.pad, text)
		}
		if _, is := line.small[i]; is || mark != job.MarkNone {
			p.set(style, p.font, p.inkRGB)
		}
		x += p.widths[i]
	}
	y += line.tall
	p.rule(p.style.Look.Line)
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
	if p.chart != nil && none {
		p.room(p.upright(), 20)
		p.heading()
		p.noRows()
		return
	}
	if p.chart != nil && (p.plan.Chart.WithoutTable || p.sideBySide()) {
		return
	}
	if !p.begun && !p.held {
		p.begin()
	}
	if p.held {
		p.parted()
	}
	if p.finish(); none {
		p.noRows()
	}
}

// noRows says that there is nothing.
func (p *pdfWriter) noRows() {
	p.set("", bodyFont, p.faintRGB)
	p.write(p.x()+cellPad, p.pdf.GetY()+4.5, p.style.Locale.Words.NoRows)
	p.pdf.SetY(p.pdf.GetY() + 6)
}

// parted draws a wide table as several, each with the columns that tell its rows apart and some of the others.
func (p *pdfWriter) parted() {
	natural, least := p.needs(p.width())
	for i := range natural {
		natural[i] = max(least[i], min(natural[i], 50))
	}
	parts := partsOf(p.plan, p.width(), natural)
	lines := p.early
	for n, show := range parts {
		p.spread(p.width(), show, natural, least)
		p.font = max(p.font, leastFont)
		p.early = lines
		p.room(p.sides, p.opening())
		if n == 0 {
			p.heading()
		} else {
			p.pdf.SetY(p.pdf.GetY() + 4)
			p.caption(fmt.Sprintf("%s  ·  %d/%d", p.plan.Title, n+1, len(parts)))
		}
		p.tableHead()
		for _, line := range lines {
			p.add(line)
		}
		p.finish()
	}
	p.early, p.begun = nil, true
}

// sideBySide sets the narrow table behind a chart in columns beside each other,
// as a newspaper does. It tells whether the table is narrow enough.
func (p *pdfWriter) sideBySide() bool {
	const gap, most = 8.0, 4
	p.measure(p.width())
	p.font = max(p.font, leastFont)
	wide := sumOf(p.widths)
	across := min(int((p.width()+gap)/(wide+gap)), most)
	step := p.font*pointMM*lineHigh + 1.1
	p.letter("", p.font)
	for _, line := range p.early {
		for i, text := range line.cells {
			if p.wide(text) > p.widths[i]-2*p.pad+rounding {
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
			p.left = p.x() + float64(c)*(wide+gap)
			p.pdf.SetXY(p.left, top)
			p.tableHead()
			for _, line := range lines[:n] {
				p.draw(p.lay(line))
			}
			lines, low = lines[n:], max(low, p.pdf.GetY())
		}
		p.left = p.x()
		p.pdf.SetXY(p.x(), low)
	}
	return true
}
