package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// performance is the work on one part: the chain says what is ready, and each
// task works in a goroutine of its own. All else happens in one goroutine.
type performance struct {
	e    *Engine
	c    store.Claim
	plan *plan
	base task.Work

	ended    chain.Ended
	ends     map[string]store.TaskEnd
	files    map[string][]job.Artifact
	failures map[string]int
	blanks   map[string]int
	working  map[string]bool
	again    []policy.Again // tries to come, of tasks that failed
	waits    map[string]bool
	results  chan done

	last   *entry   // that ends the part or gives it back
	failed *failure // why the part fails, the first
	held   string   // why something was held
	acted  bool     // something was sent or done with what was found
	over   error    // the run's time limit has run out
}

// done is how a try of a task went.
type done struct {
	task job.Task
	try  int
	res  task.Result
	err  error
	took time.Duration
}

// perform carries out the tasks of a part from where they stand, and gives what
// is to be written when they have ended. Its error is about our own records, or
// about having to stop; what goes wrong in a task becomes the outcome of the part.
func (e *Engine) perform(ctx context.Context, c store.Claim) (*entry, error) {
	p, err := e.prepareWork(ctx, c)
	var unfit *fault.Fault
	if errors.As(err, &unfit) {
		return failedPart(c, unfit), nil
	}
	if err != nil {
		return nil, err
	}
	err = p.run(ctx)
	p.drain()
	return p.last, err
}

// run lets task after task begin and hears how they went, until last is set.
func (p *performance) run(ctx context.Context) error {
	c := p.c
	if limit := time.Duration(p.plan.RunLimit); limit > 0 && c.StartedAt != nil {
		var stop context.CancelFunc
		ctx, stop = context.WithDeadlineCause(ctx, c.StartedAt.Add(limit), errRunLimit)
		defer stop()
	}
	for _, name := range sortedKeys(c.Begun) {
		p.begin(ctx, p.task(name), c.Begun[name])
	}
	for {
		goOn, err := p.next(ctx)
		if err != nil || p.last != nil {
			return err
		}
		if !goOn {
			p.end()
			return nil
		}
		d := <-p.results
		delete(p.working, d.task.Name)
		if err := p.hear(ctx, d); err != nil || p.last != nil {
			return err
		}
	}
}

// errRunLimit ends a run that took too long.
var errRunLimit = errors.New("the run took longer than its limit")

