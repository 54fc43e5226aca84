package render

import (
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/shape"

	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
)

// Measures of what stands on a slide, in points. The letters are measured by our own fonts, which are no narrower
// than those of the theme; with room for others.
const (
	slideFont  = 12.0 // of tables
	slideSmall = 8.0  // of tables, at least
	slideProse = 18.0
	slideLine  = 1.2                                           // of a line, by its letters
	slideRoom  = (slideWide - 2*slideEdge) / emuOfPoint        // across
	slideTall  = (slideHigh - slideBody - 520000) / emuOfPoint // down to the foot
	slideCell  = 5.7                                           // above and below the text of a cell together
	slidePad   = 5.4                                           // beside it, on each side
	leastRow   = 320000 / emuOfPoint
	mostRows   = 20 // of a table on one slide
)

// points measures a text in the letters of tables.
func (p *slides) points(s string, bold bool) float64 {
	return float64(p.style12(bold).Width(s)) * otherFont
}

// otherFont is how much wider than ours the letters may be of a program that lacks the theme's and takes others.
const otherFont = 1.12

// leastTitle is how small the letters of a title become before it is cut short, in points.
const leastTitle = 14.0

// titled fits a title with what follows it into a height: in letters of a size in points, or smaller ones, and else
// cut short. The size comes in hundredths of a point.
func (p *slides) titled(title, more string, size, high float64) (text string, hundredths, lines int) {
	fits := func(text string, size float64) bool {
		lines = len(p.hand.wrapped(text, p.style12(true), vg.Length(slideRoom/otherFont*slideFont/size)))
		return float64(lines)*size*slideLine <= high
	}
	for size > leastTitle && !fits(title+more, size) {
		size--
	}
	for r := []rune(title); len(r) > 1 && !fits(title+more, size); {
		r = r[:len(r)*9/10]
		title = strings.TrimRight(string(r), " ") + "…"
	}
	return title + more, int(size * 100), lines
}

func partOf(n, all int) string {
	if all < 2 {
		return ""
	}
	return fmt.Sprintf(" (%d/%d)", n+1, all)
}

// slideRow is a row with the height that it takes.
type slideRow struct {
	textLine

	tall float64
}

// tablePage is what one slide has of a table.
type tablePage struct {
	show   []int
	widths []float64
	size   float64
	rows   []slideRow
	head   slideRow
}

// tables writes a table over as many slides as it takes. One that is too wide comes in parts, each with the columns
// that tell its rows apart.
func (p *slides) tables() error {
	f := &tableFit{
		plan: p.plan, lines: p.lines[:min(len(p.lines), 2*widthRows)], pad: slidePad, width: p.points, shaper: p.hand.letters.shaper,
		longest: slideRoom * 0.3, heads: make([]string, len(p.plan.Columns)),
	}
	f.natural.head, f.natural.cell = 90, 600
	for i, c := range p.plan.Columns {
		f.heads[i] = p.style.head(c)
	}
	natural, least := f.needs()
	parts := [][]int{allColumns(p.plan)}
	if _, scale := spread(slideRoom, parts[0], natural, least); slideFont*scale < slideSmall {
		for i := range natural {
			natural[i] = max(least[i], min(natural[i], slideRoom/5))
		}
		parts = partsOf(p.plan, slideRoom, natural)
	}
	var pages []tablePage
	for _, show := range parts {
		widths, scale := spread(slideRoom, show, natural, least)
		pages = append(pages, p.paged(tablePage{show: show, widths: widths, size: max(slideFont*scale, slideSmall)}, f.heads)...)
	}
	for n, page := range pages {
		if err := p.slide(p.title(partOf(n, len(pages)))+p.table(page)+p.footer(), ""); err != nil {
			return err
		}
	}
	return nil
}

// paged divides the rows of a table over slides. A total stays with the row before it, and no row stands on the last
// slide alone.
func (p *slides) paged(like tablePage, heads []string) (pages []tablePage) {
	like.head = p.row(like, textLine{kind: shape.GrandTotal, cells: heads})
	page := like
	left := slideTall - like.head.tall
	next := func() {
		pages = append(pages, page)
		page, left = like, slideTall-like.head.tall
	}
	for _, line := range p.lines {
		r := p.row(like, line)
		if (r.tall > left || len(page.rows) == mostRows) && len(page.rows) > 0 {
			from := len(page.rows)
			for k := from; line.kind != shape.Data && k > 1 && from-k < 3; k-- {
				if page.rows[k-1].kind == shape.Data {
					from = k - 1
					break
				}
			}
			takes := slices.Clone(page.rows[from:])
			page.rows = page.rows[:from]
			next()
			for _, t := range takes {
				page.rows, left = append(page.rows, t), left-t.tall
			}
		}
		page.rows, left = append(page.rows, r), left-r.tall
	}
	if n := len(pages); n > 0 && len(page.rows) == 1 && len(pages[n-1].rows) > 2 {
		before := &pages[n-1]
		last := len(before.rows) - 1
		page.rows = append([]slideRow{before.rows[last]}, page.rows...)
		before.rows = before.rows[:last]
	}
	return append(pages, page)
}

