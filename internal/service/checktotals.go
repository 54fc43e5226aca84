package service

import (
	"context"
	"slices"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/report"
	"ironbell/internal/store/db"
)

// totalsOf knows which columns the reports of a job add up, as their sources say. It
// asks only when the job speaks of totals.
type totalsOf struct {
	ck    *checks
	asked bool
	known map[string][]string // by report; nil for one whose source does not answer
}

// of lists the columns that a report adds up; known is false when nobody can say.
func (t *totalsOf) of(ctx context.Context, r job.Report) (columns []string, known bool) {
	if !t.asked {
		return nil, false
	}
	if columns, ok := t.known[r.Name]; ok {
		return columns, columns != nil
	}
	if t.known == nil {
		t.known = map[string][]string{}
	}
	t.known[r.Name] = nil
	source, err := t.ck.sources.Get(ctx, r.Source, r.Identity)
	if err != nil {
		return nil, false
	}
	ctx, stop := context.WithTimeout(ctx, checkLimit)
	defer stop()
	columns = []string{}
	for _, s := range r.Sections {
		if strings.TrimSpace(s.SQL) == "" {
			continue
		}
		found, err := source.Describe(ctx, report.Query{
			SQL: s.SQL, Params: r.Parameters, Zone: "UTC", Limit: checkLimit,
		})
		if err != nil {
			return nil, false
		}
		for _, c := range found {
			if (c.Kind == rows.Whole || c.Kind == rows.Number) && !slices.Contains(columns, c.Name) {
				columns = append(columns, c.Name)
			}
		}
	}
	t.known[r.Name] = columns
	return columns, true
}

// before lists the columns that the reports of some tasks add up.
func (t *totalsOf) before(ctx context.Context, d job.Definition, tasks []string) (all []string, known bool, err error) {
	known = t.asked
	for _, one := range d.Tasks {
		if one.Report == nil || !slices.Contains(tasks, one.Name) || !known {
			continue
		}
		r, err := t.ck.report(ctx, one.Report.Report)
		if db.IsMissing(err) {
			return nil, false, nil // told of elsewhere
		}
		if err != nil {
			return nil, false, err
		}
		var columns []string
		if columns, known = t.of(ctx, r); known {
			all = append(all, columns...)
		}
	}
	return all, known, nil
}
