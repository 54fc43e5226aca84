package engine

import (
	"context"
	"errors"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/store"
)

const (
	reapBatch = 200
	upkeep    = time.Hour // between two looks at the partitions to come and at what has ended
)

// reap brings back what nodes left that stopped without a word.
func (e *Engine) reap(ctx context.Context) {
	var looked time.Time
	for {
		if n, err := e.store.ReapParts(ctx, reapBatch); err != nil {
			e.failed(ctx, "give back lost parts", err)
		} else if n > 0 {
			e.o.Log.Warn("gave back parts whose node stopped answering", "parts", n)
		}
		if err := e.reapDeliveries(ctx); err != nil {
			e.failed(ctx, "settle lost deliveries", err)
		}
		if time.Since(looked) > upkeep {
			err := e.store.EnsureMonths(ctx)
			if err == nil {
				err = e.store.SweepAccess(ctx)
			}
			if err != nil {
				e.failed(ctx, "do the hourly upkeep", err)
			} else {
				looked = time.Now()
			}
		}
		if !sleep(ctx, nil, e.o.Lease/2) {
			return
		}
	}
}

// reapDeliveries lets deliveries that were not offered be tried again, and marks
// those that were as unknown: nobody heard the answer.
func (e *Engine) reapDeliveries(ctx context.Context) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		offered, safe, err := t.LostSendings(ctx, reapBatch)
		if err != nil {
			return err
		}
		stopped := &fault.Fault{Class: fault.Passing, Scope: fault.Message, Cause: errors.New("the node that sent it stopped before it heard the answer")}
		for _, s := range offered {
			if err := e.unknown(ctx, t, s, stopped); err != nil {
				return err
			}
		}
		for _, s := range safe {
			if err := t.EndSending(ctx, s, store.Ended{State: "waiting", Answer: "the node that was sending it stopped before it offered it", Untried: true}); err != nil {
				return err
			}
		}
		if len(safe) > 0 {
			return t.Tell(ctx, store.Notice{Kind: "deliveries"})
		}
		return nil
	})
}
