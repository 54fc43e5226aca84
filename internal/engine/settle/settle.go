// Package settle gives runs the states that their parts and deliveries make, by policy, closes
// and opens the alerts that follow from that, and lets waits start what waits for an outcome.
//
// It writes in the transactions of those who write what came of a part or of a delivery. Runs
// are locked in the order of their ids, so that two who settle the same ones never block each
// other for good.
package settle

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/policy"
	"ironbell/internal/engine/waits"
	"ironbell/internal/store"
	"ironbell/internal/store/history"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/sending"
)

// Settler settles runs. It may be used by several goroutines.
type Settler struct{ waits *waits.Waits }

// New makes a settler.
func New(w *waits.Waits) *Settler { return &Settler{waits: w} }

// Failure is what an alert tells of a task that failed for good.
type Failure struct {
	Task   string
	Fault  *fault.Fault
	Tried  int
	Reason string
	GoesOn bool     // the job goes on without it
	Found  bool     // it is what was found that counts as a failure
	Also   []string // what failed beside it
}

// Found is what an alert tells of a result.
type Found struct {
	Kind     job.AlertKind
	Task     string
	Happened string
	Held     bool
}

// FailureAlert tells the owner of a task that failed for good. Nobody but the
// one who rehearses cares for the failure of a rehearsal, and they watch it.
func (sr *Settler) FailureAlert(ctx context.Context, t *store.Tx, c queue.Claim, failed *Failure) error {
	if c.Rehearsal {
		return nil
	}
	run := c.RunID
	what, after := "the job", "nothing was sent to anybody by this run"
	if c.Name != "" {
		after = "its other parts go on"
	}
	if failed.Task != "" {
		what = "task " + failed.Task
	}
	happened := fmt.Sprintf("Run %s failed: %s could not be done. %s.", c.RunID, what,
		phrase.Upper(failed.Fault.Error()))
	if c.Name != "" {
		happened = fmt.Sprintf("Part %s of run %s failed: %s could not be done. %s.", c.Name, c.RunID, what,
			phrase.Upper(failed.Fault.Error()))
	}
	if failed.GoesOn {
		happened = fmt.Sprintf("In run %s %s could not be done, and the job goes on without it. %s.", c.RunID, what,
			phrase.Upper(failed.Fault.Error()))
		after = "what the job makes without it is sent"
	}
	for _, also := range failed.Also {
		happened += " " + phrase.Upper(also) + "."
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertRunFailed, Cause: fmt.Sprintf("run:%d:%s:%s", c.JobID, failed.Task, failed.Fault.Class),
		JobID: &c.JobID, RunID: &run,
		Happened: happened, ForWhom: after, Tried: phrase.Sentence(failed.Reason), Advice: failed.Fault.Advice,
		Next: "Nothing more by itself until its next ring.",
	})
}

// BadRecipients tells the owner of recipients of a message that cannot be reached at
// all: each is a failed delivery, and the others get theirs.
func (sr *Settler) BadRecipients(ctx context.Context, t *store.Tx, c queue.Claim, m sending.NewMessage) error {
	for _, to := range m.To {
		if to.Bad != "" {
			run := c.RunID
			s := sending.Sending{
				RunID: &run, JobID: &c.JobID, DestinationID: m.DestinationID, Address: to.Address,
				Rehearsal: c.Rehearsal,
			}
			return sr.DeliveryAlert(ctx, t, s, job.AlertDeliveryFailed,
				fault.New(fault.Recipient, "", to.Bad, "Correct it in the job, or where it comes from."),
				"lasting: trying again would fail the same way")
		}
	}
	return nil
}

// FoundAlert tells the owner that a result was blank or unusual.
func (sr *Settler) FoundAlert(ctx context.Context, t *store.Tx, c queue.Claim, a Found) error {
	if c.Rehearsal {
		return nil
	}
	run := c.RunID
	whom, advice := "it was sent all the same", "See whether the source is complete."
	if a.Held {
		whom = "nothing was sent; it is held"
		advice = fmt.Sprintf("See whether the source is complete. Then ring again what was held, or send it as it "+
			"is: ironbell again %s -anyway", c.RunID)
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: a.Kind, Cause: fmt.Sprintf("%s:%d:%s", a.Kind, c.JobID, a.Task), JobID: &c.JobID, RunID: &run,
		Happened: fmt.Sprintf("Task %s of run %s came back %s.", a.Task, c.RunID, a.Happened), ForWhom: whom,
		Tried: map[bool]string{
			true: "Its rows were compared with the job's own past.", false: "Its rows were counted.",
		}[a.Kind == job.AlertUnusual], Advice: advice,
	})
}

