package upkeep

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"ironbell/internal/scratch"
	"ironbell/internal/store/db"
)

// hourly does what is due about once an hour: the partitions to come, what
// has ended, and what has been kept long enough.
func (u *Upkeep) hourly(ctx context.Context) error {
	is, err := u.installation.Is(ctx)
	if err != nil {
		return err
	}
	all := map[string]func(context.Context) error{
		"make the partitions of the coming months": u.store.EnsureMonths,
		"forget sign-ins that have ended":          u.store.SweepAccess,
		"forget what never came together":          u.sweepHappened,
		"forget old names":                         u.store.SweepNames,
		"remove what was kept long enough":         u.sweepOld,
		"let go what was removed long ago":         u.sweepRemoved,
		"remove old logs and runs":                 u.sweepHistory,
		"remove old months":                        u.store.DropMonths,
		"remove temporary folders that were left":  func(context.Context) error { _, err := scratch.Sweep(); return err },
	}
	// Files that the original may still need are nobody's here to remove.
	if shared := is.Copy != nil || is.Test != nil && is.Test.Files == is.Files; !shared {
		all["remove files that were kept long enough"] = u.removeFiles
		all["remove files that nobody knows"] = u.removeStrays
	}
	for doing, do := range all {
		if err := do(ctx); err != nil {
			return fmt.Errorf("%s: %w", doing, err)
		}
	}
	return nil
}

// neverTogether is how long a condition that has come about waits for the others.
const neverTogether = 40 // days

// sweepHappened forgets conditions whose others never came about.
func (u *Upkeep) sweepHappened(ctx context.Context) error {
	return u.store.SweepHappened(ctx, u.node.Now().AddDate(0, 0, -neverTogether))
}

// sweepOld removes what belongs to no single job and was kept long enough.
func (u *Upkeep) sweepOld(ctx context.Context) error {
	k, err := u.store.Keeping(ctx)
	if err != nil {
		return err
	}
	return u.store.SweepOld(ctx, k)
}

// sweepRemoved lets records go for good that nobody brought back in time.
func (u *Upkeep) sweepRemoved(ctx context.Context) error {
	const batch = 200
	for ctx.Err() == nil {
		n, err := u.store.Gone(ctx, u.node.Now().Add(-db.KeepRemoved), batch)
		if err != nil || n == 0 {
			return err
		}
	}
	return ctx.Err()
}

// sweepHistory removes old logs and runs, once a day.
func (u *Upkeep) sweepHistory(ctx context.Context) error {
	now := u.node.Now()
	if now.Sub(u.swept) < 24*time.Hour {
		return nil
	}
	err := u.store.SweepHistory(ctx)
	if err == nil {
		u.swept = now
	}
	return err
}

// removeFiles removes the files of runs and messages that have been kept for
// as long as their jobs say. Their records stay with the runs.
func (u *Upkeep) removeFiles(ctx context.Context) error {
	for ctx.Err() == nil {
		keys, err := u.store.OldFiles(ctx, reapBatch)
		if err != nil || len(keys) == 0 {
			return err
		}
		for _, k := range keys {
			if err := u.files.Remove(k.Key); err != nil {
				return err
			}
		}
		if err := u.store.FilesRemoved(ctx, keys); err != nil {
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
func (u *Upkeep) removeStrays(ctx context.Context) error {
	now := time.Now() // files have the times of the disk
	folder := strconv.FormatInt(256+now.Unix()/int64(upkeep/time.Second)%256, 16)[1:]
	old, err := u.files.Older(folder, now.Add(-strayAge))
	if err != nil || len(old) == 0 {
		return err
	}
	known, err := u.store.KnownKeys(ctx, old)
	if err != nil {
		return err
	}
	for _, key := range old {
		if known[key] {
			continue
		}
		if err := u.files.Remove(key); err != nil {
			return err
		}
		u.node.Log.Info("removed a file that no record names", "key", key)
	}
	return nil
}
