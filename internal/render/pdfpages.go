package render

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"sort"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
)

// pdfPages keeps the sections of a PDF that must be known as a whole before its first page is written: one that is
// to stand on one page, or has a list of contents.
type pdfPages struct {
	out   io.Writer
	head  *Head
	style *Style
	all   []keptSection
	lines int
	said  []string
}

// keptSection is a section with its lines.
type keptSection struct {
	plan  *shape.Plan
	lines []shape.Line
}

// mostOnePage is how many lines are tried on one page.
const mostOnePage = 1000

func (k *pdfPages) Begin(p *shape.Plan) error {
	if len(p.Columns) > MaxColumns {
		return tooWide("PDF", len(p.Columns), MaxColumns)
	}
	k.all = append(k.all, keptSection{plan: p})
	return nil
}

func (k *pdfPages) Line(l *shape.Line) error {
	most := MaxPDF
	if k.style.Page.OnePage {
		most = mostOnePage
	}
	if k.lines++; k.lines > 2*most { // totals are lines, too; the pages count their rows themselves
		return k.tooMuch()
	}
	kept := *l
	kept.Marks = slices.Clone(l.Marks)
	kept.Cells = make(rows.Row, len(l.Cells))
	for i, c := range l.Cells {
		kept.Cells[i] = rows.Cell{Text: bytes.Clone(c.Text), Null: c.Null}
	}
	now := &k.all[len(k.all)-1]
	now.lines = append(now.lines, kept)
	return nil
}

func (k *pdfPages) End() error { return nil }

func (k *pdfPages) tooMuch() error {
	if !k.style.Page.OnePage {
		return tooMuch("PDF", MaxPDF, "rows", "Choose xlsx or csv for this output, or the summary of the section.")
	}
	return fault.New(fault.Task, "write the PDF", "it does not fit on one page in letters that can be read",
		"Let it take several pages, or a larger page, or the summary of its sections.")
}

// write writes all sections on pages: on a grid, those that may stand two beside each other.
func (k *pdfPages) write(p *pdfWriter) error {
	for i := 0; i < len(k.all); i++ {
		if i+1 == len(k.all) || k.style.Page == nil || !k.style.Page.Grid || !k.all[i].narrow() || !k.all[i+1].narrow() {
			if err := k.all[i].write(p); err != nil {
				return err
			}
			continue
		}
		if p.pdf.PageNo() == 0 {
			p.plan = k.all[i].plan
			p.page(p.upright())
		}
		top, low := p.pdf.GetY(), 0.0
		for n, in := range []half{leftHalf, rightHalf} {
			p.half = in
			p.left = p.x()
			p.pdf.SetY(top)
			if err := k.all[i+n].write(p); err != nil {
				return err
			}
			low = max(low, p.pdf.GetY())
		}
		p.half, p.left = wholePage, margin
		p.pdf.SetY(low)
		i++
	}
	return nil
}

// narrow tells whether a section may stand beside another one.
func (s keptSection) narrow() bool {
	return s.plan.Kind != job.SectionText && s.plan.Kind != job.SectionFigures
}

func (s keptSection) write(p *pdfWriter) error {
	if err := p.Begin(s.plan); err != nil {
		return err
	}
	for i := range s.lines {
		if err := p.Line(&s.lines[i]); err != nil {
			return err
		}
	}
	return p.End()
}

func (k *pdfPages) Close() error {
	if k.style.Page.OnePage {
		return k.onePage()
	}
	return k.contents()
}

// leastScale is how small the letters of a page become that must hold all.
const leastScale = 0.55

// scaleSteps are tried from the largest letters down.
const scaleSteps = 10

// onePage writes all on one page, in the largest letters in which it fits.
func (k *pdfPages) onePage() error {
	begin := func(out io.Writer, step int, direction string) *pdfWriter {
		p := newPages(out, k.head, k.style, 1-(1-leastScale)*float64(step)/(scaleSteps-1))
		p.only = direction
		return p
	}
	best, way := scaleSteps, ""
	for _, direction := range map[string][]string{"": {"P", "L"}, "upright": {"P"}, "sideways": {"L"}}[k.style.Page.Direction] {
		// What fits fits in smaller letters, too.
		var failed error
		step := sort.Search(best, func(step int) bool {
			p := begin(io.Discard, step, direction)
			p.dry = true
			if err := k.write(p); err != nil {
				failed = err
			}
			return p.pdf.PageNo() <= 1
		})
		if failed != nil {
			return failed
		}
		if step < best {
			best, way = step, direction
		}
	}
	if best == scaleSteps {
		return k.tooMuch()
	}
	p := begin(k.out, best, way)
	if err := k.write(p); err != nil {
		return err
	}
	k.said = p.Says()
	return p.Close()
}

// contents writes the pages twice: the first time to know where each section begins.
func (k *pdfPages) contents() error {
	places := make([]place, len(k.all))
	for i, s := range k.all {
		places[i].title = s.plan.Title
	}
	for _, out := range []io.Writer{io.Discard, k.out} {
		p := newPages(out, k.head, k.style, 1)
		p.dry = out == io.Discard
		p.list(places)
		if err := k.write(p); err != nil {
			return err
		}
		places, k.said = p.places, p.Says()
		if out == io.Discard {
			continue
		}
		return p.Close()
	}
	return nil
}

// Says implements Speaker.
func (k *pdfPages) Says() []string { return k.said }

// list writes which sections stand on which pages, each with a link to it; the first of them begins on the next page.
func (p *pdfWriter) list(places []place) {
	const high = 6.0
	p.plan = &shape.Plan{}
	p.page(p.upright())
	p.caption(p.style.Locale.Words.Contents)
	p.follows = nil
	for _, at := range places {
		if p.pdf.GetY()+high > p.bottom() {
			p.page(p.sides)
		}
		p.set("", 10, p.inkRGB)
		link := p.pdf.AddLink()
		p.follows = append(p.follows, link)
		number := fmt.Sprint(at.page)
		y := p.pdf.GetY()
		p.write(margin, y+4, p.cut(p.letters.fit(at.title), p.width()-15))
		p.write(margin+p.width()-p.wide(number), y+4, number)
		p.rule(p.style.Look.Line)
		p.pdf.SetLineWidth(0.15)
		p.pdf.Line(margin, y+high-0.6, margin+p.width(), y+high-0.6)
		p.pdf.Link(margin, y, p.width(), high, link)
		p.pdf.SetY(y + high)
	}
	p.full = true
}
