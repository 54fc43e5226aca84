package render

import (
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/shape"
)

// reading is the section at hand as people read it: what pages, pictures, slides
// and mails have in common.
type reading struct {
	plan   *shape.Plan
	forms  []*locale.Form
	totals []*locale.Form
	chart  *chartData // nil when it is no chart
	shown  []figure   // of a section of figures, once its row has come
}

// begin reads a section. What is written and how many columns can be read side by
// side in it are for the fault of one that has more.
func (r *reading) begin(s *Style, p *shape.Plan, what string, most int) error {
	*r = reading{plan: p}
	if len(p.Columns) > most {
		return tooWide(what, len(p.Columns), most)
	}
	var err error
	if r.forms, r.totals, err = s.forms(p, true); err != nil {
		return err
	}
	if p.Chart != nil {
		r.chart, err = newChartData(p, s, r.forms)
	}
	return err
}

// take takes what a line is to figures and charts, and tells whether that is all
// that it is.
func (r *reading) take(s *Style, line *shape.Line) (done bool, err error) {
	if r.plan.Kind == job.SectionFigures {
		if r.shown == nil {
			r.shown = figuresOf(r.plan, line.Cells, s.Locale, r.forms)
		}
		return true, nil
	}
	if r.chart != nil {
		err = r.chart.add(line.Cells)
	}
	return false, err
}

// textLine is a line with its cells as they are shown.
type textLine struct {
	kind  shape.LineKind
	cells []string
	marks []job.Mark
}

// shownLine writes the cells of a line as people read them: the value of a
// group stands in its first row only.
func shownLine(p *shape.Plan, line *shape.Line, forms, totals []*locale.Form, l *locale.Locale) textLine {
	out := textLine{
		kind: line.Kind, cells: make([]string, len(line.Cells)), marks: append([]job.Mark(nil), line.Marks...),
	}
	for i, c := range line.Cells {
		form := forms[i]
		if line.Kind != shape.Data {
			form = totals[i]
		}
		out.cells[i] = form.Text(c)
	}
	switch line.Kind {
	case shape.Data:
		if p.Form == job.FormWhole {
			for level, at := range p.Groups {
				if level < line.Fresh {
					out.cells[at] = ""
				}
			}
		}
	case shape.Subtotal:
		for level, at := range p.Groups {
			if level < line.Level {
				out.cells[at] = ""
			} else if level == line.Level {
				out.cells[at] = l.Words.Total + " " + out.cells[at]
			}
		}
	case shape.GrandTotal:
		if len(out.cells) > 0 && out.cells[0] == "" {
			out.cells[0] = l.Words.Total
		}
	}
	return out
}
