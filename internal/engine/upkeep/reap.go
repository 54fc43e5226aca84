package upkeep

import (
	"context"
	"errors"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/sending"
)

// reap brings back what nodes left that stopped without a word.
func (u *Upkeep) reap(ctx context.Context) {
	var looked time.Time
	for {
		for doing, do := range map[string]func(context.Context) error{
			"give back lost parts": u.reapParts, "settle lost deliveries": u.reapDeliveries,
			"give up waiting": u.waits.GiveUp, "warn of deadlines": u.Warn, "send digests": u.notify.Digests,
		} {
			if err := do(ctx); err != nil {
				u.node.Failed(ctx, doing, err)
			}
		}
		if u.node.Now().Sub(looked).Abs() > upkeep {
			if err := u.hourly(ctx); err != nil {
				u.node.Failed(ctx, "do the hourly upkeep", err)
			} else {
				looked = u.node.Now()
			}
		}
		if !node.Sleep(ctx, nil, u.node.Lease/2) {
			return
		}
	}
}

// reapParts gives back the parts whose leases ran out.
func (u *Upkeep) reapParts(ctx context.Context) error {
	n := 0
	err := u.store.Do(ctx, func(t *store.Tx) error {
		lost, err := t.LostParts(ctx, reapBatch)
		n = len(lost)
		if err != nil || n == 0 {
			return err
		}
		entries := make([]*queue.Entry, n)
		runs := make([]job.RunID, n)
		for i, c := range lost {
			entries[i] = &queue.Entry{
				Claim: c,
				Part: &queue.PartMove{
					State: job.PartWaiting,
					Reason: "its node stopped, or could not reach the database; another goes on at the task that was " +
						"interrupted",
				},
			}
			runs[i] = c.RunID
		}
		if err := t.WriteEntries(ctx, entries); err != nil {
			return err
		}
		return u.settle.Settle(ctx, t, runs)
	})
	if err == nil && n > 0 {
		u.node.Log.Warn("gave back parts whose node stopped, or could not reach the database", "parts", n)
	}
	return err
}

// reapDeliveries lets deliveries that were not offered be tried again, and marks
// those that were as unknown: nobody heard the answer.
func (u *Upkeep) reapDeliveries(ctx context.Context) error {
	return u.store.Do(ctx, func(t *store.Tx) error {
		offered, safe, err := t.LostSendings(ctx, reapBatch)
		if err != nil {
			return err
		}
		stopped := &fault.Fault{
			Class: fault.Passing, Scope: fault.Message,
			Cause: errors.New("the node that sent it stopped before it heard the answer"),
		}
		for _, s := range offered {
			if err := u.outcome.Unknown(ctx, t, s, stopped); err != nil {
				return err
			}
		}
		for _, s := range safe {
			if err := t.EndSending(ctx, s, sending.Ended{
				State: "waiting", Answer: "the node that was sending it stopped before it offered it", Untried: true,
			}); err != nil {
				return err
			}
		}
		if len(safe) > 0 {
			return t.Tell(ctx, db.Notice{Kind: job.NoticeDeliveries})
		}
		return nil
	})
}
