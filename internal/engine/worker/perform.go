package worker

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/settle"
	"ironbell/internal/store/queue"
	"ironbell/internal/task"
)

// performance is the work on one part: the chain says what is ready, and each
// task works in a goroutine of its own. All else happens in one goroutine.
type performance struct {
	w     *Worker
	c     queue.Claim
	plan  *plan
	base  task.Work
	since time.Time // from when its retries are reckoned: when it was due, or made for an earlier date

	ended    chain.Ended
	ends     map[string]queue.TaskEnd
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
func (w *Worker) perform(ctx, stopping context.Context, c queue.Claim) (*outcome.Entry, error) {
	p, err := w.prepareWork(ctx, c)
	var unfit *fault.Fault
	if errors.As(err, &unfit) {
		return outcome.FailedPart(c, unfit), nil
	}
	if err != nil {
		return nil, err
	}
	if f := lacking(p.c.Given.V); f != nil {
		return outcome.FailedPart(p.c, f), nil // before its values divide it
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
	if cause := context.Cause(ctx); err != nil && errors.Is(err, errStopped) && !errors.Is(cause, lease.ErrLost) &&
		!errors.Is(cause, lease.ErrCancelled) {
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
		return &outcome.Entry{Entry: queue.Entry{
			Claim: p.c, Part: &queue.PartMove{State: job.PartBlank, Reason: err.Error()},
			Logs: []job.LogLine{{Text: err.Error()}},
		}}, nil
	case !errors.As(err, &f):
		return nil, err
	}
	if q := p.plan.Split.Query; q != nil && f.Scope == fault.Source {
		if label, restErr := p.rests(ctx, job.Task{Query: &job.QueryTask{Source: q.Source}}, f); restErr != nil ||
			label != "" {
			reason := fmt.Sprintf("waits for source %s: %s", q.Source, f)
			return &outcome.Entry{Entry: queue.Entry{
				Claim: p.c, Part: &queue.PartMove{State: job.PartWaiting, Reason: reason},
				Logs: []job.LogLine{{Level: "warn", Text: reason}},
			}}, restErr
		}
	}
	again := policy.AfterFault(p.plan.Retry, int(p.c.LeaseNo), f, p.since, p.w.node.Now().In(p.since.Location()))
	if again.Retry {
		return &outcome.Entry{Entry: queue.Entry{
			Claim: p.c,
			Part: &queue.PartMove{
				State: job.PartWaiting, Wait: again.Wait, Reason: fmt.Sprintf("waits to be divided again: %s", f),
			}, Logs: []job.LogLine{{Level: "warn", Text: f.Error() + "; " + again.Reason}},
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
		if err := p.judge(ctx, d); err != nil || p.last != nil {
			return err
		}
	}
}

// errRunLimit ends a run that took too long.
var errRunLimit = errors.New("the run took longer than its limit")

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
	over := []queue.TaskEnd{}
	var logs []job.LogLine
	var begin []job.Task
	pass := func(t job.Task, why string) {
		end := queue.TaskEnd{Attempt: job.Attempt{Part: p.c.Part, Task: t.Name, State: job.AttemptOver, Note: why}}
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
			} else if found, what := p.judgeFound(m.Task); found != nil {
				switch found.Do {
				case job.BlankHold:
					p.held = found.Reason
					pass(m.Task, found.Reason)
					again = true
					continue
				case job.BlankFail:
					p.failed = &settle.Failure{
						Task: m.Task.Name,
						Fault: fault.New(fault.Task, "check what was found", found.Reason,
							"See whether the source is complete, then ring the job again."), Tried: 1,
						Reason: found.Reason, Found: true,
					}
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
		en := &outcome.Entry{Entry: queue.Entry{Claim: p.c, Ends: over, Logs: logs}}
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
