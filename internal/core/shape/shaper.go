package shape

import (
	"ironbell/internal/core/expr"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
)

// LineKind says what a line of a section is.
type LineKind int

// The kinds of line.
const (
	Data LineKind = iota
	Subtotal
	GrandTotal
)

// Line is one line of a section. It and what it holds are reused for the next.
type Line struct {
	Kind  LineKind
	Level int        // of a subtotal: which of Plan.Groups it closes
	Fresh int        // of data: the first of Plan.Groups whose value is another than in the line before
	Cells rows.Row   // one for each of Plan.Columns
	Marks []job.Mark // one for each cell; nil when none is emphasised
}

// Sink takes sections, one after another.
type Sink interface {
	Begin(*Plan) error
	Line(*Line) error
	End() error
}

// Shaper lays rows out and hands them to sinks. It belongs to one goroutine.
type Shaper struct {
	plan     *Plan
	laid     []Sink // want subtotals
	flat     []Sink // want data alone
	n        int64
	line     Line
	straight bool // the columns are those of the query
	prior    [][]byte
	sums     [][]sum // by level, then column; the last level is all rows
	known    map[string]any
	marks    []job.Mark
}

// NewShaper begins a section in all sinks.
func NewShaper(p *Plan, laid, flat []Sink) (*Shaper, error) {
	s := &Shaper{
		plan: p, laid: laid, flat: flat, prior: make([][]byte, len(p.Groups)), known: map[string]any{},
		marks: make([]job.Mark, len(p.Columns)),
	}
	s.straight = len(p.from) == len(p.kinds)
	s.line.Cells = make(rows.Row, len(p.Columns))
	if p.Totals {
		s.sums = make([][]sum, len(p.Groups)+1)
		for i := range s.sums {
			s.sums[i] = make([]sum, len(p.Columns))
		}
	}
	for _, to := range [][]Sink{laid, flat} {
		for _, sink := range to {
			if err := sink.Begin(p); err != nil {
				return nil, err
			}
		}
	}
	return s, nil
}

// Row lays one row of the query out.
func (s *Shaper) Row(row rows.Row) error {
	cells := row
	if !s.straight {
		cells = s.line.Cells
		for i, from := range s.plan.from {
			cells[i] = row[from]
		}
	}
	fresh, err := s.group(cells)
	if err != nil {
		return err
	}
	s.n++
	for _, sums := range s.sums {
		for i := range sums {
			if s.plan.Columns[i].Total != "" {
				sums[i].add(s.plan.Columns[i], cells[i])
			}
		}
	}
	if s.plan.Form == job.FormSummary {
		return nil
	}
	line := Line{Kind: Data, Fresh: fresh, Cells: cells, Marks: s.emphasise(row)}
	return s.hand(&line, true)
}

// group closes the groups that ended before this row and tells the first level
// whose value is new.
func (s *Shaper) group(cells rows.Row) (int, error) {
	levels := len(s.plan.Groups)
	fresh := levels
	for level := levels - 1; level >= 0; level-- {
		c := cells[s.plan.Groups[level]]
		if s.n == 0 || c.Null != (s.prior[level] == nil) || string(c.Text) != string(s.prior[level]) {
			fresh = level
		}
	}
	if s.n > 0 {
		if err := s.close(fresh); err != nil {
			return 0, err
		}
	}
	for level := fresh; level < levels; level++ {
		c := cells[s.plan.Groups[level]]
		if s.prior[level] = nil; !c.Null {
			s.prior[level] = append([]byte{}, c.Text...)
		}
	}
	return fresh, nil
}

// close gives the subtotals of the groups from the innermost to a level.
func (s *Shaper) close(to int) error {
	if s.sums == nil {
		return nil
	}
	for level := len(s.plan.Groups) - 1; level >= to; level-- {
		line := s.total(s.sums[level])
		for l := 0; l <= level; l++ {
			line.Cells[s.plan.Groups[l]] = rows.Cell{Text: s.prior[l], Null: s.prior[l] == nil}
		}
		innermost := level == len(s.plan.Groups)-1
		line.Kind, line.Level = Subtotal, level
		if s.plan.Form == job.FormSummary && innermost {
			line.Kind, line.Fresh = Data, len(s.plan.Groups)
		}
		if err := s.hand(&line, line.Kind == Data); err != nil {
			return err
		}
		clear(s.sums[level])
	}
	return nil
}

// total makes a line of sums.
func (s *Shaper) total(sums []sum) Line {
	line := Line{Cells: make(rows.Row, len(sums))}
	for i := range sums {
		line.Cells[i] = rows.Cell{Null: true}
		if s.plan.Columns[i].Total != "" {
			line.Cells[i] = sums[i].cell(s.plan.Columns[i])
		}
	}
	return line
}

func (s *Shaper) hand(line *Line, data bool) error {
	for _, sink := range s.laid {
		if err := sink.Line(line); err != nil {
			return err
		}
	}
	if !data {
		return nil
	}
	for _, sink := range s.flat {
		if err := sink.Line(line); err != nil {
			return err
		}
	}
	return nil
}

// emphasise decides the conditions over one row of the query.
func (s *Shaper) emphasise(row rows.Row) []job.Mark {
	if len(s.plan.conditions) == 0 {
		return nil
	}
	for name, at := range s.plan.cells {
		s.known[name] = expr.Cell(s.plan.kinds[at], row[at])
	}
	clear(s.marks)
	for _, e := range s.plan.conditions {
		if s.marks[e.column] == job.MarkNone && e.when.HoldsFor(s.known) {
			s.marks[e.column] = e.as
		}
	}
	return s.marks
}

// End closes the groups that are open and ends the section. It gives the number
// of rows.
func (s *Shaper) End() (int64, error) {
	if s.n > 0 && s.sums != nil {
		if err := s.close(0); err != nil {
			return s.n, err
		}
		if s.plan.Kind == job.SectionTable {
			line := s.total(s.sums[len(s.plan.Groups)])
			line.Kind = GrandTotal
			if err := s.hand(&line, false); err != nil {
				return s.n, err
			}
		}
	}
	for _, to := range [][]Sink{s.laid, s.flat} {
		for _, sink := range to {
			if err := sink.End(); err != nil {
				return s.n, err
			}
		}
	}
	return s.n, nil
}
