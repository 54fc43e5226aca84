package service

import (
	"context"
	"fmt"
	"regexp"
	"slices"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/report"
)

// valueForm is what names of values look like.
var valueForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// splitNames are the values that each part of a job has of its own. What is wrong
// with the split is added to v.
func (ck *checks) splitNames(ctx context.Context, v *fault.Invalid, d job.Definition) ([]string, error) {
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
		source, err := ck.sources.Get(ctx, s.Query.Source, s.Query.Identity)
		if err != nil {
			v.Add("split.query", "%s", err)
			return names, nil
		}
		bounded, stop := context.WithTimeout(ctx, checkLimit)
		defer stop()
		columns, err := source.Describe(bounded, report.Query{
			SQL: s.Query.SQL, Params: s.Query.Parameters, Zone: "UTC", Limit: checkLimit,
		})
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
