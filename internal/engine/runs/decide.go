package runs

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
)

// Decide decides on the due times of locked triggers that have come: it writes their
// rings and runs, and moves them on. careful looks first which decisions stand;
// without it store.ErrStands says when one does.
func (rs *Runs) Decide(ctx context.Context, t *store.Tx, due []rings.DueTrigger, now time.Time,
	careful bool,
) (err error) {
	defer func() {
		if broken := recover(); broken != nil {
			err = fmt.Errorf("the service has a fault of its own: %v", broken)
		}
	}()
	if slices.ContainsFunc(due, func(d rings.DueTrigger) bool { return len(d.Calendars.V) > 0 }) {
		if err := rs.times.Refresh(ctx, t); err != nil {
			return err
		}
	}
	c, err := rs.circumstances(ctx, t, due, now, careful)
	if err != nil {
		return err
	}
	plan, err := rs.plan(due, now, c)
	if err != nil {
		return err
	}
	if err := t.WriteRings(ctx, &plan); err != nil {
		return err
	}
	for _, run := range plan.Runs {
		if run.Held {
			if err := rs.rang(ctx, t, due, run); err != nil {
				return err
			}
		}
	}
	return rs.together(ctx, t, due)
}

// maxDecide bounds the passes over one job before it is saved or switched: 500 due
// times of each trigger in one.
const maxDecide = 4000

// DecideFirst decides on all that is due of some locked jobs, before they are
// changed: as the clock does, or, when over is not empty, by passing it over with
// that reason. What was due when the change came is not lost in it.
func (rs *Runs) DecideFirst(ctx context.Context, t *store.Tx, jobs []int64, over string) error {
	now := rs.node.Now()
	for _, id := range jobs {
		if err := t.TryAgain(ctx, id); err != nil {
			return err
		}
	}
	for range maxDecide {
		due, err := t.TakeDue(ctx, now, jobs)
		if err != nil || len(due) == 0 {
			return err
		}
		unread := map[int64]error{}
		for _, d := range due {
			if _, err := rs.times.Rule(d.Timing.V, d.Zone, d.Calendars.V); err != nil {
				unread[d.ID] = err
			}
		}
		if over == "" && len(unread) == 0 {
			if err := rs.Decide(ctx, t, due, now, true); err != nil {
				return err
			}
			continue
		}
		if err := rs.passOverDue(ctx, t, due, now, over, unread); err != nil {
			return err
		}
	}
	return fmt.Errorf("more due times wait than can be decided on at once; try again")
}

// passOverDue passes over what is due of triggers. Of one that can no longer be read
// only the stored due time is known.
func (rs *Runs) passOverDue(ctx context.Context, t *store.Tx, due []rings.DueTrigger, now time.Time, over string,
	unread map[int64]error,
) error {
	c, err := rs.circumstances(ctx, t, due, now, true)
	if err != nil {
		return err
	}
	p := rings.RingPlan{JobOf: map[int64]int64{}, Next: map[int64]*records.NextRing{}, Zones: zone.Version()}
	for _, d := range due {
		p.JobOf[d.ID] = d.JobID
		nominal := d.NextDue
		if d.NextNominal != nil {
			nominal = *d.NextNominal
		}
		rings := []dueRing{{Ring: rule.Ring{Due: d.NextDue, Nominal: nominal}}}
		var next *records.NextRing
		reason := over
		if err := unread[d.ID]; err != nil {
			reason = strings.TrimPrefix(over+"; its rule cannot be read any more: "+err.Error(), "; ")
		} else if r, err := rs.times.Rule(d.Timing.V, d.Zone, d.Calendars.V); err == nil {
			rings, next = rs.dueRings(r, d, now)
		}
		p.Next[d.ID] = next
		for _, r := range rings {
			if !c.stands(d.ID, r.Due) {
				p.Rings = append(p.Rings, job.Ring{
					TriggerID: d.ID, Due: r.Due, Nominal: r.Nominal, Decision: job.RingPassedOver, Reason: reason,
				})
			}
		}
	}
	if err := t.WriteRings(ctx, &p); err != nil {
		return err
	}
	return rs.together(ctx, t, due)
}

// circumstances are what a pass of the clock decides by, beside the triggers.
type circumstances struct {
	frozen []job.Freeze
	usual  map[int64]float64 // seconds that jobs with a deadline usually take
	stood  []rings.Stood     // decisions that stand on due times of these jobs
}

// stands tells whether a decision stands on a due time of a trigger.
func (c circumstances) stands(trigger int64, due time.Time) bool {
	return slices.ContainsFunc(c.stood, func(s rings.Stood) bool { return s.TriggerID == trigger && s.Due.Equal(due) })
}

func (rs *Runs) circumstances(ctx context.Context, t *store.Tx, due []rings.DueTrigger, now time.Time,
	careful bool,
) (circumstances, error) {
	c := circumstances{}
	var late, jobs []int64
	first := now
	for _, d := range due {
		if (d.Deadline.V != job.Deadline{}) {
			late = append(late, d.JobID)
		}
		if d.NextDue.Before(first) {
			first = d.NextDue
		}
		// What one trigger missed may be worked off in several passes, and another of
		// its job may have rung at the same times in an earlier one.
		if careful || now.Sub(d.NextDue) > policy.Grace {
			jobs = append(jobs, d.JobID)
		}
	}
	var err error
	if c.frozen, err = t.FreezeOver(ctx, first, now); err != nil {
		return c, err
	}
	if len(jobs) > 0 {
		if c.stood, err = t.Standing(ctx, slices.Compact(slices.Sorted(slices.Values(jobs))), first,
			now.Add(time.Hour)); err != nil {
			return c, err
		}
	}
	if len(late) > 0 {
		c.usual, err = t.Usual(ctx, late)
	}
	return c, err
}

// rang notes that the rule of a trigger has rung that also waits for something: its
// run begins when that has happened, or has happened already.
func (rs *Runs) rang(ctx context.Context, t *store.Tx, due []rings.DueTrigger, run rings.NewRun) error {
	for _, d := range due {
		if d.ID != *run.TriggerID {
			continue
		}
		if err := rs.times.Refresh(ctx, t); err != nil {
			return err
		}
		w := rings.Waiter{
			TriggerID: d.ID, Waits: d.Waits, JobID: d.JobID, Rule: d.Timing.V.Rule, Zone: d.Zone,
			Calendars: d.Calendars, Given: d.Given, Delay: d.Delay,
		}
		return rs.holdRun(ctx, t, w, run)
	}
	return nil
}
