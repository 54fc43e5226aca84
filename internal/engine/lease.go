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
	claim   store.Claim
	cancel  context.CancelCauseFunc
	until   time.Time
	entries int64 // that were handed to the ledger under it
}

// hold notes that this node works on a part.
func (e *Engine) hold(c store.Claim, cancel context.CancelCauseFunc, since time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.held[holding{c.RunID, c.Part}] = &lease{claim: c, cancel: cancel, until: since.Add(e.o.Lease)}
}

// numberOf numbers an entry under its lease; 0 when this node does not hold it.
func (e *Engine) numberOf(c store.Claim) int64 {
	e.mu.Lock()
	defer e.mu.Unlock()
	l, ok := e.held[holding{c.RunID, c.Part}]
	if !ok || l.claim.LeaseNo != c.LeaseNo {
		return 0
	}
	l.entries++
	return l.entries
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

// renew prolongs this node's leases at a third of their length, or sooner when that failed, ends the work on
// what it has lost, and says that the node lives.
func (e *Engine) renew(ctx context.Context) {
	for pause := e.o.Lease / 3; ; {
		e.sayAlive(ctx)
		if !sleep(ctx, e.wakeRenew, pause) {
			break
		}
		pause = e.o.Lease / 3
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
			pause = e.o.Lease / 12 // the next may come through, and in time
		}
		e.renewed(kept, began)
	}
	ctx, stop := ending(ctx)
	defer stop()
	if err := e.store.ForgetNode(ctx, e.o.Node); err != nil {
		e.o.Log.Warn("could not say that this node has stopped", "error", err)
	}
}

// sayAlive tells the others that this node lives and what it does, and hears whether
// it is to take no more work.
func (e *Engine) sayAlive(ctx context.Context) {
	claims, sendings := e.worked()
	bounded, stop := context.WithTimeout(ctx, e.o.Lease/3)
	defer stop()
	finishing, err := e.store.SeeNode(bounded, store.Node{Name: e.o.Node, Version: e.o.Version, Zones: e.zones, Parts: len(claims), Deliveries: len(sendings)})
	if err != nil {
		if ctx.Err() == nil {
			e.o.Log.Warn("could not say that this node lives", "error", err)
		}
		return
	}
	if e.finishing.Swap(finishing) != finishing {
		e.o.Log.Info(map[bool]string{true: "this node finishes what it has and takes no more work", false: "this node takes work again"}[finishing])
		for _, c := range []chan struct{}{e.wakeWork, e.wakeDesk, e.wakeSend} {
			wake(c)
		}
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
