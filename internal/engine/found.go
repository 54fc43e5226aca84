package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/store"
)

// tryAgain gives the part back so that tasks whose result was blank or unusual
// are tried again.
func (p *performance) tryAgain(ctx context.Context, tasks []string, wait time.Duration, over []store.TaskEnd, logs []job.LogLine) error {
	err := p.e.store.Do(ctx, func(t *store.Tx) error { return t.RetryTasks(ctx, p.c, tasks) })
	if err == nil {
		p.last = &entry{Entry: store.Entry{Claim: p.c, Ends: over, Logs: logs, Part: &store.PartMove{State: job.PartWaiting, Reason: p.held, Wait: wait}}}
	}
	return err
}

// condition decides a task's only_if.
func (p *performance) condition(ctx context.Context, t job.Task) (bool, error) {
	names, facts, err := p.work(t).Facts(ctx)
	if err != nil {
		return false, err
	}
	c, err := expr.ParseCondition(t.OnlyIf, names)
	if err != nil {
		return false, fault.Wrap(err, fault.Lasting, fault.Task, "read only_if", "Correct the condition in the job.")
	}
	holds, err := c.Holds(facts)
	if err != nil {
		return false, fault.Wrap(err, fault.Lasting, fault.Task, "decide only_if", "Correct the condition in the job.")
	}
	return holds, nil
}

// broken ends the part at a task whose condition could not be decided.
func (p *performance) broken(t job.Task, err error) error {
	var f *fault.Fault
	if !errors.As(err, &f) {
		return err
	}
	end := store.TaskEnd{Attempt: job.Attempt{Part: p.c.Part, Task: t.Name, State: job.AttemptOver, Note: f.Error()}}
	p.failed = &failure{task: t.Name, fault: f, tried: 1, reason: "lasting: trying again would fail the same way"}
	p.drain()
	p.finish(&entry{Entry: store.Entry{Claim: p.c, Ends: []store.TaskEnd{end}}})
	return nil
}

// found tells whether what a task acts on is blank or unusual, what is to be
// done, and which tasks found it so.
func (p *performance) found(t job.Task) (*policy.Found, []string) {
	if p.c.Anyway || t.Kind.Makes() {
		return nil, nil
	}
	due, now := p.base.Due, p.e.o.Now().In(p.base.Due.Location())
	if blank, makers := p.plan.chain.Blank(t.Name, p.ended); blank {
		tries := 1
		for _, m := range makers {
			tries = max(tries, p.blanks[m])
		}
		what := fmt.Sprintf("blank: %s found nothing", strings.Join(makers, ", "))
		found := policy.OnBlank(what, p.plan.IfBlank, p.plan.BlankThen, p.plan.Retry, tries, due, now)
		return &found, makers
	}
	for _, name := range p.plan.chain.Before(t.Name) {
		if end := p.ends[name]; end.Unusual != "" {
			found := policy.OnBlank(end.Unusual, p.plan.IfUnusual, p.plan.UnusualThen, p.plan.Retry, max(p.blanks[name], 1), due, now)
			return &found, []string{name}
		}
	}
	return nil, nil
}

// tell adds the alerts about what was blank or unusual to an entry.
func (p *performance) tell(en *entry) {
	wants := func(kind job.AlertKind) bool { return slices.Contains(p.plan.AlertOn, string(kind)) }
	for _, t := range p.plan.Tasks {
		end := p.ends[t.Name]
		// What is unusual and was held must not stay unseen.
		if end.Unusual != "" && (wants(job.AlertUnusual) || en.Part.State == job.PartBlank) {
			en.found = append(en.found, alertOf{kind: job.AlertUnusual, task: t.Name, happened: end.Unusual, held: en.Part.State == job.PartBlank})
		}
		if end.State == job.AttemptBlank && wants(job.AlertBlank) {
			en.found = append(en.found, alertOf{kind: job.AlertBlank, task: t.Name, happened: "blank: " + end.Note, held: en.Part.State == job.PartBlank})
		}
	}
}

// parameters lists the parameters of the reports and statements of some tasks.
func (e *Engine) parameters(ctx context.Context, tasks []job.Task) ([]job.Parameter, error) {
	var params []job.Parameter
	add := func(more []job.Parameter) {
		for _, p := range more {
			if !slices.ContainsFunc(params, func(q job.Parameter) bool { return q.Name == p.Name && q.Type == p.Type }) {
				params = append(params, p)
			}
		}
	}
	for _, t := range tasks {
		if t.Query != nil {
			add(t.Query.Parameters)
		}
		if t.Report == nil {
			continue
		}
		r, err := e.report(ctx, t.Report.Report)
		if isMissing(err) {
			continue // told of elsewhere
		}
		if err != nil {
			return nil, err
		}
		add(r.Parameters)
	}
	return params, nil
}

// wantedTotals lists the columns whose totals the tasks' conditions and texts
// ask for.
func wantedTotals(tasks []job.Task) []string {
	text, err := json.Marshal(tasks)
	if err != nil {
		return nil // what was read from JSON can be written as JSON
	}
	return expr.TotalsOf(string(text))
}
