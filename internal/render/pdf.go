package render

import (
	"bytes"
	"fmt"
	"io"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/shape"
	"ironbell/internal/house"
	"ironbell/internal/typeface"

	"codeberg.org/go-pdf/fpdf"
	"gonum.org/v1/plot/vg"
)

// pdfWriter writes pages: a title, as of when and with which values, the
// sections, and on each page the run's number and the page's. Each section
// begins on a page of its own unless there is room for much of it.
type pdfWriter struct {
	out              io.Writer
	head             *Head
	style            *Style
	pdf              *fpdf.Fpdf
	letters          *letters
	faces            carried
	inkRGB, faintRGB [3]int
	half             half     // of the page, that sections take now
	foot             float64  // how high the foot of a page is
	imprint          []string // what the house says there
	strong           bool     // bold letters are chosen
	size             fpdf.SizeType
	said             []string

	reading
	early  []textLine // the first lines, kept until the widths are known
	begun  bool       // the table's head is drawn
	held   bool       // the table is parted, which takes all its lines
	kept   [][]laid   // lines that stay together, the last two such bunches
	show   []int      // the columns of the table at hand
	widths []float64  // of all columns
	pad    float64    // beside each cell
	font   float64    // of this table, in points
	rows   int        // of all sections
	sides  string     // direction of the page at hand
	left   float64    // where the table at hand begins

	scale   float64 // of all that stands on a page
	scales  bool    // it is applied now
	dry     bool    // nothing is drawn: only how many pages it takes is asked
	only    string  // the direction of all pages; empty as each needs
	full    bool    // nothing more goes on the page at hand
	places  []place // of the sections, as they are written
	follows []int   // links from the list of contents to them
}

// place is where a section begins.
type place struct {
	title string
	page  int
}

// Measures of a page, in millimetres unless said otherwise.
const (
	margin = 15.0
	foot   = 14.0
	// What the house says at the foot, in points and millimetres.
	imprintFont = 6.5
	imprintLine = 2.9
	bodyFont    = 8.5 // points
	leastFont   = 5.5 // points
	lineHigh    = 1.32
	cellPad     = 1.6
	rounding    = 0.01 // sums of widths are not exact, and what fits must fit
	pointMM     = 25.4 / 72
)

var pageSizes = map[string]fpdf.SizeType{
	"A3": {Wd: 297, Ht: 420}, "A4": {Wd: 210, Ht: 297}, "A5": {Wd: 148, Ht: 210}, "letter": {Wd: 215.9, Ht: 279.4},
	"legal": {Wd: 215.9, Ht: 355.6},
}

var markRGB = map[job.Mark][3]int{
	job.MarkGood: {31, 107, 79}, job.MarkWarning: {138, 95, 0}, job.MarkBad: {168, 50, 26},
	job.MarkFaint: {107, 111, 118},
}

func newPDF(w io.Writer, h *Head, s *Style) (Writer, error) {
	if s.Tagged && h.Browser != nil {
		return newTagged(w, h, s)
	}
	if s.Page != nil && (s.Page.OnePage || s.Page.Contents) {
		return &pdfPages{out: w, head: h, style: s}, nil
	}
	return newPages(w, h, s, 1), nil
}

// newPages begins pages on which all is scaled.
func newPages(w io.Writer, h *Head, s *Style, scale float64) *pdfWriter {
	p := &pdfWriter{
		out: w, head: h, style: s, letters: newLetters(s), size: pageSizes["A4"], left: margin, pad: cellPad, scale: scale, foot: foot,
		inkRGB: house.RGB(s.Look.Ink), faintRGB: house.RGB(s.Look.Faint),
	}
	if s.Tagged {
		p.said = append(p.said,
			"the PDF is not tagged: this node has no browser that could print it so; the plain writer made it")
	}
	if s.Page != nil && s.Page.Size != "" {
		p.size = pageSizes[s.Page.Size]
	}
	p.pdf = fpdf.NewCustom(&fpdf.InitType{OrientationStr: "P", UnitStr: "mm", Size: p.size})
	p.pdf.AddUTF8FontFromBytes("sheet", "", typeface.Regular)
	p.pdf.AddUTF8FontFromBytes("sheet", "B", typeface.Bold)
	p.pdf.SetMargins(margin, margin, margin)
	p.pdf.SetAutoPageBreak(false, foot)
	p.pdf.SetCellMargin(0)
	p.pdf.AliasNbPages("{pages}")
	p.pdf.SetTitle(h.Title, true)
	p.pdf.SetSubject(p.about(), true)
	p.pdf.SetCreator("Iron Bell", true)
	p.pdf.SetProducer("Iron Bell", true)
	p.pdf.SetLang(s.Locale.Lang)
	p.pdf.SetCreationDate(h.AsOf)
	p.pdf.SetModificationDate(h.AsOf)
	p.pdf.SetFooterFunc(p.footer)
	p.letter("", imprintFont)
	if house := joined(s.Look.Footer, s.Look.Legal); house != "" {
		p.imprint = p.split(p.letters.fit(house), p.size.Wd/scale-2*margin)
		p.foot += imprintLine * float64(len(p.imprint)-1)
	}
	return p
}