// row measures a line. A cell that is higher than a slide is cut short.
func (p *slides) row(page tablePage, line textLine) slideRow {
	r := slideRow{textLine: line}
	r.cells = slices.Clone(line.cells)
	scale := page.size / slideFont
	bold := line.kind != shape.Data
	lines := 1
	most := int((slideTall*0.8 - slideCell) / (page.size * slideLine))
	for _, i := range page.show {
		room := (page.widths[i] - 2*slidePad*scale) / scale
		if p.points(r.cells[i], bold) <= room && !strings.Contains(r.cells[i], "\n") {
			continue
		}
		over := p.hand.wrapped(r.cells[i], p.style12(bold), vg.Length(room/otherFont))
		n := 0
		for _, l := range over { // a word that is wider than its cell takes lines of its own
			n += max(1, int(p.points(l, bold)/room+0.999))
		}
		if n > most {
			p.saidOnce(fmt.Sprintf("a cell of section %s is longer than a slide and is cut short; html or csv hold all of it",
				p.plan.Section))
			keep := []rune(r.cells[i])
			r.cells[i] = string(keep[:min(len(keep), len(keep)*most/n*9/10)]) + "…"
			n = most
		}
		lines = max(lines, n)
	}
	r.tall = max(leastRow*scale, float64(lines)*page.size*slideLine+slideCell)
	return r
}

func (p *slides) style12(bold bool) text.Style {
	style := textStyle(p.hand, slideFont, paintOf(p.style.Look).ink)
	if bold {
		style.Font.Weight = 3
	}
	return style
}

func (p *slides) saidOnce(text string) {
	if !slices.Contains(p.said, text) {
		p.said = append(p.said, text)
	}
}

// table is what a slide has of a table, with its head.
func (p *slides) table(page tablePage) string {
	var out strings.Builder
	emu := func(points float64) int { return int(points * emuOfPoint) }
	wide, tall := 0.0, page.head.tall
	for _, i := range page.show {
		wide += page.widths[i]
	}
	for _, r := range page.rows {
		tall += r.tall
	}
	fmt.Fprintf(&out,
		`<p:graphicFrame><p:nvGraphicFramePr><p:cNvPr id="5" name="Table" descr="%s"/><p:cNvGraphicFramePr><a:graphicFrameLocks noGrp="1"/></p:cNvGraphicFramePr><p:nvPr/></p:nvGraphicFramePr><p:xfrm><a:off x="%d" y="%d"/><a:ext cx="%d" cy="%d"/></p:xfrm><a:graphic><a:graphicData uri="http://schemas.openxmlformats.org/drawingml/2006/table"><a:tbl><a:tblPr firstRow="1"/><a:tblGrid>`,
		escape(p.plan.Title), slideEdge, slideBody, emu(wide), emu(tall))
	for _, i := range page.show {
		fmt.Fprintf(&out, `<a:gridCol w="%d"/>`, emu(page.widths[i]))
	}
	out.WriteString(`</a:tblGrid>`)
	p.tableRow(&out, page, page.head, p.style.Look.Faint, p.style.Look.Accent, 19050)
	for _, r := range page.rows {
		p.tableRow(&out, page, r, p.style.Look.Ink, p.style.Look.Line, 9525)
	}
	out.WriteString(`</a:tbl></a:graphicData></a:graphic></p:graphicFrame>`)
	return out.String()
}

