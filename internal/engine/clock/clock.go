// Package clock turns due times into rings and runs, as soon as they come.
//
// It takes the triggers that are due in batches, which no two nodes have at once, and lets runs
// decide on them; their rings, their runs and the triggers' next due times are one transaction.
// Then it sleeps until the next due time, or until a job was changed. A job that cannot be
// decided on is set apart and holds up no other.
package clock

import (
	"context"
	"errors"
	"time"

	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/runs"
	"ironbell/internal/store"
	"ironbell/internal/store/rings"
)

// asks is what this room asks of the store.
type asks interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
	NextDue(ctx context.Context) (due time.Time, ok bool, err error)
	TryAgain(ctx context.Context, jobID int64) error
}

// Clock is the loop of one node.
type Clock struct {
	node  *node.Node
	store asks
	runs  *runs.Runs
}

// New makes the clock of a node.
func New(n *node.Node, s asks, r *runs.Runs) *Clock {
	return &Clock{node: n, store: s, runs: r}
}

// ringBatch is how many triggers are decided on in one transaction.
const ringBatch = 1000

// Run turns due times into rings and runs.
func (c *Clock) Run(ctx context.Context) {
	var tried time.Time // when what was set apart was looked at
	for ctx.Err() == nil {
		began := c.node.Now()
		ring := c.ring
		if began.Sub(tried).Abs() >= apartLook {
			tried, ring = began, c.Ring
		}
		n, err := ring(ctx)
		if err != nil {
			c.node.Failed(ctx, "ring what is due", err)
			continue
		}
		wait := c.node.Poll
		next, ok, err := c.store.NextDue(ctx)
		switch {
		case err != nil:
			c.node.Failed(ctx, "find what rings next", err)
			continue
		case ok && next.After(began):
			wait = min(wait, next.Sub(c.node.Now()))
		case ok && n > 0:
			continue // there is more
		case ok: // what was due and could not be had is with another node just now
			wait = clockPause
		}
		if !node.Sleep(ctx, c.node.Clock, wait) {
			return
		}
	}
}

// clockPause is how long the clock leaves what is due to the node that has it.
const clockPause = 10 * time.Millisecond

// apartLook is how often the clock looks whether triggers that were set apart are to be
// tried again.
const apartLook = time.Second

// Ring makes one pass over the triggers that are due, also those that were set apart and
// are to be tried again, and tells how many it moved on.
func (c *Clock) Ring(ctx context.Context) (int, error) {
	if err := c.store.TryAgain(ctx, 0); err != nil {
		return 0, err
	}
	return c.ring(ctx)
}

// ring makes one pass. When it cannot be written, its jobs are decided on one by one, and
// those that cannot be are set apart: no trigger holds up another.
func (c *Clock) ring(ctx context.Context) (int, error) {
	var jobID int64
	take := func(limit int) (int, error) {
		if limit > 1 {
			return c.Pass(ctx, limit)
		}
		jobID = 0
		return c.passOver(ctx, func(t *store.Tx, now time.Time) (due []rings.DueTrigger, err error) {
			if jobID, err = t.NextJob(ctx, now); err != nil || jobID == 0 {
				return nil, err
			}
			return t.TakeDue(ctx, now, []int64{jobID})
		})
	}
	return c.node.InBatch(ctx, ringBatch, take, func(why error) (bool, error) {
		if jobID == 0 {
			return false, nil
		}
		return true, c.runs.SetApart(ctx, jobID, why)
	})
}

// Pass decides on what is due of at most so many triggers.
func (c *Clock) Pass(ctx context.Context, limit int) (int, error) {
	return c.passOver(ctx,
		func(t *store.Tx, now time.Time) ([]rings.DueTrigger, error) { return t.TakeNext(ctx, now, limit) })
}

// passOver decides on what it is given to take, and tells of how many triggers.
func (c *Clock) passOver(ctx context.Context,
	take func(t *store.Tx, now time.Time) ([]rings.DueTrigger, error),
) (int, error) {
	taken := 0
	do := func(careful bool) error {
		return c.store.Do(ctx, func(t *store.Tx) error {
			now := c.node.Now()
			due, err := take(t, now)
			if taken = len(due); err != nil || taken == 0 {
				return err
			}
			if err := c.runs.Decide(ctx, t, due, now, careful); err != nil {
				return err
			}
			c.node.Crash(crash.Ring)
			return nil
		})
	}
	err := do(false)
	if errors.Is(err, rings.ErrStands) {
		err = do(true)
	}
	if err == nil && taken > 0 {
		c.node.Crash(crash.Rung)
	}
	return taken, err
}
