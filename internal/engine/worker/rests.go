package worker

import (
	"context"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store/queue"
)

// needs is the label of what a fault of a task is about, when that may have failed as
// a whole; empty when it is the task's own.
func needs(t job.Task, f *fault.Fault, report job.Report) string {
	switch {
	case f.Scope == fault.Store:
		return queue.StoreLabel
	case f.Scope != fault.Source:
		return ""
	case t.Query != nil:
		return "source:" + t.Query.Source
	case t.Collect != nil:
		return "source:" + t.Collect.Source
	case t.Report != nil && report.Source != "":
		return "source:" + report.Source
	}
	return ""
}

// rests lets what a task needs rest, when it does not pass a test, and tells whether
// it rests. A task's own fault, such as a query or an identity, is no reason.
func (p *performance) rests(ctx context.Context, t job.Task, f *fault.Fault) (label string, err error) {
	if p.c.Rehearsal || p.w.node.Now().Sub(p.since) > time.Duration(p.plan.GiveUpAfter) {
		return "", nil // whoever rehearses wants to know, and what waited long enough ends
	}
	var rep job.Report
	if t.Report != nil && f.Scope == fault.Source {
		if rep, err = p.base.Report(ctx, t.Report.Report); err != nil {
			return "", nil //nolint:nilerr // the task's own failure says more
		}
	}
	label = needs(t, f, rep)
	if label == "" {
		return "", nil
	}
	said := p.w.rests.LookAtLabel(ctx, label)
	if said == nil || ctx.Err() != nil {
		return "", nil //nolint:nilerr // it works: the fault is the task's own
	}
	return label, p.w.rests.LetRest(ctx, label, said)
}
