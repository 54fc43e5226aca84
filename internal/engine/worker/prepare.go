package worker

import (
	"context"
	"errors"
	"strings"
	"sync"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/zone"
	"ironbell/internal/engine/settle"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/sending"
	"ironbell/internal/task"
)

// prepareWork reads what a part's work needs. A *fault.Fault says that the part
// cannot be worked on.
func (w *Worker) prepareWork(ctx context.Context, c queue.Claim) (*performance, error) {
	pl, err := w.planOf(ctx, c.JobID, c.JobVersion)
	var wrong *fault.Invalid
	if db.IsMissing(err) || errors.As(err, &wrong) {
		return nil, fault.Wrap(err, fault.Lasting, fault.Task, "read the job", "Save the job again, then ring it.")
	}
	if err != nil {
		return nil, err
	}
	place, err := zone.Load(c.Zone)
	if err != nil {
		return nil,
			fault.Wrap(err, fault.Lasting, fault.Task, "read the job's zone", "Save the job again with another zone.")
	}
	if len(pl.Calendars) > 0 {
		if err := w.times.Refresh(ctx, w.store); err != nil {
			return nil, err
		}
	}
	p := &performance{
		w: w, c: c, plan: pl, ended: chain.Ended{}, ends: map[string]queue.TaskEnd{},
		files:    map[string][]job.Artifact{},
		failures: map[string]int{}, blanks: map[string]int{}, working: map[string]bool{}, waits: map[string]bool{},
		results: make(chan done, len(pl.Tasks)),
		undone:  map[string]int{},
		base: task.Work{
			RunID: c.RunID, Part: c.Part, PartName: c.Name, JobID: c.JobID, Job: c.Job, Nominal: c.Nominal.In(place),
			Due: c.Due.In(place), Frame: w.times.Frame(pl.Calendars),
			Values: c.Own.V.Over(c.Given.V.Over(pl.Values)), Def: pl.Definition, Columns: pl.totals,
			First:  pl.cells,
			Report: w.reportsOf(c),
		},
	}
	p.base.Params = func(ctx context.Context) ([]job.Parameter, error) {
		return task.ParametersOf(ctx, pl.Definition, p.base.Report)
	}
	if !c.Alone {
		p.base.Siblings = func(ctx context.Context) ([]sending.Sibling, error) { return w.store.Siblings(ctx, c.RunID) }
	}
	p.since = c.Due
	if c.MadeAt.After(c.Due) {
		p.since = c.MadeAt // a run for a past date, or one that was let go on
	}
	p.since = p.since.In(place)
	p.own()
	if c.Correction != "" && c.Again != nil {
		p.base.Corrects, p.base.Correction = *c.Again, c.Correction
	}
	if c.Rehearsal && c.AskedBy != nil {
		person, err := w.store.PersonByID(ctx, *c.AskedBy)
		if err != nil {
			return nil, err
		}
		p.base.Rehearsal = &person
	}
	if c.Deadline != nil {
		if err := w.runs.WarnAt(ctx, c); err != nil {
			return nil, err
		}
	}
	if !c.Fresh() {
		if err := p.takeUp(ctx); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// reportsOf finds reports in the versions that a run takes, each asked for once.
func (w *Worker) reportsOf(c queue.Claim) task.FindReport {
	var mu sync.Mutex
	found := map[string]job.Report{}
	return func(ctx context.Context, name string) (job.Report, error) {
		mu.Lock()
		defer mu.Unlock()
		if r, ok := found[name]; ok {
			return r, nil
		}
		r, err := w.store.ReportOf(ctx, c.RunID, name, c.MadeAt)
		if err == nil {
			found[name] = r
		}
		return r, err
	}
}

// takeUp goes on where the part's last holder stopped.
func (p *performance) takeUp(ctx context.Context) error {
	var s queue.Stand
	err := p.w.store.Do(ctx, func(t *store.Tx) (err error) {
		s, err = t.TakeUp(ctx, p.c, func(name string) bool {
			t := p.task(name)
			return t.Kind.Effects() && !t.Repeatable
		})
		return err
	})
	if err != nil {
		return err
	}
	p.failures, p.blanks = s.Failures, s.Blanks
	for name, end := range s.Ended {
		p.ended[name], p.ends[name] = end.State, end
		if end.State == job.AttemptOver && strings.HasSuffix(end.Note, policy.Held) {
			p.held = end.Note
		}
		t := p.task(name)
		p.acted = p.acted || end.State == job.AttemptDone && !t.Kind.Makes()
		if (end.State == job.AttemptFailed || end.State == job.AttemptUnknown) && t.IfFailed != job.FailedGoOn &&
			p.failed == nil {
			f := &fault.Fault{
				Class: fault.Class(end.Class), Scope: fault.Task, Advice: end.Advice, Cause: errors.New(end.Note),
			}
			p.failed = &settle.Failure{
				Task: name, Fault: f, Tried: end.Try, Reason: "it is not done a second time unseen",
			}
		}
	}
	for _, f := range s.Files {
		p.files[f.Task] = append(p.files[f.Task], f)
	}
	return nil
}

func (p *performance) task(name string) job.Task {
	for _, t := range p.plan.Tasks {
		if t.Name == name {
			return t
		}
	}
	return job.Task{Name: name}
}