// Settle gives runs the states that their parts and deliveries make, and
// starts what waits for their outcomes.
func (sr *Settler) Settle(ctx context.Context, t *store.Tx, ids []job.RunID) error {
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
	moves := make([]history.RunMove, 0, len(runs))
	for _, r := range runs {
		if busy[r.ID] {
			continue
		}
		state, reason := policy.Outcome(tallies[r.ID])
		if state == job.RunRunning && r.State == job.RunRunning {
			continue // another part will come by here
		}
		moves = append(moves, history.RunMove{Run: r, To: state, Reason: reason})
	}
	return sr.Move(ctx, t, moves)
}

// Retell says anew why a run that delivers is not at its end.
func (sr *Settler) Retell(ctx context.Context, t *store.Tx, id job.RunID) error {
	run, err := t.LockRun(ctx, id)
	if err != nil || run.State != job.RunDelivering {
		return err
	}
	tallies, err := t.Tallies(ctx, []job.RunID{id})
	if err != nil {
		return err
	}
	state, reason := policy.Outcome(tallies[id])
	return sr.Move(ctx, t, []history.RunMove{{Run: run, To: state, Reason: reason}})
}

// Move moves runs, whose rows or only parts are locked, closes the alerts of
// those that are right now, and starts what waits for their outcomes.
func (sr *Settler) Move(ctx context.Context, t *store.Tx, moves []history.RunMove) error {
	if err := t.MoveRuns(ctx, moves); err != nil {
		return err
	}
	var ended []history.RunMove
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
	return sr.waits.Ended(ctx, t, ended)
}

// SettleOne settles one run.
func (sr *Settler) SettleOne(ctx context.Context, t *store.Tx, id job.RunID) error {
	return sr.Settle(ctx, t, []job.RunID{id})
}

// DeliveryAlert opens or feeds the alert about deliveries of a run that failed
// or are unknown.
func (sr *Settler) DeliveryAlert(ctx context.Context, t *store.Tx, s sending.Sending, kind job.AlertKind,
	f *fault.Fault, tried string,
) error {
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
		a.Happened = fmt.Sprintf("Nobody knows whether %d of %d deliveries of run %s arrived. %s.", sums.Wrong,
			sums.All, *s.RunID, phrase.Upper(f.Error()))
		a.Next = "It is not sent again by itself, since it may have arrived."
		a.Advice = LookFor(s)
	case job.AlertBounced:
		a.Cause = fmt.Sprintf("bounced:%d:%d", *s.JobID, s.DestinationID)
		a.Happened = fmt.Sprintf("A mail of run %s to %s came back. %s.", *s.RunID, s.Address, phrase.Upper(f.Error()))
		a.Next = "It is not sent again by itself."
	default:
		a.Next = "Nothing more by itself."
		a.Cause = fmt.Sprintf("delivery:%d:%d:%s", *s.JobID, s.DestinationID, f.Class)
		a.Happened = fmt.Sprintf("Run %s could not be delivered to %d of %d. %s.", *s.RunID, sums.Wrong, sums.All,
			phrase.Upper(f.Error()))
		if f.Scope == fault.Destination {
			a.Advice = strings.TrimSpace(a.Advice +
				fmt.Sprintf(" Then send what failed again: ironbell resend %s", *s.RunID))
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

// RefusesCause is the cause of the alert about a destination that answers and takes nothing.
func RefusesCause(destination int64) string { return fmt.Sprintf("refuses:%d", destination) }

// LostCause is the cause of the alert about events of ours that a subscription did not get.
func LostCause(subscription int64) string { return fmt.Sprintf("subscription:%d", subscription) }

// LookFor is what to do about a delivery that is unknown.
func LookFor(s sending.Sending) string {
	const then = ", then settle the delivery: mark it as sent, or send it again."
	if s.Name == "" { // a mail
		return "Ask the recipient" + then
	}
	return fmt.Sprintf("Look whether %s is there and whole, with %d bytes"+then, s.Address, s.Size)
}
