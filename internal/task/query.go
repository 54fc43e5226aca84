package task

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/report"
	"ironbell/internal/store/records"
)

// Query is the task kind that runs a statement.
type Query struct{ Sources *report.Sources }

// Help implements Kind.
func (k *Query) Help() Help {
	return Help{
		Kind: job.KindQuery, Summary: "run a statement on a source that allows it",
		Text: "Runs one statement in a transaction of its own, with named parameters whose values come from the job. " +
			"The number of rows that it changed can be asked " +
			"for in conditions. A statement whose node died in the middle is unknown, and not run again by itself " +
			"unless the task is repeatable.",
		Example: job.Task{Name: "mark", Kind: job.KindQuery, Query: &job.QueryTask{
			Source: "ledger", SQL: "UPDATE exports SET sent = true WHERE day = :day",
			Parameters: []job.Parameter{{Name: "day", Type: job.TypeDate, Required: true, Default: "yesterday"}},
		}},
	}
}

// Check implements Kind.
func (k *Query) Check(ctx context.Context, c *Checking, where string, t job.Task) error {
	if _, err := report.PrepareStatement(t.Query.SQL, t.Query.Parameters); err != nil {
		c.V.Add(where+".sql", "%s", err)
	}
	p, ok, err := c.place(ctx, records.Source, where+".source", t.Query.Source)
	if err != nil || !ok {
		return err
	}
	if source, err := k.Sources.Get(ctx, p.Name, ""); err == nil {
		s, can := source.(report.Statements)
		if !can || !s.Executes() {
			c.V.Add(where+".source",
				"the source %q does not allow statements; an administrator can allow them in its settings", p.Name)
			return nil
		}
		ctx, stop := context.WithTimeout(ctx, statementLimit)
		defer stop()
		if err := s.Read(ctx, report.Query{
			SQL: t.Query.SQL, Params: t.Query.Parameters, Zone: "UTC", Limit: statementLimit,
		}); err != nil {
			c.V.Add(where+".sql", "%s", err)
		}
	}
	return nil
}

// statementLimit is how long a source may take to read a statement when it is saved.
const statementLimit = 10 * time.Second

// Run runs the statement.
func (k *Query) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	if w.Rehearsal != nil && !t.Repeatable {
		return rehearsed("the statement was not run; mark the task as repeatable if a rehearsal may run it"), nil
	}
	doing := fmt.Sprintf("run the statement of task %q", t.Name)
	source, err := k.Sources.Get(ctx, t.Query.Source, "")
	if err != nil {
		return Result{}, err
	}
	s, ok := source.(report.Statements)
	if !ok {
		return Result{},
			fault.New(fault.Task, doing, fmt.Sprintf("the source %q takes no statements", t.Query.Source),
				"Name a database as its source.")
	}
	bound, err := job.Bind(t.Query.Parameters, w.Values, w.Nominal, w.Frame)
	if err != nil {
		return Result{},
			fault.Wrap(err, fault.Lasting, fault.Task, doing, "Correct the values of the job, then ring it again.")
	}
	n, err := s.Exec(ctx, report.Query{
		SQL: t.Query.SQL, Params: t.Query.Parameters, Values: bound, Zone: w.Nominal.Location().String(),
		Limit: w.Limit,
	})
	if err != nil {
		return Result{}, err
	}
	return Result{Rows: n, Counted: true, Note: fmt.Sprintf("statement on %q", t.Query.Source)}, nil
}
