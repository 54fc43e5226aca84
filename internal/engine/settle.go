package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/policy"
	"ironbell/internal/store"
)

// failure is what an alert tells of a task that failed for good.
type failure struct {
	task   string
	fault  *fault.Fault
	tried  int
	reason string
	goesOn bool     // the job goes on without it
	found  bool     // it is what was found that counts as a failure
	also   []string // what failed beside it
}

// alertOf is what an alert tells of a result.
type alertOf struct {
	kind     job.AlertKind
	task     string
	happened string
	held     bool
}

// raised is an event that a task raised.
type raised struct{ event job.Event }

// failedPart ends a part that fails outside of a task.
func failedPart(c store.Claim, f *fault.Fault) *entry {
	return &entry{
		Entry:  store.Entry{Claim: c, Part: &store.PartMove{State: job.PartFailed, Reason: f.Error()}},
		failed: &failure{fault: f, tried: 1, reason: "lasting: trying again would fail the same way"},
	}
}

// failureAlert tells the owner of a task that failed for good. Nobody but the
// one who rehearses cares for the failure of a rehearsal, and they watch it.
func (e *Engine) failureAlert(ctx context.Context, t *store.Tx, c store.Claim, failed *failure) error {
	if c.Rehearsal {
		return nil
	}
	run := c.RunID
	what, after := "the job", "nothing was sent to anybody by this run"
	if c.Name != "" {
		after = "its other parts go on"
	}
	if failed.task != "" {
		what = "task " + failed.task
	}
	happened := fmt.Sprintf("Run %s failed: %s could not be done. %s.", c.RunID, what, phrase.Upper(failed.fault.Error()))
	if c.Name != "" {
		happened = fmt.Sprintf("Part %s of run %s failed: %s could not be done. %s.", c.Name, c.RunID, what, phrase.Upper(failed.fault.Error()))
	}
	if failed.goesOn {
		happened = fmt.Sprintf("In run %s %s could not be done, and the job goes on without it. %s.", c.RunID, what, phrase.Upper(failed.fault.Error()))
		after = "what the job makes without it is sent"
	}
	for _, also := range failed.also {
		happened += " " + phrase.Upper(also) + "."
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertRunFailed, Cause: fmt.Sprintf("run:%d:%s:%s", c.JobID, failed.task, failed.fault.Class), JobID: &c.JobID, RunID: &run,
		Happened: happened, ForWhom: after, Tried: phrase.Sentence(failed.reason), Advice: failed.fault.Advice, Next: "Nothing more by itself until its next ring.",
	})
}

// badRecipients tells the owner of recipients of a message that cannot be reached at
// all: each is a failed delivery, and the others get theirs.
func (e *Engine) badRecipients(ctx context.Context, t *store.Tx, c store.Claim, m store.NewMessage) error {
	for _, to := range m.To {
		if to.Bad != "" {
			run := c.RunID
			s := store.Sending{RunID: &run, JobID: &c.JobID, DestinationID: m.DestinationID, Address: to.Address, Rehearsal: c.Rehearsal}
			return e.deliveryAlert(ctx, t, s, job.AlertDeliveryFailed, fault.New(fault.Recipient, "", to.Bad, "Correct it in the job, or where it comes from."), "lasting: trying again would fail the same way")
		}
	}
	return nil
}

// foundAlert tells the owner that a result was blank or unusual.
func (e *Engine) foundAlert(ctx context.Context, t *store.Tx, c store.Claim, a alertOf) error {
	if c.Rehearsal {
		return nil
	}
	run := c.RunID
	whom, advice := "it was sent all the same", "See whether the source is complete."
	if a.held {
		whom = "nothing was sent; it is held"
		advice = fmt.Sprintf("See whether the source is complete. Then ring again what was held, or send it as it is: ironbell again %s -anyway", c.RunID)
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: a.kind, Cause: fmt.Sprintf("%s:%d:%s", a.kind, c.JobID, a.task), JobID: &c.JobID, RunID: &run,
		Happened: fmt.Sprintf("Task %s of run %s came back %s.", a.task, c.RunID, a.happened), ForWhom: whom, Tried: map[bool]string{true: "Its rows were compared with the job's own past.", false: "Its rows were counted."}[a.kind == job.AlertUnusual], Advice: advice,
	})
}

