package engine

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/scratch"
	"ironbell/internal/store"
)

// keepHouse does what is due about once an hour: the partitions to come, what
// has ended, and what has been kept long enough.
func (e *Engine) keepHouse(ctx context.Context) error {
	is, err := e.Installation(ctx)
	if err != nil {
		return err
	}
	// Files that the original may still need are nobody's here to remove.
	shared := is.Copy != nil || is.Test != nil && is.Test.Files == is.Files
	now := e.node.Now()
	for doing, do := range map[string]func() error{
		"make the partitions of the coming months": func() error { return e.store.EnsureMonths(ctx) },
		"forget sign-ins that have ended":          func() error { return e.store.SweepAccess(ctx) },
		"forget what never came together":          func() error { return e.store.SweepHappened(ctx, now.AddDate(0, 0, -40)) },
		"forget old names":                         func() error { return e.store.SweepNames(ctx) },
		"remove what was kept long enough":         func() error { return e.sweepOld(ctx) },
		"remove files that were kept long enough":  func() error { return unless(shared, func() error { return e.removeFiles(ctx) }) },
		"remove old logs and runs":                 func() error { return e.sweepHistory(ctx, now) },
		"remove old months":                        func() error { return e.store.DropMonths(ctx) },
		"remove temporary folders that were left":  func() error { _, err := scratch.Sweep(); return err },
		"remove files that nobody knows":           func() error { return unless(shared, func() error { return e.removeStrays(ctx, time.Now()) }) }, // files have the times of the disk
	} {
		if err := do(); err != nil {
			return fmt.Errorf("%s: %w", doing, err)
		}
	}
	return nil
}

// sweepOld removes what belongs to no single job and was kept long enough.
func (e *Engine) sweepOld(ctx context.Context) error {
	k, err := e.store.Keeping(ctx)
	if err != nil {
		return err
	}
	return e.store.SweepOld(ctx, k)
}

// SaveKeeping says how long is kept what belongs to no single job.
func (e *Engine) SaveKeeping(ctx context.Context, who job.Person, k job.KeepingSettings) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	k = k.WithDefaults()
	if err := k.Check(); err != nil {
		return err
	}
	return e.store.Do(ctx, func(t *store.Tx) error {
		before, err := t.Keeping(ctx)
		if err != nil {
			return err
		}
		if err := t.PutSetting(ctx, store.KeepingSetting, k); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", store.KeepingSetting, before, k)
	})
}

// unless does something, unless it is not to be done here.
func unless(not bool, do func() error) error {
	if not {
		return nil
	}
	return do()
}

// sweepHistory removes old logs and runs, once a day.
func (e *Engine) sweepHistory(ctx context.Context, now time.Time) error {
	if now.Sub(e.swept) < 24*time.Hour {
		return nil
	}
	err := e.store.SweepHistory(ctx)
	if err == nil {
		e.swept = now
	}
	return err
}

// removeFiles removes the files of runs and messages that have been kept for
// as long as their jobs say. Their records stay with the runs.
func (e *Engine) removeFiles(ctx context.Context) error {
	for ctx.Err() == nil {
		keys, err := e.store.OldFiles(ctx, reapBatch)
		if err != nil || len(keys) == 0 {
			return err
		}
		for _, k := range keys {
			if err := e.files.Remove(k.Key); err != nil {
				return err
			}
		}
		if err := e.store.FilesRemoved(ctx, keys); err != nil {
			return err
		}
		if len(keys) < reapBatch {
			return nil
		}
	}
	return ctx.Err()
}

// strayAge is how old a file must be that no record names before it is removed:
// older than any task may take.
const strayAge = 48 * time.Hour

// removeStrays removes what nodes that died left in the store of artifacts: one
// of its 256 folders at each call.
func (e *Engine) removeStrays(ctx context.Context, now time.Time) error {
	folder := strconv.FormatInt(256+now.Unix()/int64(upkeep/time.Second)%256, 16)[1:]
	old, err := e.files.Older(folder, now.Add(-strayAge))
	if err != nil || len(old) == 0 {
		return err
	}
	known, err := e.store.KnownKeys(ctx, old)
	if err != nil {
		return err
	}
	for _, key := range old {
		if known[key] {
			continue
		}
		if err := e.files.Remove(key); err != nil {
			return err
		}
		e.node.Log.Info("removed a file that no record names", "key", key)
	}
	return nil
}
