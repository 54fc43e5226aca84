package service

import (
	"context"
	"fmt"
	"strconv"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// Verdict is what a person says of a delivery whose answer was lost, or that failed.
type Verdict string

// The verdicts.
const (
	VerdictSent   Verdict = "sent"   // it did arrive
	VerdictFailed Verdict = "failed" // it did not, and shall not be sent
	VerdictResend Verdict = "resend" // send it again
)

// Settle gives a delivery that is unknown its state by a person's word, or sends
// one that is unknown or failed again. The outcome of its run is revised.
func (ds *Deliveries) Settle(ctx context.Context, who job.Person, id int64, verdict Verdict) (job.Delivery, error) {
	var d job.Delivery
	err := ds.store.Do(ctx, func(t *store.Tx) error {
		var err error
		if d, err = t.LockDelivery(ctx, id); err != nil {
			return err
		}
		if d.Subscription != "" {
			d, err = ds.eventAgain(ctx, t, who, d, verdict)
			return err
		}
		if d.RunID == nil || d.JobID == nil {
			return &fault.Invalid{Wrong: []fault.Wrong{{Sentence: "this delivery belongs to an alert; acknowledge " +
				"the alert instead"}}}
		}
		j, err := t.Job(ctx, strconv.FormatInt(*d.JobID, 10))
		if err != nil {
			return err
		}
		if err := access.May(who, access.Ring, "settle deliveries of "+j.Name, j.Owner); err != nil {
			return err
		}
		lost := d.State == job.DeliveryUnknown
		again := lost || d.State == job.DeliveryFailed || d.State == job.DeliveryBounced ||
			d.State == job.DeliveryDeclined
		if !lost && (verdict != VerdictResend || !again) {
			return &fault.Invalid{Wrong: []fault.Wrong{{Sentence: fmt.Sprintf("the delivery to %s is %s; only one "+
				"that is unknown can be settled, and only one that is unknown or failed be sent again", d.Address,
				d.State)}}}
		}
		text := fmt.Sprintf("%s settled the delivery to %s: %s", who.Name, d.Address, verdict)
		switch verdict {
		case VerdictSent:
			err = t.SettleDelivery(ctx, id, job.DeliverySent, "settled by "+who.Name)
		case VerdictFailed:
			err = t.SettleDelivery(ctx, id, job.DeliveryFailed, "settled by "+who.Name)
		case VerdictResend:
			if err = t.Resend(ctx, id, task.NextMessageID(d.MailID)); err == nil {
				err = t.ProbeSoonFor(ctx, *d.RunID)
			}
		default:
			return &fault.Invalid{Wrong: []fault.Wrong{{
				Where: "as", Sentence: fmt.Sprintf("%q is no verdict; say sent, failed or resend", verdict),
			}}}
		}
		if err != nil {
			return err
		}
		d, err = ds.spoken(ctx, t, who, d, "settle", text, map[string]any{"state": d.State},
			map[string]any{"as": verdict})
		return err
	})
	return d, err
}

// spoken records what a person said of a locked delivery, with what it was and what they
// said, revises the outcome of its run, and reads it again.
func (ds *Deliveries) spoken(ctx context.Context, t *store.Tx, who job.Person, d job.Delivery, action, text string,
	was, said any,
) (job.Delivery, error) {
	if err := t.Log(ctx, job.LogLine{Part: d.Part, Text: text}, *d.RunID); err != nil {
		return d, err
	}
	if err := t.Audit(ctx, who.Login, action, "delivery", strconv.FormatInt(d.ID, 10), was, said); err != nil {
		return d, err
	}
	if err := ds.settle.SettleOne(ctx, t, *d.RunID); err != nil {
		return d, err
	}
	return t.LockDelivery(ctx, d.ID)
}

// eventAgain hands an event of ours on once more that was given up, with the id that it had.
func (ds *Deliveries) eventAgain(ctx context.Context, t *store.Tx, who job.Person, d job.Delivery, v Verdict) (job.Delivery, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return d, err
	}
	if v != VerdictResend || d.State != job.DeliveryFailed {
		return d, &fault.Invalid{Wrong: []fault.Wrong{{Sentence: fmt.Sprintf("this event for the subscription %q is %s; only one "+
			"that failed can be sent again", d.Subscription, d.State)}}}
	}
	if err := t.Resend(ctx, d.ID, ""); err != nil {
		return d, err
	}
	if err := t.Audit(ctx, who.Login, "resend", "delivery", fmt.Sprint(d.ID), nil, map[string]any{"subscription": d.Subscription}); err != nil {
		return d, err
	}
	return t.LockDelivery(ctx, d.ID)
}
