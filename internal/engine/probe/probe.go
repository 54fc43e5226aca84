// Package probe asks others how they are: destinations and sources that rest, and places that took
// something and are not done with it; and it gives up what waited for them too long.
//
// Many are asked beside each other, each once at a time, so that one that hangs holds up nobody.
package probe

import (
	"context"
	"time"

	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/rests"
	"ironbell/internal/store"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/sending"
)

// asks is what this room asks of the store.
type asks interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
	KeepBack(ctx context.Context, id int64) (more bool, err error)
	NextReady(ctx context.Context) (wait time.Duration, ok bool, err error)
	TakeLook(ctx context.Context) (r queue.RestOf, ok bool, err error)
	TakeProbe(ctx context.Context, next func(probes int) time.Duration) (r sending.Resting, ok bool, err error)
	TakenDue(ctx context.Context, limit int) ([]sending.TakenSending, error)
}

// Prober is the loop of one node.
type Prober struct {
	node         *node.Node
	store        asks
	destinations *deliver.Destinations
	outcome      *outcome.Outcome
	rests        *rests.Rests
	asking       *asking
}

// New makes the prober of a node.
func New(n *node.Node, s asks, d *deliver.Destinations, o *outcome.Outcome, r *rests.Rests) *Prober {
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
		for doing, do := range map[string]func(context.Context) error{
			"look at destinations that rest": pb.probeAll, "let deliveries go": pb.rests.LetGo,
			"give deliveries up": pb.giveUpWaiting, "end what nobody said yes to": pb.outcome.NobodySaidYes,
			"ask about what was taken": pb.askTaken, "look at sources that rest": pb.lookAtRests,
			"give up what waits for sources": pb.rests.GiveUpKept,
		} {
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
