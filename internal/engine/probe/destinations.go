package probe

import (
	"context"
	"fmt"

	"ironbell/internal/core/fault"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/rests"
	"ironbell/internal/store"
	"ironbell/internal/store/sending"
)

// giveUpBatch is how many deliveries are given up in one transaction.
const giveUpBatch = 500

func (pb *Prober) probeAll(ctx context.Context) error {
	for ctx.Err() == nil && pb.asking.free() {
		r, ok, err := pb.store.TakeProbe(ctx, pb.probeWait)
		if err != nil || !ok {
			return err
		}
		pb.ask(ctx, fmt.Sprintf("destination:%d", r.ID), "look at a destination that rests", func() error {
			for more := true; more; {
				var err error
				if more, err = pb.store.KeepBack(ctx, r.ID); err != nil {
					return err
				}
			}
			return pb.probeOne(ctx, r)
		})
	}
	return nil
}

// probeOne looks at one destination.
func (pb *Prober) probeOne(ctx context.Context, r sending.Resting) error {
	destination, err := pb.destinations.ByID(ctx, r.ID)
	if err == nil {
		looking, stop := context.WithTimeout(ctx, rests.LookLimit)
		err = deliver.Probe(looking, destination)
		stop()
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err == nil {
		return pb.rests.WakeDestination(ctx, r.ID, r.Name, "it answers again")
	}
	f := fault.Of(err)
	r.Answer, r.Advice = f.Error(), f.Advice
	return pb.store.Do(ctx, func(t *store.Tx) error {
		if _, _, err := t.Rest(ctx, r.ID, f, pb.node.FirstProbe); err != nil {
			return err
		}
		return pb.rests.DownAlert(ctx, t, r)
	})
}

// giveUpWaiting ends deliveries that waited for their destination too long.
func (pb *Prober) giveUpWaiting(ctx context.Context) error {
	for ctx.Err() == nil {
		n := 0
		err := pb.store.Do(ctx, func(t *store.Tx) error {
			all, err := t.GivenUp(ctx, giveUpBatch)
			n = len(all)
			if err != nil || n == 0 {
				return err
			}
			return pb.rests.GiveUpAll(ctx, t, all)
		})
		if err != nil || n < giveUpBatch {
			return err
		}
	}
	return nil
}
