package outcome

import (
	"context"
	"errors"
	"fmt"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/policy"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/settle"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/sending"
	"ironbell/internal/task"
)

// Ended writes how a hand-over went that was not accepted, and settles its run.
func (o *Outcome) Ended(ctx context.Context, s sending.Sending, res deliver.Result, err error) {
	defer o.holdings.ReleaseSending(s)
	ctx, stop := node.Ending(ctx)
	defer stop()
	if res.Offered {
		o.node.Crash(crash.Answer)
	}
	log := o.node.Log.With("delivery", s.ID, "to", s.Address)
	var write func(*store.Tx) error
	switch {
	case errors.Is(err, db.ErrStale):
		log.Warn("another node has this delivery now, or it was settled")
		return
	case res.Offered && !res.Answered:
		write = func(t *store.Tx) error { return o.Unknown(ctx, t, s, fault.Of(err)) }
	default:
		f := fault.Of(err)
		log.Warn("a delivery failed", "try", s.Tries, "class", f.Class, "scope", f.Scope, "error", f)
		write = func(t *store.Tx) error { return o.notSent(ctx, t, s, f) }
	}
	switch err := o.store.Do(ctx, write); {
	case err == nil:
		if res.Offered {
			o.node.Crash(crash.Receipt)
		}
	case errors.Is(err, db.ErrStale):
		o.node.Refused.Add(1)
		log.Warn("a write about a delivery was refused: another node has it now, or it was settled")
	default:
		log.Error("could not write how a delivery went", "error", err)
	}
}

// notSent decides with policy whether a delivery waits for another try.
func (o *Outcome) notSent(ctx context.Context, t *store.Tx, s sending.Sending, f *fault.Fault) error {
	again := o.again(s, f)
	end := sending.Ended{State: job.DeliveryFailed, Answer: f.Error(), Advice: f.Advice, Class: string(f.Class)}
	if again.Retry {
		end.State, end.Wait = job.DeliveryWaiting, again.Wait
	}
	if err := t.EndSending(ctx, s, end); err != nil {
		return err
	}
	text := fmt.Sprintf("not sent to %s: %s; %s", s.Address, f, again.Reason)
	if again.Retry {
		return o.afterDelivery(ctx, t, s, "warn", text)
	}
	if s.AlertID != nil {
		return t.NextStep(ctx, *s.AlertID, fmt.Sprintf("%s could not be told: %s", s.Address, f))
	}
	if s.Subscription != nil {
		return o.eventLost(ctx, t, s, f, again.Reason)
	}
	if err := o.settle.DeliveryAlert(ctx, t, s, job.AlertDeliveryFailed, f, again.Reason); err != nil {
		return err
	}
	return o.afterDelivery(ctx, t, s, "error", text)
}

// again decides whether a delivery that failed is tried once more.
func (o *Outcome) again(s sending.Sending, f *fault.Fault) policy.Again {
	now := o.node.Now()
	again := policy.AfterFault(s.Retry(), s.Tries, f, now, now) // until stands in GiveUpAt
	if again.Retry && s.GiveUpAt != nil && now.Add(again.Wait).After(*s.GiveUpAt) {
		return policy.Again{Reason: "the time to try had run out"}
	}
	return again
}

// Unknown marks a delivery whose answer was lost. It is never tried again by
// itself, unless its job says so; then as often and as late as after any failure that may pass.
func (o *Outcome) Unknown(ctx context.Context, t *store.Tx, s sending.Sending, f *fault.Fault) error {
	passing := *f
	passing.Class = fault.Passing // who never answers would be asked without a pause otherwise
	if s.Subscription != nil {
		// The other side tells a repeat by its id.
		return o.notSent(ctx, t, s, &passing)
	}
	text := fmt.Sprintf("nobody knows whether %s has it: it was offered, and the answer was lost (%s)", s.Address, f)
	if err := t.EndSending(ctx, s, sending.Ended{
		State: job.DeliveryUnknown, Answer: f.Error(), Advice: settle.LookFor(s), Class: string(f.Class),
	}); err != nil {
		return err
	}
	tried := "it was offered once; it is not sent again by itself"
	if s.IfUnknown == job.UnknownResend {
		again := o.again(s, &passing)
		if again.Retry {
			if err := t.ResendLater(ctx, s.ID, task.NextMessageID(s.MessageID), again.Wait); err != nil {
				return err
			}
			return o.afterDelivery(ctx, t, s, "warn", text+"; sent again, as the job says: "+again.Reason)
		}
		tried = "it is sent again when an answer is lost, as the job says, until now: " + again.Reason
	}
	if s.AlertID != nil {
		// An alert that may have arrived goes on to the next person.
		return t.NextStep(ctx, *s.AlertID, text)
	}
	if err := o.settle.DeliveryAlert(ctx, t, s, job.AlertDeliveryUnknown, f, tried); err != nil {
		return err
	}
	return o.afterDelivery(ctx, t, s, "error", text)
}

// afterDelivery logs the change where it belongs and settles the run.
func (o *Outcome) afterDelivery(ctx context.Context, t *store.Tx, s sending.Sending, level, text string) error {
	if s.AlertID != nil {
		return nil // it is tried again; the alert's next step has its own time
	}
	if s.Subscription != nil {
		return nil // it is tried again
	}
	if err := t.Log(ctx, job.LogLine{Level: level, Part: s.Part, Text: text}, *s.RunID); err != nil {
		return err
	}
	if err := o.settle.SettleOne(ctx, t, *s.RunID); err != nil {
		return err
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeRun, ID: s.RunID.String()})
}

// eventLost tells that an event of ours was given up: the next one about its subject goes out without it.
func (o *Outcome) eventLost(ctx context.Context, t *store.Tx, s sending.Sending, f *fault.Fault, tried string) error {
	sub, err := t.SubscriptionByID(ctx, *s.Subscription)
	if err != nil {
		return err
	}
	if err := t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertDeliveryFailed, Cause: settle.LostCause(*s.Subscription), Job: sub,
		Happened: fmt.Sprintf("An event for the subscription %q was not taken and is given up: %s. %s.", sub, s.Address,
			phrase.Upper(f.Error())),
		ForWhom: "whoever goes by the events of this service; later ones go on", Tried: phrase.Sentence(tried), Advice: f.Advice,
		Next: "Nothing more by itself. Replaying from a point hands it on again, and closes this.",
	}); err != nil {
		return err
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticePublished})
}
