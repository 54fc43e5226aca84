package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/store"
)

// Some places take a thing before it is done, such as a printer's queue. They are asked
// about it until they say what came of it, or until the time to wait has run out.

const (
	takenBatch = 50
	askLimit   = 20 * time.Second // for one question
)

// askTaken asks the other sides about what they took and are not done with.
func (e *Engine) askTaken(ctx context.Context) error {
	for ctx.Err() == nil && e.asking.free() {
		due, err := e.store.TakenDue(ctx, takenBatch)
		if err != nil {
			return err
		}
		by := map[int64][]store.TakenSending{}
		for _, s := range due {
			by[s.DestinationID] = append(by[s.DestinationID], s)
		}
		for id, group := range by {
			e.ask(ctx, fmt.Sprintf("taken:%d", id), "ask about what was taken", func() error { return e.askAbout(ctx, id, group) })
		}
		if len(due) < takenBatch {
			return nil
		}
	}
	return nil
}

// askAbout asks one destination about what it took. When it does not work, it is not
// asked about the others now, either.
func (e *Engine) askAbout(ctx context.Context, destination int64, group []store.TakenSending) error {
	d, silent := e.destinations.ByID(ctx, destination)
	asker, can := d.(deliver.Asker)
	if silent == nil && !can {
		silent = errors.New("the destination cannot be asked any more")
	}
	for _, s := range group {
		var p deliver.Progress
		said := silent
		if said == nil {
			asking, stop := context.WithTimeout(ctx, askLimit)
			p, said = asker.Ask(asking, s.TakenAs)
			stop()
		}
		if said != nil && fault.Of(said).Scope == fault.Destination {
			silent = said
		}
		if err := e.answered(ctx, s, p, said); err != nil {
			return err
		}
	}
	return nil
}

// answered writes what the other side says of what it took.
func (e *Engine) answered(ctx context.Context, s store.TakenSending, p deliver.Progress, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	switch {
	case err == nil && p.Done:
		return e.endTaken(ctx, s.Sending, job.DeliverySent, p.Said, nil)
	case err == nil && p.Failed != nil:
		return e.endTaken(ctx, s.Sending, job.DeliveryFailed, "", p.Failed)
	case s.Over:
		why := p.Said
		if err != nil {
			why = fault.Of(err).Error()
		}
		return e.endTaken(ctx, s.Sending, job.DeliveryUnknown, "", fault.New(fault.Message, "", "the other side took it and did not say in time what came of it: "+why, "Look there, then settle it."))
	case err == nil:
		return e.store.StillTaken(ctx, s.ID, p.Said)
	}
	e.node.Log.Warn("the other side does not say what came of what it took; it is asked again", "delivery", s.ID, "error", err)
	return nil
}

// endTaken writes what came of a delivery that had been taken.
func (e *Engine) endTaken(ctx context.Context, s store.Sending, state job.DeliveryState, said string, f *fault.Fault) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
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
			if err := e.deliveryAlert(ctx, t, s, kind, f, "the other side had taken it"); err != nil {
				return err
			}
		}
		return e.afterDelivery(ctx, t, s, level, text)
	})
}
