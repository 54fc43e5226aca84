// Package node is what every room of the engine knows of the node it works on: its name, its
// clock and log, for how long a lease holds; and how its loops sleep, are woken, rest after a
// fault and come to their end.
//
// Each loop sleeps on a Waker of its own. Whoever has made work for it wakes it, here or, by a
// notice, on another node; a loop that nobody wakes finds its work by polling.
package node

import (
	"context"
	"errors"
	"log/slog"
	"sync/atomic"
	"time"
)

// Node is one node. All rooms of its engine share it.
type Node struct {
	Name       string
	Lease      time.Duration    // how long a dead node keeps its work
	Poll       time.Duration    // how long a loop sleeps without being woken
	Stop       time.Duration    // how long what is under way may go on when the service stops
	FirstProbe time.Duration    // from the rest of a place to the first look at it
	Now        func() time.Time // the clock that rings are held against
	Log        *slog.Logger
	At         func(point string) // told of each crash point that is reached; nil but in fault tests

	Finishing atomic.Bool  // it takes no more work, and finishes what it has
	Refused   atomic.Int64 // writes that were refused, since their lease had gone

	// What wakes each of the loops.
	Clock, Work, Slots, Send, Tell, Probe, Turns, Renew, Look, Publish Waker
}

// New makes a node with wakers for its loops.
func New(name string) *Node {
	n := &Node{Name: name}
	for _, w := range []*Waker{&n.Clock, &n.Work, &n.Slots, &n.Send, &n.Tell, &n.Probe, &n.Turns, &n.Renew, &n.Look, &n.Publish} {
		*w = make(Waker, 1)
	}
	return n
}

// Waker shortens the sleep of one loop. Any goroutine may wake it.
type Waker chan struct{}

// Wake ends the sleep, or the next one. It waits for nobody.
func (w Waker) Wake() {
	select {
	case w <- struct{}{}:
	default: // it is awake already
	}
}

// Sleep waits to be woken, for d, or for the end of ctx, and tells whether to go on. Nobody
// wakes who sleeps without a waker.
func Sleep(ctx context.Context, w Waker, d time.Duration) bool {
	timer := time.NewTimer(max(d, 0))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-w:
	case <-timer.C:
	}
	return ctx.Err() == nil
}

// Failed logs a fault of a loop. The loop rests for a moment and goes on: it is the database
// that is away, and it comes back.
func (n *Node) Failed(ctx context.Context, doing string, err error) {
	if ctx.Err() != nil || errors.Is(err, context.Canceled) {
		return
	}
	n.Log.Error("could not "+doing, "error", err)
	Sleep(ctx, nil, time.Second)
}

// Crash tells a fault test, when there is one, that a point is reached.
func (n *Node) Crash(point string) {
	if n.At != nil {
		n.At(point)
	}
}

// AfterStop gives a context that goes on for a while when ctx, the word to stop, has ended: as
// long as what is under way may take to its end.
func (n *Node) AfterStop(ctx context.Context) (context.Context, context.CancelFunc) {
	living, end := context.WithCancel(context.WithoutCancel(ctx))
	forget := context.AfterFunc(ctx, func() {
		timer := time.AfterFunc(n.Stop, end)
		context.AfterFunc(living, func() { timer.Stop() })
	})
	return living, func() {
		forget()
		end()
	}
}

// Ending gives a context for what must still be written when ctx has ended.
func Ending(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
}

// Gather takes what else lies in a channel beside the first, up to a bound: what came while a
// write was under way goes into the next one together.
func Gather[T any](first T, more <-chan T, most int) []T {
	group := []T{first}
	for len(group) < most {
		select {
		case next, ok := <-more:
			if !ok {
				return group
			}
			group = append(group, next)
		default:
			return group
		}
	}
	return group
}
