// Package shape lays the rows of a section out: which of its columns reach a
// file and how they look, where subtotals stand, which cells are emphasised. It
// stands between the stream of a source and the renderers, so that a hidden
// column is gone before any renderer is asked.
package shape

import (
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
)

// Column is a column that reaches files.
type Column struct {
	job.Column
	Kind rows.Kind
}

// Head is what stands above the column.
func (c Column) Head() string {
	if c.Label != "" {
		return c.Label
	}
	return c.Name
}

// Plan is the layout of one section in one form.
type Plan struct {
	Section string // its name
	Title   string
	Kind    job.SectionKind
	Form    job.Form
	Columns []Column
	Groups  []int // places of the columns that group the rows, the widest group first
	Key     []int // places of the columns that tell rows apart
	Totals  bool  // some column has a total
	Chart   *Chart
	Text    string // of a text, filled

	Direction string // of the pages that show it: upright, sideways, or as it needs

	from       []int // which column of the query each column is
	conditions []emphasis
	cells      map[string]int // columns of the query that conditions speak of
	kinds      []rows.Kind    // of the query's columns
}

// Chart names the columns that a chart draws.
type Chart struct {
	Form   job.ChartForm
	Along  int
	Series []int
	Split  int // -1 without

	Targets      []job.Target
	Numbers      bool // on the bars
	WithoutTable bool
	AlongTitle   string
	ValueTitle   string
	Patterns     bool
}

type emphasis struct {
	column int
	when   expr.Condition
	as     job.Mark
}

// Before is the column with the earlier number of a figure.
func (p *Plan) Before(column int) (int, bool) {
	name := p.Columns[column].Before
	if name == "" {
		return 0, false
	}
	i := p.at(name)
	return i, i >= 0
}

// Figure tells whether a column is a figure of its own and not the earlier
// number of another one.
func (p *Plan) Figure(column int) bool {
	return !slices.ContainsFunc(p.Columns, func(c Column) bool { return c.Before == p.Columns[column].Name })
}

func (p *Plan) at(name string) int {
	return slices.IndexFunc(p.Columns, func(c Column) bool { return c.Name == name })
}

// Fit lays a section out over the columns that its query gives. The error is a
// *fault.Invalid that names each thing that does not fit.
func Fit(s job.Section, form job.Form, columns []rows.Column) (*Plan, error) {
	s = s.InForm(form)
	v := &fault.Invalid{What: fmt.Sprintf("section %q", s.Name)}
	p := &Plan{Section: s.Name, Title: s.Called(), Kind: s.Kind, Form: form, cells: map[string]int{}}
	if p.Kind == "" {
		p.Kind = job.SectionTable
	}
	names := make([]string, len(columns))
	seen := map[string]bool{}
	for i, c := range columns {
		names[i] = c.Name
		p.kinds = append(p.kinds, c.Kind)
		if seen[c.Name] && slices.ContainsFunc(s.Columns, func(l job.Column) bool { return l.Name == c.Name }) {
			v.Add("columns",
				"the query gives two columns %q; give one another name, so that it is clear which is meant", c.Name)
		}
		seen[c.Name] = true
	}
	laid := map[string]job.Column{}
	for i, c := range s.Columns {
		if !seen[c.Name] {
			v.Add(fmt.Sprintf("columns[%d]", i), "the query gives no column %q; it gives %s", c.Name,
				strings.Join(names, ", "))
		}
		laid[c.Name] = c
	}
	for _, c := range s.Columns {
		// The earlier number of a figure looks like the figure itself.
		if _, own := laid[c.Before]; c.Before != "" && !own {
			earlier := c
			earlier.Name, earlier.Label, earlier.Before, earlier.Better, earlier.Emphasis, earlier.Total = c.Before, "",
				"", "", nil, ""
			laid[c.Before] = earlier
		}
	}
	for i, c := range columns {
		l, ok := laid[c.Name]
		if !ok {
			l = job.Column{Name: c.Name}
		}
		if !l.Hidden {
			p.Columns, p.from = append(p.Columns, Column{Column: l, Kind: c.Kind}), append(p.from, i)
		}
	}
	if len(p.Columns) == 0 && len(columns) > 0 {
		v.Add("columns", "every column is hidden; show at least one")
	}
	for i, c := range s.Columns {
		p.checkColumn(v, fmt.Sprintf("columns[%d]", i), c, columns, names)
	}
	place := func(where, name string) int {
		i := p.at(name)
		switch {
		case i < 0 && seen[name]:
			v.Add(where, "the column %q is hidden and would be seen here", name)
		case i < 0:
			v.Add(where, "the query gives no column %q; it gives %s", name, strings.Join(names, ", "))
		}
		return i
	}
	for i, name := range s.Group {
		p.Groups = append(p.Groups, place(fmt.Sprintf("group[%d]", i), name))
	}
	for i, name := range s.Key {
		p.Key = append(p.Key, place(fmt.Sprintf("key[%d]", i), name))
	}
	if s.Chart != nil {
		p.chart(v, *s.Chart, place)
	}
	for _, name := range expr.Cells(s.Text) {
		place("text", name)
	}
	if form == job.FormSummary && p.Kind == job.SectionTable && len(v.Wrong) == 0 {
		p.summarise(v)
	}
	if err := v.Err(); err != nil {
		return nil, err
	}
	p.Totals = slices.ContainsFunc(p.Columns, func(c Column) bool { return c.Total != "" })
	return p, nil
}

