package timetable

import (
	"context"
	"log/slog"
	"time"

	"ironbell/internal/store"
	"ironbell/internal/store/records"
)

// ZoneSetting is the setting with the version of the zone data by which due times were
// reckoned.
const ZoneSetting = "zones"

// Zones reckons due times anew that other zone data gave than this node's.
type Zones struct {
	Version string // of this node's zone data
	Times   *Timetable
	Store   *store.Store
	Now     func() time.Time
	Log     *slog.Logger
}

// zoneBatch is how many triggers are reckoned anew in one transaction.
const zoneBatch = 500

// Reckon reckons the due times to come anew that other zone data gave, batch by
// batch. What is due already stands, and is decided on by the clock. While a node
// with newer data works, what that node reckoned is left alone: the newest data wins.
func (z Zones) Reckon(ctx context.Context) error {
	var was string
	known, err := z.Store.Setting(ctx, ZoneSetting, &was)
	if err != nil {
		return err
	}
	if newer, err := z.Store.NewerZones(ctx, z.Version); err != nil || newer {
		return err
	}
	if !known {
		was = z.Version // nothing was reckoned before
	}
	if was == z.Version {
		mixed, err := z.Store.OtherZonesAlive(ctx, z.Version)
		if err != nil || known && !mixed {
			return err
		}
	}
	moved, total := []string{}, 0
	for after, more := int64(0), true; more && ctx.Err() == nil; {
		err := z.Store.Do(ctx, func(t *store.Tx) error {
			batch, err := t.ReckonedBy(ctx, after, z.Version, was, was != z.Version, zoneBatch)
			if more = len(batch) == zoneBatch; err != nil || len(batch) == 0 {
				return err
			}
			after = batch[len(batch)-1].ID
			said, err := z.batch(ctx, t, batch)
			total += len(said)
			moved = append(moved, said[:min(len(said), max(0, maxMoved-len(moved)))]...)
			return err
		})
		if err != nil {
			return err
		}
	}
	if ctx.Err() != nil || was == z.Version && total == 0 {
		if known {
			return ctx.Err()
		}
	}
	if total > 0 || was != z.Version {
		z.Log.Warn("the time zone data is new; due times were reckoned again", "moved", total, "rings", moved)
	}
	return z.Store.Do(ctx, func(t *store.Tx) error {
		if was != z.Version || total > 0 {
			if err := t.Audit(ctx, "ironbell", "reckon again", "setting", ZoneSetting, map[string]string{"zones": was},
				map[string]any{"zones": z.Version, "count": total, "moved": moved}); err != nil {
				return err
			}
		}
		return t.PutSetting(ctx, ZoneSetting, z.Version)
	})
}

// maxMoved bounds how many rings are named that new zone data moved.
const maxMoved = 1000

// batch reckons locked triggers anew by this node's zone data and tells which
// rings moved.
func (z Zones) batch(ctx context.Context, t *store.Tx, batch []records.OtherZones) (moved []string, err error) {
	if err := z.Times.Refresh(ctx, t); err != nil {
		return nil, err
	}
	now := z.Now()
	next, stand := map[int64]*records.NextRing{}, []int64{}
	for _, o := range batch {
		r, err := z.Times.Rule(o.Timing.V, o.Zone, o.Calendars.V)
		if err != nil || !o.NextDue.After(now) {
			// What cannot be read is set apart when it is due. What is due stands; the
			// clock knows by the zone data beside it what it was reckoned by.
			if err != nil {
				stand = append(stand, o.ID)
			}
			continue
		}
		waited := records.NextRing{Due: o.NextDue, Nominal: o.NextDue}
		if o.NextNominal != nil {
			waited.Nominal = *o.NextNominal
		}
		ring := Again(r, waited, now, Slack(r))
		if ring != nil && ring.Due.Equal(waited.Due) && ring.Nominal.Equal(waited.Nominal) {
			stand = append(stand, o.ID)
			continue
		}
		next[o.ID] = ring
		moved = append(moved, sayMoved(o.Job, r, waited.Due, ring))
	}
	if err := t.KeepDue(ctx, stand, z.Version); err != nil {
		return nil, err
	}
	return moved, t.MoveTriggers(ctx, next, z.Version)
}
