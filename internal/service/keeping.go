package service

import (
	"context"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/operation"
)

// SaveKeeping says how long is kept what belongs to no single job.
func (st *Settings) SaveKeeping(ctx context.Context, who job.Person, k job.KeepingSettings) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	k = k.WithDefaults()
	if err := k.Check(); err != nil {
		return err
	}
	return st.store.Do(ctx, func(t *store.Tx) error {
		before, err := t.Keeping(ctx)
		if err != nil {
			return err
		}
		if err := t.PutSetting(ctx, operation.KeepingSetting, k); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", operation.KeepingSetting, before, k)
	})
}
