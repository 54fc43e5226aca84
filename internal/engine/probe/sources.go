package probe

import (
	"context"

	"ironbell/internal/core/fault"
	"ironbell/internal/engine/rests"
	"ironbell/internal/store"
	"ironbell/internal/store/queue"
)

// lookAtRests looks at what rests and whose time has come.
func (pb *Prober) lookAtRests(ctx context.Context) error {
	for ctx.Err() == nil && pb.asking.free() {
		r, ok, err := pb.store.TakeLook(ctx)
		if err != nil || !ok {
			return err
		}
		pb.ask(ctx, r.Label, "look at what rests", func() error { return pb.lookAtRest(ctx, r) })
	}
	return nil
}

// lookAtRest looks at one source, or the store of artifacts.
func (pb *Prober) lookAtRest(ctx context.Context, r queue.RestOf) error {
	f := pb.rests.LookAtLabel(ctx, r.Label)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if f == nil {
		return pb.rests.EndRest(ctx, r.Label, "it works again")
	}
	next := pb.probeWait(r.Probes)
	if f.Class == fault.Lasting && r.Label != queue.StoreLabel && r.Probes >= rests.LookLonger {
		next = 0
	}
	r.Answer, r.Advice, r.Class = f.Error(), f.Advice, string(f.Class)
	return pb.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LookAgain(ctx, r.Label, f, next); err != nil {
			return err
		}
		return pb.rests.RestAlert(ctx, t, r)
	})
}
