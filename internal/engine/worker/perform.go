package worker

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/zone"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/settle"
	"ironbell/internal/render"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// performance is the work on one part: the chain says what is ready, and each
// task works in a goroutine of its own. All else happens in one goroutine.
type performance struct {
	w     *Worker
	c     store.Claim
	plan  *plan
	base  task.Work
	since time.Time // from when its retries are reckoned: when it was due, or made for an earlier date

	ended    chain.Ended
	ends     map[string]store.TaskEnd
	files    map[string][]job.Artifact
	failures map[string]int
	blanks   map[string]int
	working  map[string]bool
	again    []policy.Again // tries to come, of tasks that failed
	waits    map[string]bool
	results  chan done
	stopping context.Context //nolint:containedctx // once it has ended, no task begins
	undone   map[string]int  // tasks that were broken off and changed nothing outside, to their tries

	last   *outcome.Entry  // that ends the part or gives it back
	failed *settle.Failure // why the part fails, the first
	held   string          // why something was held
	acted  bool            // something was sent or done with what was found
	over   error           // the run's time limit has run out
}

// perform carries out the tasks of a part from where they stand, and gives what
// is to be written when they have ended. Its error is about our own records, or
// about having lost the part; what goes wrong in a task becomes the outcome of the part.
// Once stopping has ended no task begins; the part is given back when those that work
// have ended, or when ctx ends.
func (w *Worker) perform(ctx, stopping context.Context, c store.Claim) (*outcome.Entry, error) {
	p, err := w.prepareWork(ctx, c)
	var unfit *fault.Fault
	if errors.As(err, &unfit) {
		return outcome.FailedPart(c, unfit), nil
	}
	if err != nil {
		return nil, err
	}
	if err = p.split(ctx); err != nil {
		return p.undivided(ctx, err)
	}
	switch lost, err := p.unknownValues(ctx); {
	case err != nil:
		return nil, err
	case lost != nil:
		return outcome.FailedPart(p.c, lost), nil
	}
	p.stopping = stopping
	err = p.run(ctx)
	p.drain()
	if cause := context.Cause(ctx); err != nil && errors.Is(err, errStopped) && !errors.Is(cause, lease.ErrLost) && !errors.Is(cause, lease.ErrCancelled) {
		return w.handBack(c, slices.Sorted(maps.Keys(p.undone)), p.undone), nil
	}
	return p.last, err
}

// errStopped ends the work on a part that is to be given back.
var errStopped = errors.New("the service stops")

// undivided ends a part whose run could not be divided: it is blank when there is
// nothing to run for, and tried again as its job says when that may help.
func (p *performance) undivided(ctx context.Context, err error) (*outcome.Entry, error) {
	var f *fault.Fault
	switch {
	case errors.Is(err, task.ErrNoParts):
		return &outcome.Entry{Entry: store.Entry{Claim: p.c, Part: &store.PartMove{State: job.PartBlank, Reason: err.Error()}, Logs: []job.LogLine{{Text: err.Error()}}}}, nil
	case !errors.As(err, &f):
		return nil, err
	}
	if q := p.plan.Split.Query; q != nil && f.Scope == fault.Source {
		if label, restErr := p.rests(ctx, job.Task{Query: &job.QueryTask{Source: q.Source}}, f); restErr != nil || label != "" {
			reason := fmt.Sprintf("waits for source %s: %s", q.Source, f)
			return &outcome.Entry{Entry: store.Entry{Claim: p.c, Part: &store.PartMove{State: job.PartWaiting, Reason: reason}, Logs: []job.LogLine{{Level: "warn", Text: reason}}}}, restErr
		}
	}
	again := policy.AfterFault(p.plan.Retry, int(p.c.LeaseNo), f, p.since, p.w.node.Now().In(p.since.Location()))
	if again.Retry {
		return &outcome.Entry{Entry: store.Entry{
			Claim: p.c, Part: &store.PartMove{State: job.PartWaiting, Wait: again.Wait, Reason: fmt.Sprintf("waits to be divided again: %s", f)}, Logs: []job.LogLine{{Level: "warn", Text: f.Error() + "; " + again.Reason}},
		}}, nil
	}
	last := outcome.FailedPart(p.c, f)
	last.Failed.Reason = again.Reason
	return last, nil
}

