package upkeep

import (
	"context"
	"sync"
	"time"

	"ironbell/internal/engine/node"
)

// turns does what one node at a time does every so often: it reads the mailbox for
// bounces, gives the sign of life, and reckons what is late by its past. None waits for another.
func (u *Upkeep) turns(ctx context.Context) {
	var all sync.WaitGroup
	defer all.Wait()
	var own []node.Waker
	for doing, do := range map[string]func(context.Context) (time.Duration, error){
		"read the mailbox for bounces": u.Bounces, "give the sign of life": u.beat,
		usualTurn: u.Usual,
	} {
		woken := make(node.Waker, 1)
		own = append(own, woken)
		all.Go(func() { u.turn(ctx, woken, doing, do) })
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-u.node.Turns:
			for _, c := range own {
				c.Wake()
			}
		}
	}
}

// turn does one thing every so often, as often as it says itself.
func (u *Upkeep) turn(ctx context.Context, woken node.Waker, doing string,
	do func(context.Context) (every time.Duration, err error),
) {
	for {
		every, err := do(ctx)
		if err != nil {
			u.node.Failed(ctx, doing, err)
		}
		wait := min(u.node.Poll, u.node.Lease)
		if every > 0 {
			wait = min(wait, every/2)
		}
		if !node.Sleep(ctx, woken, max(wait, 100*time.Millisecond)) {
			return
		}
	}
}
