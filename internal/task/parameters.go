package task

import (
	"context"
	"encoding/json"
	"slices"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
)

// FindReport finds a report by its name.
type FindReport func(ctx context.Context, name string) (job.Report, error)

// ParametersOf lists them as reports are found in some way.
func ParametersOf(ctx context.Context, d job.Definition, find FindReport) ([]job.Parameter, error) {
	var params []job.Parameter
	add := func(more []job.Parameter) {
		for _, p := range more {
			if !slices.ContainsFunc(params,
				func(q job.Parameter) bool { return q.Name == p.Name && q.Type == p.Type }) {
				params = append(params, p)
			}
		}
	}
	if d.Split.Query != nil {
		add(d.Split.Query.Parameters)
	}
	for _, t := range d.Tasks {
		if t.Query != nil {
			add(t.Query.Parameters)
		}
		if t.Deliver != nil && t.Deliver.ToQuery != nil {
			add(t.Deliver.ToQuery.Parameters)
		}
		if t.Report == nil {
			continue
		}
		r, err := find(ctx, t.Report.Report)
		if db.IsMissing(err) {
			continue // told of elsewhere
		}
		if err != nil {
			return nil, err
		}
		add(slices.DeleteFunc(slices.Clone(r.Parameters), func(p job.Parameter) bool { return given(t, p) }))
	}
	return params, nil
}

// given tells whether a task gives a parameter of its report a value of its own.
func given(t job.Task, p job.Parameter) bool {
	_, ok := t.Report.Values[p.Name]
	return ok
}

// WantedCells lists the columns of whose first cells the tasks' conditions and texts speak.
func WantedCells(tasks []job.Task) []string {
	text, err := json.Marshal(tasks)
	if err != nil {
		return nil // what was read from JSON can be written as JSON
	}
	return expr.Cells(string(text))
}

// WantedTotals lists the columns whose totals the tasks' conditions and texts
// ask for.
func WantedTotals(tasks []job.Task) []string {
	text, err := json.Marshal(tasks)
	if err != nil {
		return nil // what was read from JSON can be written as JSON
	}
	return expr.TotalsOf(string(text))
}
