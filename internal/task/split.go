package task

import (
	"context"
	"errors"
	"fmt"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/report"
	"ironbell/internal/store/history"
)

// ErrNoParts says that a list or query gave nothing to run for.
var ErrNoParts = errors.New("nothing to run for: the list that the job is split over is empty")

// RowOf is the row that a part was split off for, by column.
func RowOf(given job.Values) map[string]string {
	row := map[string]string{}
	for name, value := range given {
		if text, ok := value.(string); ok {
			row[name] = text
		}
	}
	return row
}

// PartsOf asks for what a run is split over.
func PartsOf(ctx context.Context, sources *report.Sources, s job.Split, w Work) ([]history.NewPart, error) {
	most := s.Most
	if most == 0 {
		most = job.MostParts
	}
	doing := "divide the run over each " + s.Each
	if s.Query == nil {
		parts := make([]history.NewPart, len(s.Values))
		for i, v := range s.Values {
			parts[i] = history.NewPart{Name: v, Given: job.Values{s.Each: v}}
		}
		if len(parts) > most {
			return nil,
				fault.New(fault.Task, doing,
					fmt.Sprintf("there are %d values, and the job allows %d parts", len(parts), most),
					"Raise the limit, or shorten the list.")
		}
		return parts, nil
	}
	list, err := Ask(ctx, sources, w, *s.Query, most)
	if err != nil {
		return nil, err
	}
	if len(list.Columns) == 0 {
		return nil, fault.New(fault.Task, doing, "the query gives no columns", "Correct it in the job.")
	}
	parts := make([]history.NewPart, 0, len(list.Rows))
	for n, row := range list.Rows {
		if row[0] == "" {
			return nil,
				fault.New(fault.Task, doing, fmt.Sprintf("row %d has no %s: its first column is empty", n+1, s.Each),
					"Leave such rows out in the query.")
		}
		given := job.Values{}
		for i, column := range list.Columns {
			given[column] = row[i]
		}
		given[s.Each] = row[0]
		parts = append(parts, history.NewPart{Name: row[0], Given: given})
	}
	return parts, nil
}
