package upkeep

import (
	"context"
	"time"

	"ironbell/internal/core/zone"
	"ironbell/internal/engine/node"
	"ironbell/internal/store/operation"
)

// Renew prolongs this node's leases at a third of their length, or sooner when that failed, ends the work on
// what it has lost, and says that the node lives.
func (u *Upkeep) Renew(ctx context.Context) {
	for pause := u.node.Lease / 3; ; {
		u.sayAlive(ctx)
		if !node.Sleep(ctx, u.node.Renew, pause) {
			break
		}
		pause = u.node.Lease / 3
		began := time.Now()
		claims, sendings := u.holdings.All()
		bounded, stop := context.WithTimeout(ctx, u.node.Lease/3)
		kept, err := u.store.RenewParts(bounded, u.node.Lease, claims)
		if err == nil {
			err = u.store.RenewDeliveries(bounded, u.node.Lease, sendings)
		}
		stop()
		if err != nil && ctx.Err() == nil {
			u.node.Log.Warn("could not renew the leases", "error", err)
			pause = u.node.Lease / 12 // the next may come through, and in time
		}
		for _, c := range u.holdings.Renewed(kept, began, time.Now()) {
			u.node.Log.Warn("a lease was lost; its work ends here", "run", c.RunID.String(), "part", c.Part)
		}
	}
	ctx, stop := node.Ending(ctx)
	defer stop()
	if err := u.store.ForgetNode(ctx, u.node.Name); err != nil {
		u.node.Log.Warn("could not say that this node has stopped", "error", err)
	}
}

// sayAlive tells the others that this node lives and what it does, and hears whether
// it is to take no more work.
func (u *Upkeep) sayAlive(ctx context.Context) {
	claims, sendings := u.holdings.All()
	bounded, stop := context.WithTimeout(ctx, u.node.Lease/3)
	defer stop()
	finishing, err := u.store.SeeNode(bounded, operation.Node{
		Name: u.node.Name, Version: u.version, Zones: zone.Version(), Parts: len(claims), Deliveries: len(sendings),
		Workers: u.workers,
	})
	if err != nil {
		if ctx.Err() == nil {
			u.node.Log.Warn("could not say that this node lives", "error", err)
		}
		return
	}
	if u.node.Finishing.Swap(finishing) != finishing {
		u.node.Log.Info(map[bool]string{
			true: "this node finishes what it has and takes no more work", false: "this node takes work again",
		}[finishing])
		for _, c := range []node.Waker{u.node.Work, u.node.Slots, u.node.Send} {
			c.Wake()
		}
	}
}