// about is what the file's properties say of it.
func (p *pdfWriter) about() string {
	parts := []string{p.head.Report}
	if p.head.Run != "" {
		parts = append(parts, "run "+p.head.Run)
	}
	if values := p.head.valuesLine(); values != "" {
		parts = append(parts, values)
	}
	if p.head.Identity != "" {
		parts = append(parts, "read as "+p.head.Identity)
	}
	return strings.Join(parts, "; ")
}

func (p *pdfWriter) set(style string, size float64, rgb [3]int) {
	p.letter(style, size)
	p.pdf.SetTextColor(rgb[0], rgb[1], rgb[2])
}

// rule chooses the colour of lines.
func (p *pdfWriter) rule(colour string) {
	c := house.RGB(colour)
	p.pdf.SetDrawColor(c[0], c[1], c[2])
}

// sheet is the size of the page at hand in the measures in which is written on it.
func (p *pdfWriter) sheet() (w, h float64) {
	w, h = p.pdf.GetPageSize()
	return w / p.scale, h / p.scale
}

// scaled begins to scale what is drawn, and unscaled ends it: both within a page.
func (p *pdfWriter) scaled() {
	if p.scale == 1 {
		return
	}
	p.pdf.TransformBegin()
	p.pdf.TransformScale(100*p.scale, 100*p.scale, 0, 0)
	p.scales = true
}

func (p *pdfWriter) unscaled() {
	if p.scales {
		p.pdf.TransformEnd()
		p.scales = false
	}
}

// width is how wide sections are: as the page between its margins, or half of it.
func (p *pdfWriter) width() float64 {
	w, _ := p.sheet()
	return p.column(w)
}

// column is how wide sections are on a page of a width.
func (p *pdfWriter) column(page float64) float64 {
	if p.half != wholePage {
		return (page - 2*margin - columnGap) / 2
	}
	return page - 2*margin
}

// x is where sections begin.
func (p *pdfWriter) x() float64 {
	if p.half == rightHalf {
		return margin + p.width() + columnGap
	}
	return margin
}

// half is which part of the page sections take.
type half int

const (
	wholePage half = iota
	leftHalf
	rightHalf
)

const columnGap = 8.0 // millimetres

func (p *pdfWriter) bottom() float64 {
	_, h := p.sheet()
	return h - p.foot - 4
}

func (p *pdfWriter) footer() {
	p.unscaled()
	p.scaled()
	defer p.unscaled()
	w, h := p.sheet()
	words := p.style.Locale.Words
	p.set("", 7.5, p.faintRGB)
	p.rule(p.style.Look.Line)
	p.pdf.SetLineWidth(0.2)
	p.pdf.Line(margin, h-p.foot, w-margin, h-p.foot)
	left := p.head.Title
	if p.head.Run != "" {
		left += "  ·  " + words.Run + " " + p.head.Run
	}
	p.write(margin, h-p.foot+4.5, p.cut(p.letters.fit(left), p.width()-40))
	p.set("", imprintFont, p.faintRGB)
	for i, line := range p.imprint {
		p.write(margin, h-p.foot+4.5+imprintLine*float64(i+1)+0.6, line)
	}
	p.set("", 7.5, p.faintRGB)
	right := fmt.Sprintf("%s %d %s {pages}", words.Page, p.pdf.PageNo(), words.Of)
	// The number of pages is known at the end only, and the package puts it in letter by letter.
	p.pdf.Text(w-margin-p.pdf.GetStringWidth(strings.Replace(right, "{pages}", "00", 1)), h-p.foot+4.5, right)
}

// page begins a page in a direction, P or L.
func (p *pdfWriter) page(direction string) {
	first := p.pdf.PageNo() == 0
	p.sides = direction
	p.pdf.AddPageFormat(direction, p.size)
	p.full = false
	p.scaled()
	p.pdf.SetXY(margin, margin)
	if first {
		p.titleBlock()
	}
}

