package outcome

import (
	"context"
	"fmt"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/deliveries"
	"ironbell/internal/store/sending"
)

// Bounced writes what came back of a delivery.
func (o *Outcome) Bounced(ctx context.Context, t *store.Tx, id int64, r deliver.Returned) error {
	d, err := t.LockDelivery(ctx, id)
	if err != nil {
		return err
	}
	said := strings.TrimSpace(r.Status + " " + r.Words)
	if r.Kind != deliver.ReturnFailed {
		if d.RunID == nil {
			return nil
		}
		return t.Log(ctx,
			job.LogLine{
				Level: "info", Part: d.Part, Text: fmt.Sprintf("the mail to %s is %s: %s", d.Address, r.Kind, said),
			}, *d.RunID)
	}
	switch d.State {
	case job.DeliverySent, job.DeliveryOffered, job.DeliveryUnknown:
	default:
		return nil // it is known already
	}
	advice := "Check the address; correct it in the job, or take it out."
	times, err := t.Bounce(ctx, d, "it came back: "+said, advice)
	if err != nil {
		return err
	}
	o.node.Log.Warn("a mail came back", "delivery", id, "to", d.Address, "said", said)
	if d.AlertID != nil && *d.AlertID != 0 {
		return t.NextStep(ctx, *d.AlertID, fmt.Sprintf("the mail to %s came back: %s", d.Address, said))
	}
	if d.RunID == nil || d.JobID == nil {
		return nil
	}
	text := fmt.Sprintf("the mail to %s came back: %s", d.Address, said)
	if times >= deliveries.BouncedTimes {
		text += fmt.Sprintf("; this address is marked: it happened %d times", times)
	}
	if err := t.Log(ctx, job.LogLine{Level: "error", Part: d.Part, Text: text}, *d.RunID); err != nil {
		return err
	}
	run, err := t.Run(ctx, *d.RunID)
	if err != nil {
		return err
	}
	s := sending.Sending{
		ID: d.ID, RunID: d.RunID, JobID: d.JobID, DestinationID: d.DestinationID, Address: d.Address,
		Rehearsal: run.Rehearsal,
	}
	f := fault.New(fault.Recipient, "", said, advice)
	tried := "The mail server had taken it; the other side sent it back."
	if times > 1 {
		tried = fmt.Sprintf("The mail server had taken it; the other side sent it back, as %d times before.", times-1)
	}
	if err := o.settle.DeliveryAlert(ctx, t, s, job.AlertBounced, f, tried); err != nil {
		return err
	}
	if err := o.settle.SettleOne(ctx, t, *d.RunID); err != nil {
		return err
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeRun, ID: d.RunID.String()})
}
