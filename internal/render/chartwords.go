package render

import (
	"fmt"
	"math"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
)

// altOf says in words what a chart shows.
func altOf(p *shape.Plan) string {
	var names []string
	for _, s := range p.Chart.Series {
		names = append(names, p.Columns[s].Head())
	}
	form := map[job.ChartForm]string{
		job.ChartLine: "Line chart", job.ChartBar: "Bar chart", job.ChartStacked: "Stacked bar chart",
		job.ChartShare: "Chart of shares",
	}[p.Chart.Form]
	text := fmt.Sprintf("%s: %s by %s", form, strings.Join(names, ", "), p.Columns[p.Chart.Along].Head())
	if p.Chart.Split >= 0 {
		text += ", for each " + p.Columns[p.Chart.Split].Head()
	}
	if !p.Chart.WithoutTable {
		return text + ". The rows stand in the table."
	}
	return text + "."
}

// toldSeries is how many series are told of in words.
const toldSeries = 6

// alt says in words what a chart shows and how it runs.
func (c *chartData) alt() string {
	c.fold()
	text := altOf(c.plan)
	var runs []string
	names := c.plan.Columns[c.plan.Chart.Along].Kind == rows.Text && c.plan.Chart.Form != job.ChartLine // and no run of time
	for i, values := range c.values[:min(len(c.values), toldSeries)] {
		first, last, top, low := -1, -1, -1, -1
		for n, v := range values {
			if math.IsNaN(v) {
				continue
			}
			if first < 0 {
				first = n
			}
			if last = n; top < 0 || v > values[top] {
				top = n
			}
			if low < 0 || v < values[low] {
				low = n
			}
		}
		if first < 0 {
			continue
		}
		from, to := values[first], values[last]
		how := fmt.Sprintf("goes from %s to %s", c.number(from), c.number(to))
		switch {
		case first == last:
			how = "is " + c.number(to)
		case to > from:
			how = fmt.Sprintf("rises from %s to %s", c.number(from), c.number(to))
		case to < from:
			how = fmt.Sprintf("falls from %s to %s", c.number(from), c.number(to))
		}
		if names && first != last {
			how = fmt.Sprintf("is highest at %s with %s and lowest at %s with %s", c.along[top], c.number(values[top]), c.along[low],
				c.number(values[low]))
		} else if top != first && top != last {
			how += fmt.Sprintf(", with %s as its highest at %s", c.number(values[top]), c.along[top])
		}
		runs = append(runs, c.series[i]+" "+how)
	}
	if len(runs) == 0 {
		return text
	}
	span := fmt.Sprintf("From %s to %s: ", c.along[0], c.along[len(c.along)-1])
	if names {
		span = ""
	}
	text += " " + span + strings.Join(runs, "; ") + "."
	if more := len(c.values) - toldSeries; more > 0 {
		text += fmt.Sprintf(" And %d more.", more)
	}
	return text
}
