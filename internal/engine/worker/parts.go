package worker

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"runtime/debug"
	"slices"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/queue"
)

// claimed is a claimed part with what its work needs.
type claimed struct {
	queue.Claim
	ctx    context.Context //nolint:containedctx // it lives as long as the claim
	cancel context.CancelCauseFunc
}

// part carries out the tasks of one part from where it stands, and sends what
// came of it to be written. The part is held until that is done. Once stopping has
// ended, no task of it begins.
func (w *Worker) part(stopping context.Context, c claimed) {
	ctx, log := c.ctx, w.node.Log.With("run", c.RunID.String(), "job", c.Job)
	let := func(err error) {
		w.holdings.Release(c.Claim)
		c.cancel(nil)
		if err != nil && !errors.Is(err, db.ErrStale) {
			log.Error("could not write the end of a part; its lease will run out", "error", err)
		}
	}
	if stopping.Err() != nil {
		w.outcome.RecordLater(w.handBack(c.Claim, slices.Sorted(maps.Keys(c.Begun)), c.Begun), let)
		return
	}
	last, err := w.performed(ctx, stopping, c.Claim, log)
	switch cause := context.Cause(ctx); { //nolint:contextcheck // it lives on for a while after the word to stop
	case err == nil:
	case errors.Is(err, db.ErrStale), errors.Is(cause, lease.ErrLost), errors.Is(cause, lease.ErrCancelled):
		log.Warn("this node has the work no more", "part", c.Part, "cause", cause)
		last = nil
	case ctx.Err() != nil:
		// The service stops, and our records could not be read meanwhile.
		last = w.handBack(c.Claim, nil, nil)
	default:
		// Our own records could not be read or written; the lease runs out, and
		// the part is taken again.
		log.Error("could not go on with a part", "error", err)
		last = nil
	}
	if last == nil {
		let(nil)
		return
	}
	w.outcome.RecordLater(last, let)
}

// handBack gives a part back to the other nodes, with the tasks of it that did not
// come to their end and changed nothing outside: they begin anew.
func (w *Worker) handBack(c queue.Claim, undone []string, tries map[string]int) *outcome.Entry {
	en := &outcome.Entry{Entry: queue.Entry{
		Claim: c,
		Part: &queue.PartMove{
			State: job.PartWaiting, Reason: "node " + w.node.Name + " stopped and handed its work back",
		},
	}}
	for _, name := range undone {
		en.Ends = append(en.Ends, queue.TaskEnd{
			Again: true,
			Attempt: job.Attempt{
				Part: c.Part, Task: name, Try: tries[name], State: job.AttemptLost,
				Note: "its node was told to stop; the next try begins anew",
			},
		})
	}
	return en
}

// Doubt gives back the parts of which nobody knows whether they were claimed, since the
// answer was lost: nothing of them began. The node claims nothing meanwhile, and what the
// records have of another node is left alone, whatever its lease is called.
func (w *Worker) Doubt(ctx context.Context, claims []queue.Claim) {
	for end := time.Now().Add(w.node.Lease); len(claims) > 0 && time.Now().Before(end); {
		err := w.giveBackClaims(ctx, claims)
		if err == nil || db.Refused(err) || !node.Sleep(ctx, nil, outcome.WritePause) {
			return
		}
	}
}

func (w *Worker) giveBackClaims(ctx context.Context, claims []queue.Claim) error {
	ctx, stop := node.Ending(ctx)
	defer stop()
	return w.store.Do(ctx, func(t *store.Tx) error {
		mine, err := t.Claimed(ctx, w.node.Name, claims)
		if err != nil || len(mine) == 0 {
			return err
		}
		entries, runs := make([]*queue.Entry, len(mine)), make([]job.RunID, len(mine))
		for i, c := range mine {
			en := w.handBack(c, slices.Sorted(maps.Keys(c.Begun)), c.Begun)
			en.Part.Reason = "the database did not say whether node " + w.node.Name + " had it, which gave it back"
			entries[i], runs[i] = &en.Entry, c.RunID
		}
		if err := t.WriteEntries(ctx, entries); err != nil {
			return err
		}
		return w.settle.Settle(ctx, t, runs)
	})
}

// performed carries out a part; when that breaks, the part has failed.
func (w *Worker) performed(ctx, stopping context.Context, c queue.Claim,
	log *slog.Logger,
) (last *outcome.Entry, err error) {
	defer func() {
		if broken := recover(); broken != nil {
			log.Error("a task broke", "panic", broken, "stack", string(debug.Stack()))
			last, err = outcome.FailedPart(c,
				fault.New(fault.Task, "carry out the job",
					fmt.Sprintf("the service has a fault of its own: %v", broken),
					"Report it with the log of this time.")), nil
		}
	}()
	return w.perform(ctx, stopping, c)
}
