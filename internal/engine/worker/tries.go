package worker

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/settle"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/sending"
	"ironbell/internal/task"
)

// done is how a try of a task went.
type done struct {
	task job.Task
	try  int
	res  task.Result
	err  error
	took time.Duration
}

// judge takes in how a try of a task went, and writes it.
func (p *performance) judge(ctx context.Context, d done) error {
	if d.err == nil {
		return p.succeeded(ctx, d)
	}
	// What was stopped did not fail.
	if cause := context.Cause(ctx); ctx.Err() != nil && !errors.Is(cause, errRunLimit) && !p.effectsUnknown(d) {
		if errors.Is(cause, lease.ErrLost) || errors.Is(cause, lease.ErrCancelled) {
			return cause
		}
		if !d.task.Kind.Effects() || d.task.Repeatable {
			p.undone[d.task.Name] = d.try
		} // otherwise nobody knows how far it came, and whoever takes the part up says so
		return nil
	}
	name := d.task.Name
	f := fault.Of(d.err)
	if errors.Is(context.Cause(ctx), errRunLimit) {
		f = fault.New(fault.Task, "", fmt.Sprintf("the run took longer than its limit of %s", p.plan.RunLimit),
			"Make the job faster or its limit longer.")
	} else if errors.Is(d.err, context.DeadlineExceeded) {
		f = fault.New(fault.Task, "", fmt.Sprintf("it took longer than its limit of %s", job.Duration(p.limit(d.task))),
			"Make the task faster or its time limit longer.")
	}
	label, err := p.rests(ctx, d.task, f)
	if err != nil {
		return err
	}
	if label != "" {
		return p.waitFor(ctx, d, f, label)
	}
	again := policy.AfterFault(p.plan.Retry, p.failures[name]+1, f, p.since, p.w.node.Now().In(p.since.Location()))
	end := queue.TaskEnd{
		Again: again.Retry,
		Attempt: job.Attempt{
			Part: p.c.Part, Task: name, Try: d.try, State: job.AttemptFailed, Note: f.Error(), Class: string(f.Class),
			Advice: f.Advice,
		},
	}
	p.w.node.Log.Warn("a task failed", "run", p.c.RunID.String(), "job", p.c.Job, "task", name, "try", d.try, "class",
		f.Class, "error", f, "took", d.took.Round(time.Millisecond))
	p.failures[name]++
	en := &outcome.Entry{Entry: queue.Entry{
		Claim: p.c, Ends: []queue.TaskEnd{end},
		Logs: []job.LogLine{{
			Task: name, Level: "error", Text: fmt.Sprintf("try %d failed, %s: %s", d.try, f.Class, f),
		}},
	}}
	switch {
	case again.Retry:
		again.Reason = fmt.Sprintf("task %s: %s", name, again.Reason)
		p.again = append(p.again, again)
		p.waits[name] = true
	case d.task.IfFailed == job.FailedGoOn:
		p.ended[name], p.ends[name] = end.State, end
		en.Failed = &settle.Failure{Task: name, Fault: f, Tried: p.failures[name], Reason: again.Reason, GoesOn: true}
	default:
		p.ended[name], p.ends[name] = end.State, end
		if p.failed == nil {
			p.failed = &settle.Failure{Task: name, Fault: f, Tried: p.failures[name], Reason: again.Reason}
		} else {
			p.failed.Also = append(p.failed.Also, fmt.Sprintf("task %s failed, too: %s", name, f))
		}
	}
	if len(p.working) == 0 && !p.moves() {
		// What ends the part goes with it into one transaction.
		p.finish(en)
		return nil
	}
	return p.w.outcome.Record(ctx, en)
}