// Room of the logo beside the title, in millimetres.
const (
	logoRoom = 70.0
	logoTall = 16.0
)

// logo sets the logo of the house beside the title, and gives the width that is left for it.
func (p *pdfWriter) logo() float64 {
	l := p.style.Look.Logo
	if l == nil {
		return p.width()
	}
	w, h := l.Within(logoRoom, logoTall)
	if !p.dry {
		p.pdf.RegisterImageOptionsReader("logo", fpdf.ImageOptions{ImageType: "PNG"}, bytes.NewReader(l.PNG))
		p.pdf.ImageOptions("logo", margin+p.width()-w, margin, w, h, false, fpdf.ImageOptions{ImageType: "PNG"}, 0, "")
		p.pdf.SetXY(margin, margin)
	}
	return p.width() - w - 6
}

// titleBlock says what the file is.
func (p *pdfWriter) titleBlock() {
	words := p.style.Locale.Words
	width := p.logo()
	p.set("B", 17, p.inkRGB)
	for _, line := range p.split(p.letters.fit(p.head.Title), width) {
		p.write(margin, p.pdf.GetY()+6, line)
		p.pdf.SetY(p.pdf.GetY() + 7.5)
	}
	p.set("", 8.5, p.faintRGB)
	y := p.pdf.GetY() + 3.5
	facts := words.AsOf + " " + p.head.asOf(p.style.Locale)
	if p.head.Run != "" {
		facts += "   ·   " + words.Run + " " + p.head.Run
	}
	if p.head.Identity != "" {
		facts += "   ·   " + words.Identity + " " + p.head.Identity
	}
	for _, text := range []string{facts, p.head.valuesLine()} {
		if text == "" {
			continue
		}
		for _, line := range p.split(p.letters.fit(text), width) {
			p.write(margin, y, line)
			y += 4.2
		}
	}
	if l := p.style.Look.Logo; l != nil {
		_, high := l.Within(logoRoom, logoTall)
		y = max(y, margin+high+3)
	}
	p.rule(p.style.Look.Accent)
	p.pdf.SetLineWidth(0.6)
	p.pdf.Line(margin, y-1, margin+p.width(), y-1)
	p.pdf.SetXY(margin, y+4)
}

func (p *pdfWriter) Begin(plan *shape.Plan) error {
	p.early, p.begun, p.held, p.kept, p.pad = nil, false, false, nil, cellPad
	return p.reading.begin(p.style, plan, "PDF", MaxColumns)
}

func (p *pdfWriter) Line(line *shape.Line) error {
	if done, err := p.take(p.style, line); done || err != nil {
		return err
	}
	if line.Kind == shape.Data {
		p.rows++
	}
	if p.rows > MaxPDF {
		return tooMuch("PDF", MaxPDF, "rows", "Choose xlsx or csv for this output, or the summary of the section.")
	}
	l := shownLine(p.plan, line, p.forms, p.totals, p.style.Locale)
	for i := range l.cells {
		l.cells[i] = p.letters.fit(l.cells[i])
	}
	if p.begun {
		p.add(l)
		return nil
	}
	if p.early = append(p.early, l); len(p.early) == 2*widthRows && p.chart == nil {
		p.begin()
	}
	return nil
}

// room begins a page unless so much is left on the one at hand.
func (p *pdfWriter) room(direction string, high float64) {
	if p.pdf.PageNo() == 0 || direction != p.sides || p.full || p.pdf.GetY()+high > p.bottom() {
		p.page(direction)
	}
}

// upright is the direction of sections that fit any page.
func (p *pdfWriter) upright() string {
	switch said := p.directed(); {
	case p.only != "":
		return p.only
	case said == "sideways":
		return "L"
	case said == "upright" || p.sides == "":
		return "P"
	}
	return p.sides
}

// directed is the direction that the output says for the section or for the page; empty when neither does.
func (p *pdfWriter) directed() string {
	if p.plan.Direction == "" && p.style.Page != nil {
		return p.style.Page.Direction
	}
	return p.plan.Direction
}

// heading writes a section's title, and marks where it stands.
func (p *pdfWriter) heading() {
	p.set("B", 11.5, p.inkRGB)
	p.pdf.Bookmark(p.plan.Title, 0, p.pdf.GetY()*p.scale)
	if n := len(p.places); n < len(p.follows) {
		p.pdf.SetLink(p.follows[n], p.pdf.GetY()*p.scale, p.pdf.PageNo())
	}
	p.places = append(p.places, place{p.plan.Title, p.pdf.PageNo()})
	if p.plan.Title != p.head.Title {
		p.caption(p.plan.Title)
	}
}

