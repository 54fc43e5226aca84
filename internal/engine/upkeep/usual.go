package upkeep

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/usual"
	"ironbell/internal/core/zone"
	"ironbell/internal/event"
	"ironbell/internal/store"
	"ironbell/internal/store/rings"
)

const (
	usualTurn   = "reckon usual hours"
	usualEvery  = time.Minute
	usualBatch  = 500
	usualRounds = 40 // batches of one turn; what is left has the next one
	startLeases = 4  // how long a node is up before it says that something has not come: it may not have looked yet
)

// Usual reckons by when what jobs wait for is usually there today, and tells the owners of what is late by its
// own past.
func (u *Upkeep) Usual(ctx context.Context) (time.Duration, error) {
	if due, err := u.store.TakeTurn(ctx, usualTurn, usualEvery); err != nil || !due {
		return usualEvery, err
	}
	for range usualRounds {
		n := 0
		if err := u.store.Do(ctx, func(t *store.Tx) error {
			if err := u.zoneData.Times.Refresh(ctx, t); err != nil {
				return err
			}
			now := u.node.Now()
			all, err := t.TakeUnreckoned(ctx, now, usualBatch)
			if err != nil {
				return err
			}
			n = len(all)
			for _, e := range all {
				if err := u.reckon(ctx, t, e, now); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return usualEvery, err
		}
		if n < usualBatch {
			break
		}
	}
	return usualEvery, u.store.Do(ctx, func(t *store.Tx) error { return t.CloseUnexpected(ctx) })
}

// reckon writes what is usual of one condition today, and opens an alert when it is late already.
func (u *Upkeep) reckon(ctx context.Context, t *store.Tx, e rings.Expecting, now time.Time) error {
	place, err := zone.Load(e.Zone)
	if err != nil {
		place = time.UTC
	}
	today := usual.Day(now, place)
	next := usual.Begins(today+1, place)
	open, err := u.zoneData.Times.Opens(e.Calendars.V)
	if err != nil {
		return t.PutUsual(ctx, e, nil, nil, false, next) // its calendar is gone; the job says so itself
	}
	wait := e.Waits.V.WithDefaults()
	past := usual.Of(e.Past.V, place)
	h, ok := past.On(today, today, open)
	if !ok || e.Condition >= len(wait.For) || wait.For[e.Condition].Start != "" {
		return t.PutUsual(ctx, e, nil, nil, false, next)
	}
	var late *time.Time
	if !h.Late.IsZero() {
		late = &h.Late
	}
	settled := past.Came(today) || e.Enough(today, place)
	// Once it was told for a day it is not told again: such a one was taken for its new day.
	if settled || late == nil || now.Before(*late) {
		return t.PutUsual(ctx, e, &h.By, late, settled, next)
	}
	if now.Sub(u.began) < startLeases*u.node.Lease {
		return t.PutUsual(ctx, e, &h.By, late, false, next)
	}
	// A job of ours that does not end tells so itself, by its own alerts.
	tells := wait.IfLate == job.LateAlert && wait.For[e.Condition].Job == ""
	if err := t.PutUsual(ctx, e, &h.By, late, true, next); err != nil || !tells {
		return err
	}
	what := event.Reading(wait.For[e.Condition])
	return t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertMissed, Cause: rings.LateCause(e.Key), JobID: &e.JobID,
		Happened: phrase.Sentence(fmt.Sprintf("%s has not come yet on %s: it is %s", phrase.Upper(what),
			now.In(place).Format("Monday 2 January"), h.Says())),
		ForWhom: "whoever goes by what " + e.Job + " makes of it",
		Tried:   "It is waited for as before.",
		Advice: "Ask who sends it. When it need not come at this hour, let the job only show it: if_late of its trigger " +
			"says so.",
		Next: "Nothing more by itself. When it comes, this closes.",
	})
}
