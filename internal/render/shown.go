package render

import (
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/shape"
)

// Shown gathers a section as people read it, for a screen. It is a sink.
type Shown struct {
	Style   *Style
	Plan    *shape.Plan
	Lines   []ShownLine
	Drawing string // SVG of a chart
	Figures []job.PreviewFigure

	forms, totals []*locale.Form
	chart         *chartData
}

// ShownLine is one line with its cells as people read them.
type ShownLine struct {
	Kind  shape.LineKind
	Cells []string
	Marks []job.Mark
}

// Begin implements shape.Sink.
func (s *Shown) Begin(p *shape.Plan) error {
	s.Plan = p
	var err error
	if s.forms, s.totals, err = s.Style.forms(p, true); err != nil {
		return err
	}
	if p.Chart != nil {
		s.chart, err = newChartData(p, s.Style, s.forms)
	}
	return err
}

// maxShown bounds the letters of a cell on a screen.
const maxShown = 2000

// Line implements shape.Sink.
func (s *Shown) Line(line *shape.Line) error {
	if s.chart != nil {
		if err := s.chart.add(line.Cells); err != nil {
			return err
		}
	}
	if s.Plan.Kind == job.SectionFigures && s.Figures == nil {
		for _, f := range figuresOf(s.Plan, line.Cells, s.Style.Locale, s.forms) {
			s.Figures = append(s.Figures, job.PreviewFigure{
				Label: f.label, Text: f.text, Change: f.change, Mark: f.mark,
			})
		}
	}
	l := shownLine(s.Plan, line, s.forms, s.totals, s.Style.Locale)
	for i, text := range l.cells {
		if len(text) > maxShown {
			l.cells[i] = string([]rune(text)[:min(maxShown, len([]rune(text)))]) + "…"
		}
	}
	s.Lines = append(s.Lines, ShownLine{Kind: l.kind, Cells: l.cells, Marks: l.marks})
	return nil
}

// End implements shape.Sink.
func (s *Shown) End() error {
	if s.chart == nil || len(s.chart.along) == 0 {
		return nil
	}
	var err error
	s.Drawing, err = s.chart.svg(900, 300)
	return err
}
