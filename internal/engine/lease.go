package engine

import (
	"context"
	"time"

	"ironbell/internal/core/job"
)

// holding names a part that this node works on.
type holding struct {
	run  job.RunID
	part int
}

// lease is this node's own view of a lease: how it ends the work when the lease
// is lost, and until when the node may rely on it by its own monotonic clock.
type lease struct {
	cancel context.CancelCauseFunc
	until  time.Time
}

// hold notes that this node works on a part.
func (e *Engine) hold(h holding, cancel context.CancelCauseFunc, since time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.held[h] = &lease{cancel: cancel, until: since.Add(e.o.Lease)}
}

func (e *Engine) release(h holding) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.held, h)
}

// renew prolongs this node's leases at a third of their length, and ends the
// work on what it has lost.
func (e *Engine) renew(ctx context.Context) {
	// The work that ends with ctx still needs its leases to write its end.
	for sleep(ctx, nil, e.o.Lease/3) {
		began := time.Now()
		bounded, stop := context.WithTimeout(ctx, e.o.Lease/3)
		kept, err := e.store.RenewParts(bounded, e.o.Node, e.o.Lease)
		if err == nil {
			err = e.store.RenewDeliveries(bounded, e.o.Node, e.o.Lease)
		}
		stop()
		if err != nil && ctx.Err() == nil {
			e.o.Log.Warn("could not renew the leases", "error", err)
		}
		e.mu.Lock()
		for _, c := range kept {
			if l, ok := e.held[holding{c.RunID, c.Part}]; ok {
				l.until = began.Add(e.o.Lease)
			}
		}
		for h, l := range e.held {
			if time.Now().After(l.until) {
				e.o.Log.Warn("a lease was lost; its work ends here", "run", h.run.String(), "part", h.part)
				l.cancel(errLeaseLost)
			}
		}
		e.mu.Unlock()
	}
}