// settleRuns gives runs the states that their parts and deliveries make, and
// starts what waits for their outcomes.
func (e *Engine) settleRuns(ctx context.Context, t *store.Tx, ids []job.RunID) error {
	if len(ids) == 0 {
		return nil
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	runs, err := t.LockRuns(ctx, ids)
	if err != nil {
		return err
	}
	// Counting thousands of parts and deliveries at the end of each of them would
	// be work without an end: it is done when the last one ends.
	busy, err := t.Busy(ctx, ids)
	if err != nil {
		return err
	}
	ids = slices.DeleteFunc(ids, func(id job.RunID) bool { return busy[id] })
	tallies, err := t.Tallies(ctx, ids)
	if err != nil {
		return err
	}
	moves := make([]store.RunMove, 0, len(runs))
	for _, r := range runs {
		if busy[r.ID] {
			continue
		}
		state, reason := policy.Outcome(tallies[r.ID])
		if state == job.RunRunning && r.State == job.RunRunning {
			continue // another part will come by here
		}
		moves = append(moves, store.RunMove{Run: r, To: state, Reason: reason})
	}
	return e.move(ctx, t, moves)
}

// retell says anew why a run that delivers is not at its end.
func (e *Engine) retell(ctx context.Context, t *store.Tx, id job.RunID) error {
	run, err := t.LockRun(ctx, id)
	if err != nil || run.State != job.RunDelivering {
		return err
	}
	tallies, err := t.Tallies(ctx, []job.RunID{id})
	if err != nil {
		return err
	}
	state, reason := policy.Outcome(tallies[id])
	return e.move(ctx, t, []store.RunMove{{Run: run, To: state, Reason: reason}})
}

// outcomeOf is the state of a run whose only part has one and which sends
// nothing.
var outcomeOf = map[job.PartState]job.RunState{
	job.PartWaiting: job.RunWaiting, job.PartDone: job.RunDone, job.PartPartly: job.RunPartly, job.PartBlank: job.RunBlank, job.PartFailed: job.RunFailed,
}

// runOf is what a claim tells of its run, which works.
func runOf(c store.Claim) job.Run {
	return job.Run{ID: c.RunID, JobID: c.JobID, Job: c.Job, JobVersion: c.JobVersion, TriggerID: c.TriggerID, Nominal: c.Nominal, Due: c.Due, Zone: c.Zone, Rehearsal: c.Rehearsal, State: job.RunRunning}
}

// move moves runs, whose rows or only parts are locked, closes the alerts of
// those that are right now, and starts what waits for their outcomes.
func (e *Engine) move(ctx context.Context, t *store.Tx, moves []store.RunMove) error {
	if err := t.MoveRuns(ctx, moves); err != nil {
		return err
	}
	var ended []store.RunMove
	var right, over []job.RunID
	for _, m := range moves {
		if m.To.Ended() && m.To != m.Run.State {
			ended = append(ended, m)
			over = append(over, m.Run.ID)
		}
		if m.To == job.RunDone || m.To == job.RunBlank || m.To == job.RunCancelled || m.To == job.RunPassedOver {
			right = append(right, m.Run.ID)
		}
	}
	// What these runs had failed in was put right, also by one that repeats another; and
	// none of them is late any more.
	if err := t.CloseAlertsOfRuns(ctx, right, over); err != nil {
		return err
	}
	return e.outcomes(ctx, t, ended)
}

// settleRun settles one run.
func (e *Engine) settleRun(ctx context.Context, t *store.Tx, id job.RunID) error {
	return e.settleRuns(ctx, t, []job.RunID{id})
}

// deliveryAlert opens or feeds the alert about deliveries of a run that failed
// or are unknown.
func (e *Engine) deliveryAlert(ctx context.Context, t *store.Tx, s store.Sending, kind job.AlertKind, f *fault.Fault, tried string) error {
	if s.Rehearsal || s.JobID == nil {
		return nil // nobody but the one who rehearses would hear of it
	}
	const shown = 20
	sums, err := t.DeliverySums(ctx, *s.RunID, shown)
	if err != nil {
		return err
	}
	who := strings.Join(sums.Some, ", ")
	if sums.Wrong > len(sums.Some) {
		who += fmt.Sprintf(" and %d more", sums.Wrong-len(sums.Some))
	}
	a := job.Alert{
		Kind: kind, JobID: s.JobID, RunID: s.RunID, Tried: phrase.Sentence(tried), Advice: f.Advice,
		ForWhom: who + "; " + delivered(sums.Sent, sums.All, sums.Open),
	}
	switch kind {
	case job.AlertDeliveryUnknown:
		a.Cause = fmt.Sprintf("unknown:%d:%d", *s.JobID, s.DestinationID)
		a.Happened = fmt.Sprintf("Nobody knows whether %d of %d deliveries of run %s arrived. %s.", sums.Wrong, sums.All, *s.RunID, phrase.Upper(f.Error()))
		a.Next = "It is not sent again by itself, since it may have arrived."
		a.Advice = lookFor(s)
	case job.AlertBounced:
		a.Cause = fmt.Sprintf("bounced:%d:%d", *s.JobID, s.DestinationID)
		a.Happened = fmt.Sprintf("A mail of run %s to %s came back. %s.", *s.RunID, s.Address, phrase.Upper(f.Error()))
		a.Next = "It is not sent again by itself."
	default:
		a.Next = "Nothing more by itself."
		a.Cause = fmt.Sprintf("delivery:%d:%d:%s", *s.JobID, s.DestinationID, f.Class)
		a.Happened = fmt.Sprintf("Run %s could not be delivered to %d of %d. %s.", *s.RunID, sums.Wrong, sums.All, phrase.Upper(f.Error()))
		if f.Scope == fault.Destination {
			a.Advice = strings.TrimSpace(a.Advice + fmt.Sprintf(" Then send what failed again: ironbell resend %s", *s.RunID))
		}
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
