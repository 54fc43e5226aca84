package service

import (
	"context"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

// ReleaseSilent lets go, or gives up, what was kept back since nothing left the
// installation.
func (ds *Deliveries) ReleaseSilent(ctx context.Context, who job.Person, send bool) (int64, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return 0, err
	}
	var n int64
	err := ds.store.Do(ctx, func(t *store.Tx) error {
		var runs []job.RunID
		var err error
		if n, runs, err = t.ReleaseSilent(ctx, send, who.Name); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, map[bool]string{true: "send", false: "drop"}[send], "deliveries", "silent",
			nil, map[string]any{"deliveries": n}); err != nil {
			return err
		}
		return ds.settle.Settle(ctx, t, runs)
	})
	return n, err
}
