package render

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
)

// Open begins a file in the format of the style.
func (s *Style) Open(w io.Writer, h *Head) (Writer, error) {
	made, err := s.Format.New(w, h, s)
	if err != nil || len(s.Columns) == 0 {
		return made, err
	}
	return &ordered{Writer: made, names: s.Columns}, nil
}

// ordered hands on the columns that an output names, in the order in which it names them, so that whoever reads
// the file finds them where they were whatever becomes of the query.
type ordered struct {
	Writer
	names []string
	from  []int // place in the line of each column; nil when the section has no columns
	line  shape.Line
}

func (o *ordered) Begin(p *shape.Plan) error {
	if o.from = nil; p.Kind == job.SectionText {
		return o.Writer.Begin(p)
	}
	to := make(map[int]int, len(o.names)) // place now of each place before
	q := *p
	q.Columns, q.Groups, q.Key, q.Chart = nil, nil, nil, nil
	for _, name := range o.names {
		at := slices.IndexFunc(p.Columns, func(c shape.Column) bool { return c.Name == name })
		if at < 0 {
			has := make([]string, len(p.Columns))
			for i, c := range p.Columns {
				has[i] = c.Name
			}
			return fault.New(fault.Task, "write the columns that the output names",
				fmt.Sprintf("the section %q has no column %q; it has %s", p.Section, name, strings.Join(has, ", ")),
				"Correct the columns of the output, or let the section's query give that one again.")
		}
		to[at] = len(o.from)
		o.from, q.Columns = append(o.from, at), append(q.Columns, p.Columns[at])
	}
	for _, at := range p.Key {
		if now, taken := to[at]; taken {
			q.Key = append(q.Key, now)
		}
	}
	o.line.Cells = make(rows.Row, len(o.from))
	return o.Writer.Begin(&q)
}

func (o *ordered) Line(l *shape.Line) error {
	if o.from == nil {
		return o.Writer.Line(l)
	}
	o.line.Kind, o.line.Level = l.Kind, l.Level
	for i, at := range o.from {
		o.line.Cells[i] = l.Cells[at]
	}
	return o.Writer.Line(&o.line)
}

// Says implements Speaker.
func (o *ordered) Says() []string {
	if s, ok := o.Writer.(Speaker); ok {
		return s.Says()
	}
	return nil
}
