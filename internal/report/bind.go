package report

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
	"ironbell/internal/core/rows"
)

// Bind checks the values of a query's parameters, also against the choices that
// come from queries. The error is a *fault.Invalid that names each parameter, or
// the fault of a source that did not answer.
func Bind(ctx context.Context, source Source, q Query, given job.Values, nominal time.Time,
	f moment.Frame,
) ([]job.Bound, error) {
	return job.BindWith(q.Params, given, nominal, f, func(p job.Parameter, sofar []job.Bound) ([]job.Choice, error) {
		return Choices(ctx, source, q, p, sofar)
	})
}

// Choices gives the choices of a parameter: those of its list, or those that its
// query gives with the values of the parameters before it.
func Choices(ctx context.Context, source Source, q Query, p job.Parameter, sofar []job.Bound) ([]job.Choice, error) {
	if p.Choices == nil || p.Choices.SQL == "" {
		if p.Choices == nil {
			return nil, nil
		}
		return p.Choices.List, nil
	}
	to := &choices{p: p}
	q.SQL, q.Values, q.Rows = p.Choices.SQL, sofar, job.MaxChoices+1
	if _, err := source.Stream(ctx, q, "choices of "+p.Called(), to); err != nil {
		return nil, err
	}
	if len(to.found) > job.MaxChoices {
		return nil,
			fault.New(fault.Task, "list the choices of "+p.Called(),
				fmt.Sprintf("its query gives more than %d", job.MaxChoices), "Restrict the query of the choices.")
	}
	return to.found, nil
}

// choices gathers values and labels.
type choices struct {
	p     job.Parameter
	found []job.Choice
	kind  rows.Kind
}

func (c *choices) Columns(_ string, columns []rows.Column) error {
	if len(columns) == 0 || len(columns) > 2 {
		return fault.Wrap(errors.New("the query of the choices gives a value and perhaps a label, and no other columns"), fault.Lasting, fault.Task, "list the choices of "+c.p.Called(), "Correct the query in the report.")
	}
	c.kind = columns[0].Kind
	return nil
}

func (c *choices) Row(row rows.Row) error {
	if row[0].Null {
		return nil
	}
	choice := job.Choice{Value: string(row[0].Text)}
	if c.kind == rows.YesNo {
		choice.Value = fmt.Sprint(row[0].True())
	}
	if len(row) > 1 && !row[1].Null {
		choice.Label = string(row[1].Text)
	}
	c.found = append(c.found, choice)
	return nil
}
