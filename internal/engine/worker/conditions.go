package worker

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/settle"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/queue"
	"ironbell/internal/task"
)

// tryAgain gives the part back so that tasks whose result was blank or unusual
// are tried again.
func (p *performance) tryAgain(ctx context.Context, tasks []string, wait time.Duration, over []queue.TaskEnd,
	logs []job.LogLine,
) error {
	err := p.w.store.Do(ctx, func(t *store.Tx) error { return t.RetryTasks(ctx, p.c, tasks) })
	if err == nil {
		p.last = &outcome.Entry{Entry: queue.Entry{
			Claim: p.c, Ends: over, Logs: logs,
			Part: &queue.PartMove{State: job.PartWaiting, Reason: p.held, Wait: wait},
		}}
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
	end := queue.TaskEnd{Attempt: job.Attempt{Part: p.c.Part, Task: t.Name, State: job.AttemptOver, Note: f.Error()}}
	p.failed = &settle.Failure{
		Task: t.Name, Fault: f, Tried: 1, Reason: "lasting: trying again would fail the same way",
	}
	p.drain()
	p.finish(&outcome.Entry{Entry: queue.Entry{Claim: p.c, Ends: []queue.TaskEnd{end}}})
	return nil
}

// judgeFound tells whether what a task acts on is blank or unusual, what is to be
// done, and which tasks found it so.
func (p *performance) judgeFound(t job.Task) (*policy.Found, []string) {
	if p.c.Anyway || t.Kind.Makes() {
		return nil, nil
	}
	due, now := p.since, p.w.node.Now().In(p.since.Location())
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
			found := policy.OnBlank(end.Unusual, p.plan.IfUnusual, p.plan.UnusualThen, p.plan.Retry,
				max(p.blanks[name], 1), due, now)
			return &found, []string{name}
		}
	}
	return nil, nil
}

// tellOwner adds the alerts about what was blank or unusual to an entry.
func (p *performance) tellOwner(en *outcome.Entry) {
	wants := func(kind job.AlertKind) bool { return slices.Contains(p.plan.AlertOn, string(kind)) }
	for _, t := range p.plan.Tasks {
		end := p.ends[t.Name]
		// What is unusual and was held must not stay unseen.
		if end.Unusual != "" && (wants(job.AlertUnusual) || en.Part.State == job.PartBlank) {
			en.Found = append(en.Found, settle.Found{
				Kind: job.AlertUnusual, Task: t.Name, Happened: end.Unusual, Held: en.Part.State == job.PartBlank,
			})
		}
		if end.State == job.AttemptBlank && wants(job.AlertBlank) {
			en.Found = append(en.Found, settle.Found{
				Kind: job.AlertBlank, Task: t.Name, Happened: "blank: " + end.Note,
				Held: en.Part.State == job.PartBlank,
			})
		}
	}
}

// lacking says which values an event lacked that the run was to take from it.
func lacking(given job.Values) *fault.Fault {
	var lost []string
	for _, name := range slices.Sorted(maps.Keys(given)) {
		if why, is := job.Lacks(given[name]); is {
			lost = append(lost, fmt.Sprintf("%s could not be taken from the event: %s", name, why))
		}
	}
	if len(lost) == 0 {
		return nil
	}
	return fault.New(fault.Task, "take the values of the run from the event", strings.Join(lost, "; "),
		"Ring it with the values by hand, or say in the job, as otherwise, what it takes when the event lacks them.")
}

// unknownValues says what is wrong with the values that a run is given: those that
// nothing in its job asks for, by the versions of the reports that it takes. Nothing
// that was given is dropped in silence.
func (p *performance) unknownValues(ctx context.Context) (*fault.Fault, error) {
	if p.plan.Split.Query != nil && p.c.Name == "" {
		return nil, nil //nolint:nilnil // its columns are known when it is divided
	}
	params, err := task.ParametersOf(ctx, p.plan.Definition, p.base.Report)
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
		if db.IsMissing(err) {
			continue // the task says so
		}
		if err != nil {
			return nil, err
		}
		for _, name := range t.Report.Takes {
			if _, given := p.base.Values[name]; given && len(job.Unknown(r.Parameters, job.Values{name: nil})) > 0 {
				if sentence := fmt.Sprintf("report %q takes %q no more, which it took when the job was saved", r.Name,
					name); !slices.Contains(lost, sentence) {
					lost = append(lost, sentence)
				}
			}
		}
	}
	if len(lost) == 0 {
		return nil, nil //nolint:nilnil // nothing is wrong
	}
	return fault.New(fault.Task, "give the reports their values", strings.Join(lost, "; "),
		"A report was changed after the job was saved. Correct the job's values, or the report, then ring "+
			"the job again."), nil
}
