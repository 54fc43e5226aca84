package engine

import (
	"context"
	"fmt"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/store"
)

// failure is what an alert tells of a task that failed for good.
type failure struct {
	task   string
	fault  *fault.Fault
	tried  int
	reason string
}

// endPart ends a part outside of a task.
func (e *Engine) endPart(ctx context.Context, c store.Claim, state job.PartState, reason string, f *fault.Fault) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		var failed *failure
		if f != nil {
			failed = &failure{fault: f, tried: 1, reason: "lasting: trying again would fail the same way"}
		}
		return e.settlePart(ctx, t, c, state, reason, failed)
	})
}

// settlePart ends a part, decides on the outcome of its run and opens an alert
// when it failed.
func (e *Engine) settlePart(ctx context.Context, t *store.Tx, c store.Claim, state job.PartState, reason string, failed *failure) error {
	if err := t.EndPart(ctx, c, state, reason); err != nil {
		return err
	}
	if failed != nil {
		run := c.RunID
		what := "the job"
		if failed.task != "" {
			what = "task " + failed.task
		}
		if err := t.OpenAlert(ctx, job.Alert{
			Kind: job.AlertRunFailed, Cause: fmt.Sprintf("run:%d:%s:%s", c.JobID, failed.task, failed.fault.Class), JobID: &c.JobID, RunID: &run,
			Happened: fmt.Sprintf("Run %s failed: %s could not be done. %s.", c.RunID, what, upper(failed.fault.Error())),
			ForWhom:  "nothing was sent to anybody by this run",
			Tried:    failed.reason, Advice: failed.fault.Advice,
		}); err != nil {
			return err
		}
	}
	return e.settleRun(ctx, t, c.RunID)
}

// settleRun gives a run the state that its parts and deliveries make.
func (e *Engine) settleRun(ctx context.Context, t *store.Tx, id job.RunID) error {
	run, err := t.LockRun(ctx, id)
	if err != nil {
		return err
	}
	tally, err := t.Tally(ctx, id)
	if err != nil {
		return err
	}
	state, reason := policy.Outcome(tally)
	if state == job.RunRunning {
		return nil // another part will come by here
	}
	if err := t.MoveRun(ctx, run, state, reason); err != nil {
		return err
	}
	if state == job.RunDone {
		// What this run had failed in was put right.
		return t.CloseAlertsOfRun(ctx, id)
	}
	return nil
}

// deliveryAlert opens or feeds the alert about deliveries of a run that failed
// or are unknown.
func (e *Engine) deliveryAlert(ctx context.Context, t *store.Tx, s store.Sending, kind job.AlertKind, f *fault.Fault, tried string) error {
	deliveries, err := t.Deliveries(ctx, store.DeliveryFilter{RunID: *s.RunID, Limit: 10_000})
	if err != nil {
		return err
	}
	var failed []string
	sent, open := 0, 0
	for _, d := range deliveries {
		switch {
		case d.State == job.DeliverySent:
			sent++
		case d.State.Open():
			open++
		default:
			failed = append(failed, d.Address)
		}
	}
	const shown = 20
	who := strings.Join(failed[:min(len(failed), shown)], ", ")
	if len(failed) > shown {
		who += fmt.Sprintf(" and %d more", len(failed)-shown)
	}
	a := job.Alert{
		Kind: kind, JobID: s.JobID, RunID: s.RunID, Tried: tried, Advice: f.Advice,
		ForWhom: who + "; " + delivered(sent, len(deliveries), open),
	}
	if kind == job.AlertDeliveryUnknown {
		a.Cause = fmt.Sprintf("unknown:%d:%d", *s.JobID, s.DestinationID)
		a.Happened = fmt.Sprintf("Nobody knows whether %d of %d deliveries of run %s arrived. %s.", len(failed), len(deliveries), *s.RunID, upper(f.Error()))
		a.Advice = "Ask the recipient, then settle the delivery: mark it as sent, or send it again."
	} else {
		a.Cause = fmt.Sprintf("delivery:%d:%d:%s", *s.JobID, s.DestinationID, f.Class)
		a.Happened = fmt.Sprintf("Run %s could not be delivered to %d of %d. %s.", *s.RunID, len(failed), len(deliveries), upper(f.Error()))
	}
	return t.OpenAlert(ctx, a)
}

func delivered(sent, all, open int) string {
	text := fmt.Sprintf("%d of %d delivered", sent, all)
	if open > 0 {
		text += fmt.Sprintf(", %d still wait", open)
	}
	return text
}