func (p *Plan) checkColumn(v *fault.Invalid, where string, c job.Column, columns []rows.Column, names []string) {
	of := slices.Index(names, c.Name)
	if of < 0 {
		return
	}
	if (c.Total == job.TotalSum || c.Total == job.TotalMean) && !columns[of].Kind.Numeric() {
		v.Add(where+".total", "%q holds %s, of which there is no %s", c.Name, columns[of].Kind, c.Total)
	}
	if c.Before != "" && p.at(c.Before) < 0 {
		v.Add(where+".before", "%q is no column that is shown", c.Before)
	}
	for n, e := range c.Emphasis {
		when, err := expr.ParseCondition(e.If, expr.Names{Columns: names})
		if err != nil {
			v.Add(fmt.Sprintf("%s.emphasis[%d].if", where, n), "%s", err)
			continue
		}
		if at := p.at(c.Name); at >= 0 {
			p.conditions = append(p.conditions, emphasis{column: at, when: when, as: e.As})
			for _, name := range expr.Cells(e.If) {
				p.cells[name] = slices.Index(names, name)
			}
		}
	}
}

func (p *Plan) chart(v *fault.Invalid, c job.Chart, place func(where, name string) int) {
	out := &Chart{
		Form: c.Form, Split: -1, Targets: c.Targets, Numbers: c.Numbers, WithoutTable: c.WithoutTable,
		AlongTitle: c.AlongTitle, ValueTitle: c.ValueTitle, Patterns: c.Patterns,
	}
	if c.Numbers && c.Form == job.ChartLine {
		v.Add("chart.numbers", "they stand on bars, and this chart has lines")
	}
	if c.Along != "" {
		out.Along = place("chart.along", c.Along)
	}
	if c.Split != "" {
		out.Split = place("chart.split", c.Split)
	}
	for i, name := range c.Series {
		at := place(fmt.Sprintf("chart.series[%d]", i), name)
		if at >= 0 && !p.Columns[at].Kind.Numeric() {
			v.Add(fmt.Sprintf("chart.series[%d]", i), "%q holds %s, and a chart draws numbers", name,
				p.Columns[at].Kind)
		}
		out.Series = append(out.Series, at)
	}
	if len(c.Series) == 0 {
		for i, column := range p.Columns {
			if i != out.Along && i != out.Split && column.Kind.Numeric() {
				out.Series = append(out.Series, i)
			}
		}
	}
	if len(out.Series) == 0 && len(p.Columns) > 0 {
		v.Add("chart.series", "the query gives no column of numbers to draw")
	}
	p.Chart = out
}

// summarise leaves the columns that a subtotal has something to say in.
func (p *Plan) summarise(v *fault.Invalid) {
	if len(p.Groups) == 0 {
		v.Add("group", "a summary is the subtotals of a grouped table, and this one has no groups")
		return
	}
	var columns []Column
	var from, groups []int
	for i, c := range p.Columns {
		at := slices.Index(p.Groups, i)
		if at < 0 && c.Total == "" {
			continue
		}
		columns, from = append(columns, c), append(from, p.from[i])
	}
	for _, g := range p.Groups {
		groups = append(groups, slices.Index(from, p.from[g]))
	}
	p.Columns, p.from, p.Groups, p.Key, p.conditions = columns, from, groups, groups, nil
}