// prepareWork reads what a part's work needs. A *fault.Fault says that the part
// cannot be worked on.
func (e *Engine) prepareWork(ctx context.Context, c store.Claim) (*performance, error) {
	pl, err := e.planOf(ctx, c.JobID, c.JobVersion)
	var wrong *fault.Invalid
	if isMissing(err) || errors.As(err, &wrong) {
		return nil, fault.Wrap(err, fault.Lasting, fault.Task, "read the job", "Save the job again, then ring it.")
	}
	if err != nil {
		return nil, err
	}
	place, err := zone.Load(c.Zone)
	if err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Task, "read the job's zone", "Save the job again with another zone.")
	}
	if len(pl.Calendars) > 0 {
		if err := e.times.refresh(ctx, e.store); err != nil {
			return nil, err
		}
	}
	p := &performance{
		e: e, c: c, plan: pl, ended: chain.Ended{}, ends: map[string]store.TaskEnd{}, files: map[string][]job.Artifact{},
		failures: map[string]int{}, blanks: map[string]int{}, working: map[string]bool{}, waits: map[string]bool{}, results: make(chan done, len(pl.Tasks)),
		base: task.Work{
			RunID: c.RunID, Part: c.Part, PartName: c.Name, JobID: c.JobID, Job: c.Job, Nominal: c.Nominal.In(place), Due: c.Due.In(place), Frame: e.frame(pl.Calendars),
			Values: c.Own.V.Over(c.Given.V.Over(pl.Values)), Def: pl.Definition, Columns: pl.totals,
			Params: func(ctx context.Context) ([]job.Parameter, error) { return e.parameters(ctx, pl.Tasks) },
		},
	}
	if c.Rehearsal && c.AskedBy != nil {
		person, err := e.store.PersonByID(ctx, *c.AskedBy)
		if err != nil {
			return nil, err
		}
		p.base.Rehearsal = &person
	}
	if c.Deadline != nil {
		if err := e.warnAt(ctx, c); err != nil {
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

// takeUp goes on where the part's last holder stopped.
func (p *performance) takeUp(ctx context.Context) error {
	var s store.Stand
	err := p.e.store.Do(ctx, func(t *store.Tx) (err error) {
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
		t := p.task(name)
		p.acted = p.acted || end.State == job.AttemptDone && !t.Kind.Makes()
		if (end.State == job.AttemptFailed || end.State == job.AttemptUnknown) && t.IfFailed != job.FailedGoOn && p.failed == nil {
			f := &fault.Fault{Class: fault.Class(end.Class), Scope: fault.Task, Advice: end.Advice, Cause: errors.New(end.Note)}
			p.failed = &failure{task: name, fault: f, tried: end.Try, reason: "it is not done a second time unseen"}
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

// next lets begin what may begin, and tells whether anything works or is to come.
func (p *performance) next(ctx context.Context) (bool, error) {
	if ctx.Err() != nil {
		if errors.Is(context.Cause(ctx), errRunLimit) {
			p.over = errRunLimit
			return len(p.working) > 0, nil
		}
		return false, context.Cause(ctx)
	}
	over := []store.TaskEnd{}
	var logs []job.LogLine
	var begin []job.Task
	pass := func(t job.Task, why string) {
		end := store.TaskEnd{Attempt: job.Attempt{Part: p.c.Part, Task: t.Name, State: job.AttemptOver, Note: why}}
		over = append(over, end)
		logs = append(logs, job.LogLine{Task: t.Name, Text: "passed over: " + why})
		p.ended[t.Name], p.ends[t.Name] = end.State, end
	}
	var retry []string
	var wait time.Duration
	for again := true; again && p.failed == nil; {
		again = false
		for _, m := range p.plan.chain.Next(p.ended, p.busy(begin)) {
			if m.Over != "" {
				pass(m.Task, m.Over)
				again = true
				continue
			}
			if m.Task.OnlyIf != "" {
				holds, err := p.condition(ctx, m.Task)
				if err != nil {
					return false, p.broken(m.Task, err)
				}
				if !holds {
					pass(m.Task, fmt.Sprintf("its condition %s does not hold", m.Task.OnlyIf))
					again = true
					continue
				}
			} else if found, what := p.found(m.Task); found != nil {
				switch found.Do {
				case job.BlankHold:
					p.held = found.Reason
					pass(m.Task, found.Reason)
					again = true
					continue
				case job.BlankFail:
					p.failed = &failure{task: m.Task.Name, fault: fault.New(fault.Task, "check what was found", found.Reason, "See whether the source is complete, then ring the job again."), tried: 1, reason: found.Reason, found: true}
					continue
				case job.BlankRetry:
					retry, wait = append(retry, what...), max(wait, found.Wait)
					p.held = found.Reason
					p.waits[m.Task.Name] = true
					continue
				}
			}
			if len(p.working)+len(begin) < p.plan.SideBySide {
				begin = append(begin, m.Task)
			}
		}
	}
	if len(retry) > 0 && len(p.working) == 0 && len(begin) == 0 {
		return false, p.tryAgain(ctx, retry, wait, over, logs)
	}
	if len(over) > 0 || len(begin) > 0 {
		en := &entry{Entry: store.Entry{Claim: p.c, Ends: over, Logs: logs}}
		for _, t := range begin {
			en.Begin = append(en.Begin, t.Name)
		}
		if err := p.e.record(ctx, en); err != nil {
			return false, err
		}
		for _, t := range begin {
			p.begin(ctx, t, en.Tries[t.Name])
		}
	}
	return len(p.working) > 0, nil
}

// busy are the tasks that are not to be begun now.
func (p *performance) busy(begin []job.Task) map[string]bool {
	busy := make(map[string]bool, len(p.working)+len(begin)+len(p.waits))
	for name := range p.working {
		busy[name] = true
	}
	for name := range p.waits {
		busy[name] = true
	}
	for _, t := range begin {
		busy[t.Name] = true
	}
	return busy
}

// tryAgain gives the part back so that tasks whose result was blank or unusual
// are tried again.
func (p *performance) tryAgain(ctx context.Context, tasks []string, wait time.Duration, over []store.TaskEnd, logs []job.LogLine) error {
	err := p.e.store.Do(ctx, func(t *store.Tx) error { return t.RetryTasks(ctx, p.c, tasks) })
	if err == nil {
		p.last = &entry{Entry: store.Entry{Claim: p.c, Ends: over, Logs: logs, Part: &store.PartMove{State: job.PartWaiting, Reason: p.held, Wait: wait}}}
	}
	return err
}

// begin starts a try of a task.
func (p *performance) begin(ctx context.Context, t job.Task, try int) {
	p.working[t.Name] = true
	w := p.work(t)
	w.Try, w.Log = try, p.printer(ctx, t.Name)
	go func() {
		d := done{task: t, try: try}
		began := time.Now()
		defer func() {
			if broken := recover(); broken != nil {
				p.e.o.Log.Error("a task broke", "run", p.c.RunID.String(), "task", t.Name, "panic", broken)
				d.err = fault.New(fault.Task, "carry out the task", fmt.Sprintf("the service has a fault of its own: %v", broken), "Report it with the log of this time.")
			}
			d.took = time.Since(began)
			p.results <- d
		}()
		kind, ok := p.e.kinds[t.Kind]
		if !ok {
			d.err = fault.New(fault.Task, "carry out the task", fmt.Sprintf("there is no kind %q", t.Kind), "Save the job again.")
			return
		}
		ctx, stop := p.bounded(ctx, t, w.Limit)
		defer stop()
		d.res, d.err = kind.Run(ctx, w, t)
		p.e.crash(crashTask)
	}()
}

// bounded gives a task its time. One that changes something outside may go on
// for a moment when the service stops: broken off it would be unknown.
func (p *performance) bounded(ctx context.Context, t job.Task, limit time.Duration) (context.Context, context.CancelFunc) {
	if !t.Kind.Effects() || t.Repeatable {
		return context.WithTimeout(ctx, limit)
	}
	patient, cancel := context.WithCancelCause(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, func() {
		cause := context.Cause(ctx)
		if errors.Is(cause, errLeaseLost) || errors.Is(cause, errCancelled) || errors.Is(cause, errRunLimit) {
			cancel(cause)
			return
		}
		timer := time.AfterFunc(lastWords, func() { cancel(cause) })
		context.AfterFunc(patient, func() { timer.Stop() })
	})
	bounded, end := context.WithTimeout(patient, limit)
	return bounded, func() {
		end()
		stop()
		cancel(nil)
	}
}

// limit is the longest time of a task.
func (p *performance) limit(t job.Task) time.Duration {
	if t.TimeLimit > 0 {
		return time.Duration(t.TimeLimit)
	}
	return time.Duration(p.plan.TimeLimit)
}

// work is what a task may see now.
func (p *performance) work(t job.Task) task.Work {
	w := p.base
	w.Limit = p.limit(t)
	w.Outcomes, w.RowsOf, w.Totals = map[string]string{}, map[string]int64{}, map[string]float64{}
	for _, name := range p.plan.chain.Before(t.Name) {
		end, ok := p.ends[name]
		if !ok {
			continue
		}
		w.Outcomes[name] = string(end.State)
		w.RowsOf[name] = 0
		if end.Rows != nil {
			w.RowsOf[name] = *end.Rows
		}
		for column, total := range end.Totals {
			w.Totals[column] += total
		}
		if end.Unusual != "" {
			w.Notes = append(w.Notes, fmt.Sprintf("Task %s is %s.", name, end.Unusual))
		}
		if end.State == job.AttemptBlank {
			w.Notes = append(w.Notes, fmt.Sprintf("Nothing was found this time by task %s: %s.", name, end.Note))
		}
	}
	for _, name := range p.plan.chain.Uses(t.Name) {
		w.Files = append(w.Files, p.files[name]...)
	}
	return w
}

// printer writes what a try of a task prints to the run's log.
func (p *performance) printer(ctx context.Context, name string) func(level, text string) {
	printed := 0
	return func(level, text string) {
		if printed++; printed > maxPrinted {
			return
		}
		ctx, stop := ending(ctx)
		defer stop()
		if err := p.e.store.Log(ctx, job.LogLine{Part: p.c.Part, Task: name, Level: level, Text: text}, p.c.RunID); err != nil {
			p.e.o.Log.Warn("could not write to a run's log", "run", p.c.RunID.String(), "error", err)
		}
	}
}

// maxPrinted bounds the lines that one try of a task may log.
const maxPrinted = 1100

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

// hear takes in how a try of a task went, and writes it.
func (p *performance) hear(ctx context.Context, d done) error {
	if d.err == nil {
		return p.succeeded(ctx, d)
	}
	// What was stopped did not fail.
	if cause := context.Cause(ctx); ctx.Err() != nil && !errors.Is(cause, errRunLimit) && !p.effectsUnknown(d) {
		return cause
	}
	name := d.task.Name
	f := fault.Of(d.err)
	if errors.Is(context.Cause(ctx), errRunLimit) {
		f = fault.New(fault.Task, "", fmt.Sprintf("the run took longer than its limit of %s", p.plan.RunLimit), "Make the job faster or its limit longer.")
	} else if errors.Is(d.err, context.DeadlineExceeded) {
		f = fault.New(fault.Task, "", fmt.Sprintf("it took longer than its limit of %s", job.Duration(p.limit(d.task))), "Make the task faster or its time limit longer.")
	}
	again := policy.AfterFault(p.plan.Retry, p.failures[name]+1, f, p.base.Due, p.e.o.Now().In(p.base.Due.Location()))
	end := store.TaskEnd{Again: again.Retry, Attempt: job.Attempt{Part: p.c.Part, Task: name, Try: d.try, State: job.AttemptFailed, Note: f.Error(), Class: string(f.Class), Advice: f.Advice}}
	p.e.o.Log.Warn("a task failed", "run", p.c.RunID.String(), "job", p.c.Job, "task", name, "try", d.try, "class", f.Class, "error", f, "took", d.took.Round(time.Millisecond))
	p.failures[name]++
	en := &entry{Entry: store.Entry{Claim: p.c, Ends: []store.TaskEnd{end}, Logs: []job.LogLine{{Task: name, Level: "error", Text: fmt.Sprintf("try %d failed, %s: %s", d.try, f.Class, f)}}}}
	switch {
	case again.Retry:
		again.Reason = fmt.Sprintf("task %s: %s", name, again.Reason)
		p.again = append(p.again, again)
		p.waits[name] = true
	case d.task.IfFailed == job.FailedGoOn:
		p.ended[name], p.ends[name] = end.State, end
		en.failed = &failure{task: name, fault: f, tried: p.failures[name], reason: again.Reason, goesOn: true}
	default:
		p.ended[name], p.ends[name] = end.State, end
		if p.failed == nil {
			p.failed = &failure{task: name, fault: f, tried: p.failures[name], reason: again.Reason}
		}
	}
	if len(p.working) == 0 && !p.moves() {
		// What ends the part goes with it into one transaction.
		p.finish(en)
		return nil
	}
	return p.e.record(ctx, en)
}

// effectsUnknown tells whether a task that changes something outside failed by
// itself while the service stops, so that its failure is to be written.
func (p *performance) effectsUnknown(d done) bool {
	return d.task.Kind.Effects() && !errors.Is(d.err, context.Canceled)
}

// moves tells whether the chain has anything to do but to wait for tries.
func (p *performance) moves() bool {
	return p.failed == nil && p.over == nil && len(p.plan.chain.Next(p.ended, p.busy(nil))) > 0
}

func (p *performance) succeeded(ctx context.Context, d done) error {
	name, res := d.task.Name, d.res
	end := store.TaskEnd{Totals: res.Totals, Files: res.Files, Attempt: job.Attempt{Part: p.c.Part, Task: name, Try: d.try, State: job.AttemptDone, Note: res.Note}}
	text := res.Note
	if res.Counted {
		end.Rows = &res.Rows
		text = fmt.Sprintf("%d rows; %s", res.Rows, res.Note)
	}
	en := &entry{Entry: store.Entry{Claim: p.c}}
	switch {
	case res.Blank:
		end.State = job.AttemptBlank
		p.blanks[name]++
	case d.task.Kind == job.KindReport && (p.plan.Usual != job.Usual{}):
		past, err := p.e.store.PastRows(ctx, p.c, name, policy.GoodRuns)
		if err != nil {
			return err
		}
		if is, why := policy.Unusual(p.plan.Usual, res.Rows, past); is {
			end.Unusual = why
			p.blanks[name]++
		}
	}
	if res.Message != nil {
		m, run, at := res.Message, p.c.RunID, (*time.Time)(nil)
		if until, ok := policy.RetryEnd(p.plan.Retry, p.base.Due); ok {
			at = &until
		}
		en.Messages = append(en.Messages, store.NewMessage{
			Message: job.Message{RunID: &run, Part: p.c.Part, Task: name, MessageID: m.MessageID, Subject: m.Subject, DestinationID: m.DestinationID, Key: m.Key, Size: m.Size, SHA256: m.SHA256},
			JobID:   &p.c.JobID, Addresses: m.Addresses, Retry: p.plan.Retry, GiveUpAt: at, IfUnknown: p.plan.IfUnknown, Rehearsal: p.c.Rehearsal,
		})
	}
	if res.Event != nil {
		en.events = append(en.events, raised{event: *res.Event})
	}
	p.acted = p.acted || !d.task.Kind.Makes()
	p.ended[name], p.ends[name], p.files[name] = end.State, end, res.Files
	en.Ends = []store.TaskEnd{end}
	if text != "" {
		en.Logs = []job.LogLine{{Task: name, Text: text}}
	}
	if len(p.working) == 0 && len(p.again) == 0 && len(p.plan.chain.Next(p.ended, p.busy(nil))) == 0 {
		// The last task and the end of the part go into one transaction.
		p.finish(en)
		return nil
	}
	return p.e.record(ctx, en)
}

// end ends the part outside of a task.
func (p *performance) end() { p.finish(&entry{Entry: store.Entry{Claim: p.c}}) }

// finish adds the end of the part, or its return for another try, to an entry,
// which is the last one.
func (p *performance) finish(en *entry) {
	p.last = en
	en.lone = p.c.Alone && p.c.Fresh() && !p.plan.sends
	if p.over != nil && p.failed == nil {
		f := fault.New(fault.Task, "", fmt.Sprintf("the run took longer than its limit of %s", p.plan.RunLimit), "Make the job faster or its limit longer.")
		p.failed = &failure{fault: f, tried: 1, reason: "the time of the run was spent"}
	}
	if p.failed != nil {
		what := "the run"
		if p.failed.task != "" {
			what = "task " + p.failed.task
		}
		reason := fmt.Sprintf("%s failed: %s (%s)", what, p.failed.fault, p.failed.reason)
		if p.failed.found {
			reason = p.failed.reason
		}
		en.Part = &store.PartMove{State: job.PartFailed, Reason: reason}
		en.failed = p.failed
		return
	}
	if len(p.again) > 0 {
		first := slices.MinFunc(p.again, func(a, b policy.Again) int { return int(a.Wait - b.Wait) })
		en.Part = &store.PartMove{State: job.PartWaiting, Reason: first.Reason, Wait: first.Wait}
		return
	}
	state, reason := p.plan.chain.Outcome(p.ended)
	if p.held != "" && !p.acted && state != job.PartPartly {
		state, reason = job.PartBlank, p.held
	}
	en.Part = &store.PartMove{State: state, Reason: reason}
	p.tell(en)
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

// drain waits for the tasks that still work, whose results nobody wants.
func (p *performance) drain() {
	for len(p.working) > 0 {
		d := <-p.results
		delete(p.working, d.task.Name)
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
		r, err := e.store.Report(ctx, t.Report.Report)
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

func sortedKeys(m map[string]int) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
