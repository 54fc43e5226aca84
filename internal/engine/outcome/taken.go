package outcome

import (
	"context"
	"fmt"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/store"
	"ironbell/internal/store/sending"
)

// Answered writes what the other side says of what it took.
func (o *Outcome) Answered(ctx context.Context, s sending.TakenSending, p deliver.Progress, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	switch {
	case err == nil && p.Done:
		return o.endTaken(ctx, s.Sending, job.DeliverySent, p.Said, nil)
	case err == nil && p.Failed != nil:
		return o.endTaken(ctx, s.Sending, job.DeliveryFailed, "", p.Failed)
	case s.Over:
		why := p.Said
		if err != nil {
			why = fault.Of(err).Error()
		}
		return o.endTaken(ctx, s.Sending, job.DeliveryUnknown, "",
			fault.New(fault.Message, "", "the other side took it and did not say in time what came of it: "+why,
				"Look there, then settle it."))
	case err == nil:
		return o.store.StillTaken(ctx, s.ID, p.Said)
	}
	o.node.Log.Warn("the other side does not say what came of what it took; it is asked again", "delivery", s.ID,
		"error", err)
	return nil
}

// endTaken writes what came of a delivery that had been taken.
func (o *Outcome) endTaken(ctx context.Context, s sending.Sending, state job.DeliveryState, said string,
	f *fault.Fault,
) error {
	return o.store.Do(ctx, func(t *store.Tx) error {
		answer, advice, class, text, level := said, "", "", fmt.Sprintf("sent to %s: %s", s.Address, said), "info"
		if f != nil {
			answer, advice, class, level = f.Error(), f.Advice, string(f.Class), "error"
			text = fmt.Sprintf("not sent to %s: %s", s.Address, f)
			if state == job.DeliveryUnknown {
				text = fmt.Sprintf("nobody knows whether %s has it: %s", s.Address, f)
			}
		}
		was, err := t.EndTaken(ctx, s.ID, state, answer, advice, class)
		if err != nil || !was {
			return err
		}
		if s.AlertID != nil || s.RunID == nil {
			return nil
		}
		if f != nil {
			kind := job.AlertDeliveryFailed
			if state == job.DeliveryUnknown {
				kind = job.AlertDeliveryUnknown
			}
			if err := o.settle.DeliveryAlert(ctx, t, s, kind, f, "the other side had taken it"); err != nil {
				return err
			}
		}
		return o.afterDelivery(ctx, t, s, level, text)
	})
}