// run lets task after task begin and hears how they went, until last is set.
func (p *performance) run(ctx context.Context) error {
	c := p.c
	if limit := time.Duration(p.plan.RunLimit); limit > 0 && c.StartedAt != nil {
		var stop context.CancelFunc
		ctx, stop = context.WithDeadlineCause(ctx, c.StartedAt.Add(limit), errRunLimit)
		defer stop()
	}
	for _, name := range slices.Sorted(maps.Keys(c.Begun)) {
		if p.stopping.Err() != nil {
			p.undone[name] = c.Begun[name]
			continue
		}
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
func (w *Worker) prepareWork(ctx context.Context, c store.Claim) (*performance, error) {
	pl, err := w.planOf(ctx, c.JobID, c.JobVersion)
	var wrong *fault.Invalid
	if store.IsMissing(err) || errors.As(err, &wrong) {
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
		if err := w.times.Refresh(ctx, w.store); err != nil {
			return nil, err
		}
	}
	p := &performance{
		w: w, c: c, plan: pl, ended: chain.Ended{}, ends: map[string]store.TaskEnd{}, files: map[string][]job.Artifact{},
		failures: map[string]int{}, blanks: map[string]int{}, working: map[string]bool{}, waits: map[string]bool{}, results: make(chan done, len(pl.Tasks)),
		undone: map[string]int{},
		base: task.Work{
			RunID: c.RunID, Part: c.Part, PartName: c.Name, JobID: c.JobID, Job: c.Job, Nominal: c.Nominal.In(place), Due: c.Due.In(place), Frame: w.times.Frame(pl.Calendars),
			Values: c.Own.V.Over(c.Given.V.Over(pl.Values)), Def: pl.Definition, Columns: pl.totals,
			Report: w.reportsOf(c),
		},
	}
	p.base.Params = func(ctx context.Context) ([]job.Parameter, error) {
		return task.ParametersOf(ctx, pl.Definition, p.base.Report)
	}
	if !c.Alone {
		p.base.Siblings = func(ctx context.Context) ([]store.Sibling, error) { return w.store.Siblings(ctx, c.RunID) }
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
func (w *Worker) reportsOf(c store.Claim) task.FindReport {
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
	var s store.Stand
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
		if (end.State == job.AttemptFailed || end.State == job.AttemptUnknown) && t.IfFailed != job.FailedGoOn && p.failed == nil {
			f := &fault.Fault{Class: fault.Class(end.Class), Scope: fault.Task, Advice: end.Advice, Cause: errors.New(end.Note)}
			p.failed = &settle.Failure{Task: name, Fault: f, Tried: end.Try, Reason: "it is not done a second time unseen"}
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
		if len(p.working) > 0 {
			return true, nil // what ended well is heard and kept
		}
		return false, errors.Join(errStopped, context.Cause(ctx))
	}
	if p.stopping.Err() != nil && p.failed == nil && (len(p.undone) > 0 || p.moves()) {
		if len(p.working) > 0 {
			return true, nil
		}
		return false, errStopped
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
					p.failed = &settle.Failure{Task: m.Task.Name, Fault: fault.New(fault.Task, "check what was found", found.Reason, "See whether the source is complete, then ring the job again."), Tried: 1, Reason: found.Reason, Found: true}
					continue
				case job.BlankRetry:
					// Looked at again each time, until nothing else is to be done.
					retry, wait = append(retry, what...), max(wait, found.Wait)
					p.held = found.Reason
					continue
				}
			}
			why, err := p.w.installation.LeftOut(ctx, m.Task)
			if err != nil {
				return false, err
			}
			if why != "" {
				pass(m.Task, why)
				again = true
				continue
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
		en := &outcome.Entry{Entry: store.Entry{Claim: p.c, Ends: over, Logs: logs}}
		for _, t := range begin {
			en.Begin = append(en.Begin, t.Name)
		}
		if err := p.w.outcome.Record(ctx, en); err != nil {
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
				p.w.node.Log.Error("a task broke", "run", p.c.RunID.String(), "task", t.Name, "panic", broken)
				d.err = fault.New(fault.Task, "carry out the task", fmt.Sprintf("the service has a fault of its own: %v", broken), "Report it with the log of this time.")
			}
			d.took = time.Since(began)
			p.results <- d
		}()
		kind, ok := p.w.kinds[t.Kind]
		if !ok {
			d.err = fault.New(fault.Task, "carry out the task", fmt.Sprintf("there is no kind %q", t.Kind), "Save the job again.")
			return
		}
		ctx, stop := context.WithTimeout(ctx, w.Limit)
		defer stop()
		d.res, d.err = kind.Run(ctx, w, t)
		p.w.node.Crash(crash.Task)
	}()
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
		for _, f := range p.files[name] {
			if f.Format != render.RowsKept { // they stay with the run
				w.Files = append(w.Files, f)
			}
		}
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
		ctx, stop := node.Ending(ctx)
		defer stop()
		if err := p.w.store.Log(ctx, job.LogLine{Part: p.c.Part, Task: name, Level: level, Text: text}, p.c.RunID); err != nil {
			p.w.node.Log.Warn("could not write to a run's log", "run", p.c.RunID.String(), "error", err)
		}
	}
}

// maxPrinted bounds the lines that one try of a task may log.
const maxPrinted = 1100
