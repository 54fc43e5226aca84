package engine

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// valueForm is what names of values look like.
var valueForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// errNoParts says that a list or query gave nothing to run for.
var errNoParts = errors.New("nothing to run for: the list that the job is split over is empty")

// split divides the run of a split job over its parts, when that is not done yet:
// the part at hand becomes the first one.
func (p *performance) split(ctx context.Context) error {
	s := p.plan.Split
	if s.Each == "" || p.c.Name != "" {
		return nil
	}
	rows, err := partsOf(ctx, p.e.sources, s, p.base)
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return errNoParts
	}
	if err := p.e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.SplitRun(ctx, p.c, rows); err != nil {
			return err
		}
		return t.Log(ctx, job.LogLine{Text: fmt.Sprintf("divided over %d %s, one for each %s", len(rows), phrase.Plural(len(rows), "part", "parts"), s.Each)}, p.c.RunID)
	}); err != nil {
		return err
	}
	p.c.Name, p.c.Own.V, p.c.Alone = rows[0].Name, rows[0].Given, false
	run := p.c.RunID
	p.base.Siblings = func(ctx context.Context) ([]store.Sibling, error) { return p.e.store.Siblings(ctx, run) }
	p.own()
	return nil
}

// own gives the tasks the part's own values.
func (p *performance) own() {
	p.base.PartName = p.c.Name
	p.base.Values = p.c.Own.V.Over(p.c.Given.V.Over(p.plan.Values))
	p.base.Row = rowOf(p.c.Own.V)
}

// rowOf is the row that a part was split off for, by column.
func rowOf(given job.Values) map[string]string {
	row := map[string]string{}
	for name, value := range given {
		if text, ok := value.(string); ok {
			row[name] = text
		}
	}
	return row
}

// partsOf asks for what a run is split over.
func partsOf(ctx context.Context, sources *report.Sources, s job.Split, w task.Work) ([]store.NewPart, error) {
	most := s.Most
	if most == 0 {
		most = job.MostParts
	}
	doing := "divide the run over each " + s.Each
	if s.Query == nil {
		parts := make([]store.NewPart, len(s.Values))
		for i, v := range s.Values {
			parts[i] = store.NewPart{Name: v, Given: job.Values{s.Each: v}}
		}
		if len(parts) > most {
			return nil, fault.New(fault.Task, doing, fmt.Sprintf("there are %d values, and the job allows %d parts", len(parts), most), "Raise the limit, or shorten the list.")
		}
		return parts, nil
	}
	list, err := task.Ask(ctx, sources, w, *s.Query, most)
	if err != nil {
		return nil, err
	}
	if len(list.Columns) == 0 {
		return nil, fault.New(fault.Task, doing, "the query gives no columns", "Correct it in the job.")
	}
	parts := make([]store.NewPart, 0, len(list.Rows))
	for n, row := range list.Rows {
		if row[0] == "" {
			return nil, fault.New(fault.Task, doing, fmt.Sprintf("row %d has no %s: its first column is empty", n+1, s.Each), "Leave such rows out in the query.")
		}
		given := job.Values{}
		for i, column := range list.Columns {
			given[column] = row[i]
		}
		given[s.Each] = row[0]
		parts = append(parts, store.NewPart{Name: row[0], Given: given})
	}
	return parts, nil
}

// splitNames are the values that each part of a job has of its own. What is wrong
// with the split is added to v.
func (e *Engine) splitNames(ctx context.Context, v *fault.Invalid, d job.Definition) ([]string, error) {
	s := d.Split
	if s.Each == "" {
		if len(s.Values) > 0 || s.Query != nil {
			v.Add("split.each", "name the value that each part has, such as port")
		}
		return nil, nil
	}
	if !valueForm.MatchString(s.Each) {
		v.Add("split.each", "%q is no name of a value; use letters, digits and _", s.Each)
	}
	names := []string{s.Each}
	switch {
	case len(s.Values) > 0 && s.Query != nil:
		v.Add("split", "it takes a list or a query, not both")
	case s.Query == nil && len(s.Values) == 0:
		v.Add("split.values", "name the values, or a query that gives them")
	case s.Query == nil:
		seen := map[string]bool{}
		for i, text := range s.Values {
			if text == "" || seen[text] {
				v.Add(fmt.Sprintf("split.values[%d]", i), "%q stands there twice, or is empty", text)
			}
			seen[text] = true
		}
	default:
		source, err := e.sources.Get(ctx, s.Query.Source, s.Query.Identity)
		if err != nil {
			v.Add("split.query", "%s", err)
			return names, nil
		}
		bounded, stop := context.WithTimeout(ctx, checkLimit)
		defer stop()
		columns, err := source.Describe(bounded, report.Query{SQL: s.Query.SQL, Params: s.Query.Parameters, Zone: "UTC", Limit: checkLimit})
		if err != nil {
			v.Add("split.query.sql", "%s", err)
			return names, nil
		}
		for _, c := range columns {
			if !slices.Contains(names, c.Name) && valueForm.MatchString(c.Name) {
				names = append(names, c.Name)
			}
		}
	}
	return names, nil
}
