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
	due, now := p.since, p.e.node.Now().In(p.since.Location())
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
func (e *Engine) parameters(ctx context.Context, d job.Definition) ([]job.Parameter, error) {
	return parametersOf(ctx, d, e.report)
}

// findReport finds a report by its name.
type findReport func(ctx context.Context, name string) (job.Report, error)

// parametersOf lists them as reports are found in some way.
func parametersOf(ctx context.Context, d job.Definition, find findReport) ([]job.Parameter, error) {
	var params []job.Parameter
	add := func(more []job.Parameter) {
		for _, p := range more {
			if !slices.ContainsFunc(params, func(q job.Parameter) bool { return q.Name == p.Name && q.Type == p.Type }) {
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
		if store.IsMissing(err) {
			continue // told of elsewhere
		}
		if err != nil {
			return nil, err
		}
		add(r.Parameters)
	}
	return params, nil
}

// unknownValues says what is wrong with the values that a run is given: those that
// nothing in its job asks for, by the versions of the reports that it takes. Nothing
// that was given is dropped in silence.
func (p *performance) unknownValues(ctx context.Context) (*fault.Fault, error) {
	if p.plan.Split.Query != nil && p.c.Name == "" {
		return nil, nil //nolint:nilnil // its columns are known when it is divided
	}
	params, err := parametersOf(ctx, p.plan.Definition, p.base.Report)
	if err != nil {
		return nil, err
	}
	known := slices.Concat(p.plan.Own, []string{p.plan.Split.Each})
	for name := range p.c.Own.V {
		known = append(known, name)
	}
	var lost []string
	for _, name := range job.Unknown(params, p.c.Given.V.Over(p.plan.Values)) {
		if !slices.Contains(known, name) {
			lost = append(lost, job.NoParameter(params, name))
		}
	}
	for _, t := range p.plan.Tasks {
		if t.Report == nil {
			continue
		}
		r, err := p.base.Report(ctx, t.Report.Report)
		if store.IsMissing(err) {
			continue // the task says so
		}
		if err != nil {
			return nil, err
		}
		for _, name := range t.Report.Takes {
			if _, given := p.base.Values[name]; given && len(job.Unknown(r.Parameters, job.Values{name: nil})) > 0 {
				if sentence := fmt.Sprintf("report %q takes %q no more, which it took when the job was saved", r.Name, name); !slices.Contains(lost, sentence) {
					lost = append(lost, sentence)
				}
			}
		}
	}
	if len(lost) == 0 {
		return nil, nil //nolint:nilnil // nothing is wrong
	}
	return fault.New(fault.Task, "give the reports their values", strings.Join(lost, "; "), "A report was changed after the job was saved. Correct the job's values, or the report, then ring the job again."), nil
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