// caption writes what stands above a table.
func (p *pdfWriter) caption(text string) {
	p.set("B", 11.5, p.inkRGB)
	p.write(p.x(), p.pdf.GetY()+5, p.cut(p.letters.fit(text), p.width()))
	p.pdf.SetXY(p.x(), p.pdf.GetY()+8.5)
}

func (p *pdfWriter) sayOnce(text string) {
	for _, had := range p.said {
		if had == text {
			return
		}
	}
	p.said = append(p.said, text)
}

func (p *pdfWriter) End() error {
	switch p.plan.Kind {
	case job.SectionText:
		p.text()
	case job.SectionFigures:
		p.figures()
	default:
		if p.chart != nil && len(p.chart.along) > 0 {
			if err := p.drawChart(); err != nil {
				return err
			}
		}
		p.finishTable()
	}
	p.pdf.SetY(p.pdf.GetY() + 7)
	if err := p.pdf.Error(); err != nil {
		return fmt.Errorf("write the PDF: %w", err)
	}
	return nil
}

func (p *pdfWriter) text() {
	direction := p.upright()
	p.room(direction, 25)
	p.heading()
	p.set("", 10, p.inkRGB)
	for _, line := range p.split(p.letters.fit(p.plan.Text), p.width()) {
		if p.pdf.GetY()+5 > p.bottom() {
			p.page(direction)
			p.set("", 10, p.inkRGB)
		}
		p.within(p.x(), p.pdf.GetY()+4, p.width(), line)
		p.pdf.SetY(p.pdf.GetY() + 5)
	}
}

// figures draws large numbers side by side.
func (p *pdfWriter) figures() {
	direction := p.upright()
	p.room(direction, 40)
	p.heading()
	if len(p.shown) == 0 {
		p.set("", bodyFont, p.faintRGB)
		p.write(p.x(), p.pdf.GetY()+4.5, p.style.Locale.Words.NoRows)
		p.pdf.SetY(p.pdf.GetY() + 6)
		return
	}
	const across = 4
	width := p.width() / float64(min(across, len(p.shown)))
	for i, f := range p.shown {
		if i%across == 0 && i > 0 {
			p.pdf.SetY(p.pdf.GetY() + 24)
			p.room(direction, 24)
		}
		x, y := p.x()+width*float64(i%across), p.pdf.GetY()
		p.set("", 8.5, p.faintRGB)
		p.write(x, y+3.5, p.cut(p.letters.fit(f.label), width-4))
		p.set("B", 19, p.inkRGB)
		text := p.letters.fit(f.text)
		for size := 19.0; p.wide(text) > width-4 && size > 8; size-- {
			p.set("B", size, p.inkRGB)
		}
		p.write(x, y+12, text)
		rgb, ok := markRGB[f.mark]
		if !ok {
			rgb = p.faintRGB
		}
		p.set("", 8, rgb)
		for n, line := range p.split(p.letters.fit(f.change), width-4) {
			p.write(x, y+17+3.6*float64(n), line)
		}
	}
	p.pdf.SetY(p.pdf.GetY() + 24)
}

// drawChart sets a picture of the chart above its table.
func (p *pdfWriter) drawChart() error {
	direction := p.upright()
	high := 82.0
	if p.half != wholePage {
		high = 62
	}
	p.room(direction, high+40)
	p.heading()
	if p.dry {
		p.pdf.SetY(p.pdf.GetY() + high + 4)
		return nil
	}
	var picture bytes.Buffer
	width := p.width()
	if err := p.chart.png(&picture, vg.Length(width/pointMM), vg.Length(high/pointMM), 200); err != nil {
		return err
	}
	name := fmt.Sprintf("chart %d %d", p.pdf.PageNo(), p.rows)
	p.pdf.RegisterImageOptionsReader(name, fpdf.ImageOptions{ImageType: "PNG"}, &picture)
	p.pdf.ImageOptions(name, p.x(), p.pdf.GetY(), width, high, false, fpdf.ImageOptions{ImageType: "PNG"}, 0, "")
	p.pdf.SetY(p.pdf.GetY() + high + 4)
	for _, said := range p.chart.says() {
		p.sayOnce(said)
	}
	return nil
}

func (p *pdfWriter) Close() error {
	if p.pdf.PageNo() == 0 {
		p.page("P")
	}
	p.unscaled() // the footer of the last page scales itself
	return p.output()
}

// Says tells what a reader of the file should know.
func (p *pdfWriter) Says() []string { return append(p.said, p.letters.says()...) }
