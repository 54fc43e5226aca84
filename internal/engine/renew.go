package engine

import (
	"context"
	"time"

	"ironbell/internal/core/zone"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
)

// renew prolongs this node's leases at a third of their length, or sooner when that failed, ends the work on
// what it has lost, and says that the node lives.
func (e *Engine) renew(ctx context.Context) {
	for pause := e.node.Lease / 3; ; {
		e.sayAlive(ctx)
		if !node.Sleep(ctx, e.node.Renew, pause) {
			break
		}
		pause = e.node.Lease / 3
		began := time.Now()
		claims, sendings := e.holdings.All()
		bounded, stop := context.WithTimeout(ctx, e.node.Lease/3)
		kept, err := e.store.RenewParts(bounded, e.node.Lease, claims)
		if err == nil {
			err = e.store.RenewDeliveries(bounded, e.node.Lease, sendings)
		}
		stop()
		if err != nil && ctx.Err() == nil {
			e.node.Log.Warn("could not renew the leases", "error", err)
			pause = e.node.Lease / 12 // the next may come through, and in time
		}
		for _, c := range e.holdings.Renewed(kept, began, time.Now()) {
			e.node.Log.Warn("a lease was lost; its work ends here", "run", c.RunID.String(), "part", c.Part)
		}
	}
	ctx, stop := node.Ending(ctx)
	defer stop()
	if err := e.store.ForgetNode(ctx, e.node.Name); err != nil {
		e.node.Log.Warn("could not say that this node has stopped", "error", err)
	}
}

// sayAlive tells the others that this node lives and what it does, and hears whether
// it is to take no more work.
func (e *Engine) sayAlive(ctx context.Context) {
	claims, sendings := e.holdings.All()
	bounded, stop := context.WithTimeout(ctx, e.node.Lease/3)
	defer stop()
	finishing, err := e.store.SeeNode(bounded, store.Node{Name: e.node.Name, Version: e.o.Version, Zones: zone.Version(), Parts: len(claims), Deliveries: len(sendings)})
	if err != nil {
		if ctx.Err() == nil {
			e.node.Log.Warn("could not say that this node lives", "error", err)
		}
		return
	}
	if e.node.Finishing.Swap(finishing) != finishing {
		e.node.Log.Info(map[bool]string{true: "this node finishes what it has and takes no more work", false: "this node takes work again"}[finishing])
		for _, c := range []node.Waker{e.node.Work, e.node.Desk, e.node.Send} {
			c.Wake()
		}
	}
}