// waitFor gives the part back until what a task needs works again. That is no try of
// the job's: nothing was wrong with it.
func (p *performance) waitFor(ctx context.Context, d done, f *fault.Fault, label string) error {
	what := "source " + strings.TrimPrefix(label, "source:")
	if label == queue.StoreLabel {
		what = "the store of artifacts"
	}
	reason := fmt.Sprintf("waits for %s: %s", what, f)
	end := queue.TaskEnd{
		Again: true,
		Attempt: job.Attempt{
			Part: p.c.Part, Task: d.task.Name, Try: d.try, State: job.AttemptLost, Note: f.Error(),
			Class: string(f.Class), Advice: f.Advice,
		},
	}
	en := &outcome.Entry{Entry: queue.Entry{
		Claim: p.c, Ends: []queue.TaskEnd{end}, Logs: []job.LogLine{{Task: d.task.Name, Level: "warn", Text: reason}},
	}}
	p.again = append(p.again, policy.Again{Retry: true, Reason: reason})
	p.waits[d.task.Name] = true
	if len(p.working) == 0 && !p.moves() {
		p.finish(en)
		return nil
	}
	return p.w.outcome.Record(ctx, en)
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
	if ctx.Err() != nil {
		// It ended well all the same, and is kept.
		kept, stop := node.Ending(ctx)
		defer stop()
		ctx = kept
	}
	name, res := d.task.Name, d.res
	end := queue.TaskEnd{
		Totals: res.Totals, Cells: res.Cells, Files: res.Files,
		Attempt: job.Attempt{Part: p.c.Part, Task: name, Try: d.try, State: job.AttemptDone, Note: res.Note},
	}
	text := res.Note
	if res.Counted {
		end.Rows = &res.Rows
		text = fmt.Sprintf("%d rows; %s", res.Rows, res.Note)
	}
	en := &outcome.Entry{Entry: queue.Entry{Claim: p.c}}
	switch {
	case res.Over != "":
		end.State, end.Note, text = job.AttemptOver, res.Over, "passed over: "+res.Over
	case res.Blank:
		end.State = job.AttemptBlank
		p.blanks[name]++
	case d.task.Kind == job.KindReport && (p.plan.Usual != job.Usual{}):
		past, err := p.w.store.PastRows(ctx, p.c, name, policy.GoodRuns)
		if err != nil {
			return err
		}
		if is, why := policy.Unusual(p.plan.Usual, res.Rows, past); is {
			end.Unusual = why
			p.blanks[name]++
		}
	}
	en.Messages, en.Links = p.messages(name, res.Messages), res.Links
	if res.Event != nil {
		en.Events = append(en.Events, outcome.Raised{Event: *res.Event})
	}
	p.acted = p.acted || !d.task.Kind.Makes() && end.State == job.AttemptDone
	p.ended[name], p.ends[name], p.files[name] = end.State, end, res.Files
	en.Ends = []queue.TaskEnd{end}
	if text != "" {
		en.Logs = []job.LogLine{{Task: name, Text: text}}
	}
	if len(p.working) == 0 && len(p.again) == 0 && len(p.plan.chain.Next(p.ended, p.busy(nil))) == 0 {
		// The last task and the end of the part go into one transaction.
		p.finish(en)
		return nil
	}
	return p.w.outcome.Record(ctx, en)
}

// patienceOf is how the deliveries of a job are tried again.
func patienceOf(d job.Definition) job.Retry {
	if d.Patience.Times == 0 {
		return job.DefaultPatience
	}
	return d.Patience
}

// messages are what a task gives to be handed over, with how that is tried.
func (p *performance) messages(name string, made []task.Message) []sending.NewMessage {
	run := p.c.RunID
	giveUp := p.w.node.Now().Add(time.Duration(p.plan.GiveUpAfter))
	if until, ok := policy.RetryEnd(p.plan.Retry, p.since); ok && until.Before(giveUp) {
		giveUp = until
	}
	out := make([]sending.NewMessage, 0, len(made))
	for _, m := range made {
		m.RunID, m.Part, m.Task = &run, p.c.Part, name
		out = append(out, sending.NewMessage{
			Message: m.Message, JobID: &p.c.JobID, To: m.To, Retry: patienceOf(p.plan.Definition), GiveUpAt: &giveUp,
			IfUnknown: p.plan.IfUnknown, Rehearsal: p.c.Rehearsal,
		})
	}
	return out
}

// end ends the part outside of a task.
func (p *performance) end() { p.finish(&outcome.Entry{Entry: queue.Entry{Claim: p.c}}) }

// finish adds the end of the part, or its return for another try, to an entry,
// which is the last one.
func (p *performance) finish(en *outcome.Entry) {
	p.last = en
	en.Lone = p.c.Alone && p.c.Fresh() && !p.plan.sends
	if p.over != nil && p.failed == nil {
		f := fault.New(fault.Task, "", fmt.Sprintf("the run took longer than its limit of %s", p.plan.RunLimit),
			"Make the job faster or its limit longer.")
		p.failed = &settle.Failure{Fault: f, Tried: 1, Reason: "the time of the run was spent"}
	}
	if p.failed != nil {
		what := "the run"
		if p.failed.Task != "" {
			what = "task " + p.failed.Task
		}
		reason := fmt.Sprintf("%s failed: %s (%s)", what, p.failed.Fault, p.failed.Reason)
		if p.failed.Found {
			reason = p.failed.Reason
		}
		for _, also := range p.failed.Also {
			reason += "; " + also
		}
		en.Part = &queue.PartMove{State: job.PartFailed, Reason: reason}
		en.Failed = p.failed
		return
	}
	if len(p.again) > 0 {
		first := slices.MinFunc(p.again, func(a, b policy.Again) int { return int(a.Wait - b.Wait) })
		en.Part = &queue.PartMove{State: job.PartWaiting, Reason: first.Reason, Wait: first.Wait}
		return
	}
	state, reason := p.plan.chain.Outcome(p.ended)
	if p.held != "" && !p.acted && state != job.PartPartly {
		state, reason = job.PartBlank, p.held
	}
	en.Part = &queue.PartMove{State: state, Reason: reason}
	p.tellOwner(en)
}

// drain waits for the tasks that still work, whose results nobody wants.
func (p *performance) drain() {
	for len(p.working) > 0 {
		d := <-p.results
		delete(p.working, d.task.Name)
	}
}