// tableRow writes a row in a colour, with a line of another one under it.
func (p *slides) tableRow(out *strings.Builder, page tablePage, r slideRow, colour, under string, thick int) {
	fmt.Fprintf(out, `<a:tr h="%d">`, int(r.tall*emuOfPoint))
	for _, i := range page.show {
		align, of := "l", colour
		if p.plan.Columns[i].Kind.Numeric() {
			align = "r"
		}
		strong := r.kind != shape.Data
		if i < len(r.marks) && r.marks[i] != job.MarkNone {
			strong = r.marks[i] != job.MarkFaint
			if hex, ok := markColours[r.marks[i]]; ok {
				of = hex
			}
		}
		b := ""
		if strong {
			b = ` b="1"`
		}
		var lines strings.Builder
		for line := range strings.SplitSeq(r.cells[i], "\n") {
			fmt.Fprintf(&lines,
				`<a:p>%s<a:r><a:rPr lang="en" sz="%d"%s><a:solidFill><a:srgbClr val="%s"/></a:solidFill></a:rPr><a:t>%s</a:t></a:r></a:p>`,
				towards(align, line), int(page.size*100), b, of, escape(line))
		}
		fmt.Fprintf(out,
			`<a:tc><a:txBody><a:bodyPr/><a:lstStyle/>%s</a:txBody><a:tcPr marL="45720" marR="91440" marT="36000" marB="36000" anchor="ctr"><a:lnL w="0"><a:noFill/></a:lnL><a:lnR w="0"><a:noFill/></a:lnR><a:lnT w="0"><a:noFill/></a:lnT><a:lnB w="%d"><a:solidFill><a:srgbClr val="%s"/></a:solidFill></a:lnB><a:noFill/></a:tcPr></a:tc>`,
			lines.String(), thick, under)
	}
	out.WriteString(`</a:tr>`)
}

// prose writes a text over as many slides as it takes.
func (p *slides) prose() error {
	style := textStyle(p.hand, slideProse, paintOf(p.style.Look).ink)
	lines := p.hand.wrapped(p.plan.Text, style, slideRoom/otherFont)
	high := slideProse * slideLine
	each := int(slideTall / high)
	all := max((len(lines)+each-1)/each, 1)
	for n := range all {
		var body strings.Builder
		for _, line := range lines[n*each : min((n+1)*each, len(lines))] {
			body.WriteString(paragraph(line, int(slideProse*100), false, p.style.Look.Ink))
		}
		if err := p.slide(p.title(partOf(n, all))+
			placed("", 3, "Text", slideEdge, slideBody, slideWide-2*slideEdge, slideTall*emuOfPoint, body.String())+p.footer(),
			""); err != nil {
			return err
		}
	}
	return nil
}

// notes says to whoever speaks what the slide was made of.
func (p *slides) notes() error {
	words := p.style.Locale.Words
	texts := []string{p.head.Report}
	if p.plan != nil && p.plan.Title != "" {
		texts = append(texts, p.plan.Title)
	}
	texts = append(texts, words.AsOf+" "+p.head.asOf(p.style.Locale))
	if values := p.head.valuesLine(); values != "" {
		texts = append(texts, values)
	}
	if p.head.Identity != "" {
		texts = append(texts, words.Identity+" "+p.head.Identity)
	}
	if p.head.Run != "" {
		texts = append(texts, words.Run+" "+p.head.Run)
	}
	var body strings.Builder
	for _, text := range texts {
		body.WriteString(paragraph(text, 1200, false, p.style.Look.Ink))
	}
	slide := xmlHead + `<p:notes ` + namespaces +
		`><p:cSld><p:spTree><p:nvGrpSpPr><p:cNvPr id="1" name=""/><p:cNvGrpSpPr/><p:nvPr/></p:nvGrpSpPr><p:grpSpPr/>` +
		`<p:sp><p:nvSpPr><p:cNvPr id="2" name="Slide"/><p:cNvSpPr><a:spLocks noGrp="1" noRot="1" noChangeAspect="1"/></p:cNvSpPr><p:nvPr><p:ph type="sldImg"/></p:nvPr></p:nvSpPr><p:spPr/></p:sp>` +
		`<p:sp><p:nvSpPr><p:cNvPr id="3" name="Notes"/><p:cNvSpPr><a:spLocks noGrp="1"/></p:cNvSpPr><p:nvPr><p:ph type="body" idx="1"/></p:nvPr></p:nvSpPr><p:spPr/><p:txBody><a:bodyPr/><a:lstStyle/>` +
		body.String() + `</p:txBody></p:sp></p:spTree></p:cSld><p:clrMapOvr><a:masterClrMapping/></p:clrMapOvr></p:notes>`
	if err := p.put(fmt.Sprintf("ppt/notesSlides/notesSlide%d.xml", p.n), slide); err != nil {
		return err
	}
	return p.put(fmt.Sprintf("ppt/notesSlides/_rels/notesSlide%d.xml.rels", p.n), relations(
		fmt.Sprintf(`<Relationship Id="rId1" Type="%snotesMaster" Target="../notesMasters/notesMaster1.xml"/><Relationship Id="rId2" Type="%sslide" Target="../slides/slide%d.xml"/>`,
			officeRel, officeRel, p.n)))
}
