package service

import (
	"cmp"
	"context"
	"slices"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/usual"
	"ironbell/internal/core/zone"
	"ironbell/internal/event"
)

// Bounds of what is told to be expected.
const (
	expectedConditions = 2000
	MaxExpected        = 1000 // of a forecast
)

// Expected tells by when what jobs wait for is usually there in (from, to], going by the days on which it came,
// and what should be there already: the first limit of them, of jobs that have a part in their name.
func (fo *Foresight) Expected(ctx context.Context, part string, from, to, now time.Time, limit int) ([]job.Expected, error) {
	out := []job.Expected{}
	if err := fo.times.Refresh(ctx, fo.store); err != nil {
		return nil, err
	}
	all, err := fo.store.Expected(ctx, part, now, expectedConditions)
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		wait := e.Waits.V
		place, err := zone.Load(e.Zone)
		if err != nil || e.Condition >= len(wait.For) {
			continue
		}
		open, err := fo.times.Opens(e.Calendars.V)
		if err != nil {
			continue // its calendar is gone, which its job says itself
		}
		past, today := usual.Of(e.Past.V, place), usual.Day(now, place)
		for day := max(usual.Day(from, place), today); day <= usual.Day(to, place); day++ {
			h, ok := past.On(day, today, open)
			if !ok || h.By.After(to) {
				continue
			}
			var came *time.Time
			if day == today {
				came = cameOn(e.Past.V, today, place)
			}
			// What should be there by now and is not is still expected, by who asks about now.
			if overdue := day == today && came == nil && !from.After(now) && !e.Enough(today, place); !h.By.After(from) && !overdue {
				continue
			}
			one := job.Expected{
				JobID: e.JobID, Job: e.Job, Reading: event.Reading(wait.For[e.Condition]), By: h.By, Why: h.Says(), Came: came,
			}
			if !h.Late.IsZero() {
				one.Late = &h.Late
			}
			out = append(out, one)
		}
	}
	slices.SortStableFunc(out, func(a, b job.Expected) int {
		return cmp.Or(a.By.Compare(b.By), cmp.Compare(a.Job, b.Job))
	})
	return out[:min(len(out), limit)], nil
}

// cameOn is when something came on a day; nil when it did not.
func cameOn(past []time.Time, day int64, place *time.Location) *time.Time {
	for _, at := range past {
		if usual.Day(at, place) == day {
			return &at
		}
	}
	return nil
}
