package engine

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

// holding names a part that this node works on.
type holding struct {
	run  job.RunID
	part int
}

// lease is this node's own view of a lease: how it ends the work when the lease
// is lost, and until when the node may rely on it by its own monotonic clock.
type lease struct {
	claim  store.Claim
	cancel context.CancelCauseFunc
	until  time.Time
}

// hold notes that this node works on a part.
func (e *Engine) hold(c store.Claim, cancel context.CancelCauseFunc, since time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.held[holding{c.RunID, c.Part}] = &lease{claim: c, cancel: cancel, until: since.Add(e.o.Lease)}
}

// release notes that it does not any more, however the work ended: a part whose
// end could not be written is given to another node when its lease runs out.
func (e *Engine) release(c store.Claim) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.held, holding{c.RunID, c.Part})
}

// cancelled ends the work on the parts of a run that somebody cancelled. What
// the node writes about them is refused already; this only saves the work.
func (e *Engine) cancelled(run string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for h, l := range e.held {
		if h.run.String() == run {
			l.cancel(errCancelled)
		}
	}
}

// holdSending and releaseSending do the same for deliveries.
func (e *Engine) holdSending(all []store.Sending) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, s := range all {
		e.sending[s.ID] = s
	}
}

func (e *Engine) releaseSending(s store.Sending) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.sending, s.ID)
}

// renew prolongs this node's leases at a third of their length, and ends the
// work on what it has lost.
func (e *Engine) renew(ctx context.Context) {
	for sleep(ctx, nil, e.o.Lease/3) {
		began := time.Now()
		claims, sendings := e.worked()
		bounded, stop := context.WithTimeout(ctx, e.o.Lease/3)
		kept, err := e.store.RenewParts(bounded, e.o.Lease, claims)
		if err == nil {
			err = e.store.RenewDeliveries(bounded, e.o.Lease, sendings)
		}
		stop()
		if err != nil && ctx.Err() == nil {
			e.o.Log.Warn("could not renew the leases", "error", err)
		}
		e.renewed(kept, began)
	}
}

// worked lists what this node works on.
func (e *Engine) worked() (claims []store.Claim, sendings []store.Sending) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, l := range e.held {
		claims = append(claims, l.claim)
	}
	for _, s := range e.sending {
		sendings = append(sendings, s)
	}
	return claims, sendings
}

// renewed notes which leases were prolonged and ends the work whose lease has
// run out by this node's own clock.
func (e *Engine) renewed(kept []store.Claim, at time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, c := range kept {
		if l, ok := e.held[holding{c.RunID, c.Part}]; ok && l.claim.LeaseNo == c.LeaseNo {
			l.until = at.Add(e.o.Lease)
		}
	}
	for h, l := range e.held {
		if time.Now().After(l.until) {
			e.o.Log.Warn("a lease was lost; its work ends here", "run", h.run.String(), "part", h.part)
			l.cancel(errLeaseLost)
		}
	}
}
