// Package probe asks others how they are: destinations and sources that rest, and places that took
// something and are not done with it; and it gives up what waited for them too long.
//
// Many are asked beside each other, each once at a time, so that one that hangs holds up nobody.
package probe

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/engine/outcome"

	"ironbell/internal/core/fault"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/rests"
	"ironbell/internal/store"
)

// giveUpBatch is how many deliveries are given up in one transaction.
const giveUpBatch = 500

// Prober is the loop of one node.
type Prober struct {
	node         *node.Node
	store        *store.Store
	destinations *deliver.Destinations
	outcome      *outcome.Outcome
	rests        *rests.Rests
	asking       *asking
}

// New makes the prober of a node.
func New(n *node.Node, s *store.Store, d *deliver.Destinations, o *outcome.Outcome, r *rests.Rests) *Prober {
	return &Prober{node: n, store: s, destinations: d, outcome: o, rests: r, asking: newAsking()}
}

// probeLongest is the longest time between two looks at a place that rests.
const probeLongest = 5 * time.Minute

// probeWait is the time after so many probes that failed.
func (pb *Prober) probeWait(probes int) time.Duration {
	wait := pb.node.FirstProbe
	for range min(probes, 20) {
		if wait *= 2; wait >= probeLongest {
			return probeLongest
		}
	}
	return wait
}

// Run looks after what rests: whether it works again, and what waited too long. Others
// are asked beside it, so that none of them holds it up.
func (pb *Prober) Run(ctx context.Context) {
	defer pb.asking.all.Wait()
	for {
		for doing, do := range map[string]func(context.Context) error{"look at destinations that rest": pb.probeAll, "let deliveries go": pb.rests.LetGo, "give deliveries up": pb.giveUpWaiting, "end what nobody said yes to": pb.outcome.NobodySaidYes, "ask about what was taken": pb.askTaken, "look at sources that rest": pb.lookAtRests, "give up what waits for sources": pb.rests.GiveUpKept} {
			if err := do(ctx); err != nil {
				pb.node.Failed(ctx, doing, err)
			}
		}
		wait := min(pb.node.Poll, pb.node.Lease/2)
		if next, ok, err := pb.store.NextReady(ctx); err == nil && ok {
			wait = min(wait, max(next, 0)+5*time.Millisecond)
		}
		if !node.Sleep(ctx, pb.node.Probe, max(wait, 50*time.Millisecond)) {
			return
		}
	}
}

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
func (pb *Prober) probeOne(ctx context.Context, r store.Resting) error {
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

// lookAtRests looks at what rests and whose time has come.
func (pb *Prober) lookAtRests(ctx context.Context) error {
	for ctx.Err() == nil && pb.asking.free() {
		r, ok, err := pb.store.TakeLook(ctx)
		if err != nil || !ok {
			return err
		}
		pb.ask(ctx, r.Label, "look at what rests", func() error { return pb.lookAtRest(ctx, r) })
	}
	return nil
}

// lookAtRest looks at one source, or the store of artifacts.
func (pb *Prober) lookAtRest(ctx context.Context, r store.RestOf) error {
	f := pb.rests.LookAtLabel(ctx, r.Label)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if f == nil {
		return pb.rests.EndRest(ctx, r.Label, "it works again")
	}
	next := pb.probeWait(r.Probes)
	if f.Class == fault.Lasting && r.Label != store.StoreLabel && r.Probes >= rests.LookLonger {
		next = 0
	}
	r.Answer, r.Advice, r.Class = f.Error(), f.Advice, string(f.Class)
	return pb.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LookAgain(ctx, r.Label, f, next); err != nil {
			return err
		}
		return pb.rests.RestAlert(ctx, t, r)
	})
}
