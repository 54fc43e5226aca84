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

// totalsOf knows which columns the reports of a job have and which they add up, as their
// sources say. It asks only when the job speaks of totals or of cells.
type totalsOf struct {
	ck    *checks
	asked bool
	known map[string]*columnsOf // by report; nil for one whose source does not answer
}

// columnsOf are the columns of a report that are shown, those of numbers, and those of each section.
type columnsOf struct {
	all, numbers []string
	by           map[string][]string
}

// of lists the columns that a report adds up; known is false when nobody can say.
func (t *totalsOf) of(ctx context.Context, r job.Report) (columns []string, known bool) {
	if found := t.columns(ctx, r); found != nil {
		return found.numbers, true
	}
	return nil, false
}

// sections lists the columns of each section of a report; known is false when nobody can say.
func (t *totalsOf) sections(ctx context.Context, r job.Report) (columns map[string][]string, known bool) {
	if found := t.columns(ctx, r); found != nil {
		return found.by, true
	}
	return nil, false
}

// columns are those of a report, or nil when nobody can say.
func (t *totalsOf) columns(ctx context.Context, r job.Report) *columnsOf {
	if !t.asked {
		return nil
	}
	if found, ok := t.known[r.Name]; ok {
		return found
	}
	if t.known == nil {
		t.known = map[string]*columnsOf{}
	}
	t.known[r.Name] = nil
	source, err := t.ck.sources.Get(ctx, r.Source, r.Identity)
	if err != nil {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, checkLimit)
	defer stop()
	out := &columnsOf{all: []string{}, numbers: []string{}, by: map[string][]string{}}
	for _, s := range r.Sections {
		if strings.TrimSpace(s.SQL) == "" {
			continue
		}
		found, err := source.Describe(ctx, report.Query{
			SQL: s.SQL, Params: r.Parameters, Zone: "UTC", Limit: checkLimit,
		})
		if err != nil {
			return nil
		}
		for _, c := range found {
			if !s.Hides(c.Name) {
				out.by[s.Name] = append(out.by[s.Name], c.Name)
			}
			if !slices.Contains(out.all, c.Name) && !s.Hides(c.Name) {
				out.all = append(out.all, c.Name)
			}
			if (c.Kind == rows.Whole || c.Kind == rows.Number) && !slices.Contains(out.numbers, c.Name) {
				out.numbers = append(out.numbers, c.Name)
			}
		}
	}
	t.known[r.Name] = out
	return out
}

// before lists the columns of the reports of some tasks, and those that they add up; known is
// false when nobody can say.
func (t *totalsOf) before(ctx context.Context, d job.Definition, tasks []string) (all columnsOf, known bool, err error) {
	known = t.asked
	for _, one := range d.Tasks {
		if one.Report == nil || !slices.Contains(tasks, one.Name) || !known {
			continue
		}
		r, err := t.ck.report(ctx, one.Report.Report)
		if db.IsMissing(err) {
			return all, false, nil // told of elsewhere
		}
		if err != nil {
			return all, false, err
		}
		found := t.columns(ctx, r)
		if known = found != nil; known {
			all.all, all.numbers = append(all.all, found.all...), append(all.numbers, found.numbers...)
		}
	}
	return all, known, nil
}
