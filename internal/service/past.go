package service

import (
	"context"
	"slices"
	"time"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rule"
)

// maxPast bounds how many runs one call for past dates makes.
const maxPast = 400

// pastRing is a time at which a rule rang, with its trigger's values.
type pastRing struct {
	rule.Ring
	given job.Values
}

// past lists the times at which the rules of a job rang on some dates; where
// they did not, or it has none, the date itself.
func (rs *Runs) past(ctx context.Context, v *fault.Invalid, j job.Job, place *time.Location,
	ask Ask,
) ([]pastRing, error) {
	if err := rs.times.Refresh(ctx, rs.store); err != nil {
		return nil, err
	}
	from, err := time.ParseInLocation(time.DateOnly, ask.From, place)
	if err != nil || !civil.Known(from.Year()) {
		v.Add("from", "%q is no date; write it as 2026-11-23", ask.From)
		return nil, v.Err()
	}
	to := from
	if ask.To != "" {
		if to, err = time.ParseInLocation(time.DateOnly, ask.To, place); err != nil || to.Before(from) ||
			!civil.Known(to.Year()) {
			v.Add("to", "%q is no date from %s on; write it as 2026-11-23", ask.To, ask.From)
			return nil, v.Err()
		}
	}
	end := to.AddDate(0, 0, 1)
	if end.Sub(from) > 3700*24*time.Hour {
		v.Add("to", "these are more than ten years; ask for less at once")
		return nil, v.Err()
	}
	rang := map[string]bool{}
	var times []pastRing
	for _, t := range j.Triggers {
		if t.Rule == "" {
			continue
		}
		r, err := rs.times.Rule(t.Timing, j.Zone, j.Calendars)
		if err != nil {
			return nil, err
		}
		for ring, ok := r.Step(from.Add(-time.Second)); ok && ring.Due.Before(end) &&
			len(times) <= maxPast; ring, ok = r.Step(ring.Due) {
			if ring.Passed {
				continue
			}
			rang[ring.Due.In(place).Format(time.DateOnly)] = true
			times = append(times, pastRing{Ring: ring, given: t.Values})
		}
	}
	if ask.To == "" && !rang[ask.From] {
		times = append(times, pastRing{Ring: rule.Ring{Due: from, Nominal: from}})
	}
	switch {
	case len(times) == 0:
		v.Add("from", "the job rang at no time from %s to %s; ask for one date to run it for that date all the same",
			ask.From, ask.To)
	case len(times) > maxPast:
		v.Add("to", "these are more than %d runs; ask for fewer dates at once", maxPast)
	}
	slices.SortStableFunc(times, func(a, b pastRing) int { return a.Due.Compare(b.Due) })
	// Triggers that were due together with equal values made one run.
	type together struct {
		due    int64
		values string
	}
	made := map[together]bool{}
	times = slices.DeleteFunc(times, func(p pastRing) bool {
		key := together{p.Due.Unix(), p.given.Key()}
		double := made[key]
		made[key] = true
		return double
	})
	return times, v.Err()
}

// Ask is how somebody asks for a run.
type Ask struct {
	Values   job.Values
	Rehearse bool
	From, To string // dates for which it is run as if it had rung then; To may be empty
}
