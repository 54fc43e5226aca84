package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/rule"
	"ironbell/internal/store"
)

const (
	ringBatch   = 1000 // triggers in one transaction
	ringsAtOnce = 500  // due times of one trigger in one transaction, after an outage
)

// clock turns due times into rings and runs.
func (e *Engine) clock(ctx context.Context) {
	for ctx.Err() == nil {
		n, err := e.ring(ctx)
		if err != nil {
			e.failed(ctx, "ring what is due", err)
			continue
		}
		if n > 0 {
			continue // there may be more
		}
		wait := e.o.Poll
		next, ok, err := e.store.NextDue(ctx)
		if err != nil {
			e.failed(ctx, "find what rings next", err)
			continue
		}
		if ok {
			wait = min(wait, next.Sub(e.o.Now()))
		}
		if !sleep(ctx, e.wakeClock, wait) {
			return
		}
	}
}

// ring makes one pass over the triggers that are due and tells how many it moved on.
func (e *Engine) ring(ctx context.Context) (int, error) {
	taken := 0
	err := e.store.Do(ctx, func(t *store.Tx) error {
		now := e.o.Now()
		due, err := t.TakeDue(ctx, now, ringBatch)
		taken = len(due)
		if err != nil || taken == 0 {
			return err
		}
		if slices.ContainsFunc(due, func(d store.DueTrigger) bool { return len(d.Calendars.V) > 0 }) {
			if err := e.times.refresh(ctx, t); err != nil {
				return err
			}
		}
		plan := e.plan(due, now)
		ids, err := t.RunIDs(ctx, len(plan.Runs))
		if err != nil {
			return err
		}
		number(&plan, ids)
		return t.WriteRings(ctx, plan)
	})
	return taken, err
}

// plan decides on all due times of the triggers. The runs that it makes are
// numbered -1, -2, ... until they get their real numbers.
func (e *Engine) plan(due []store.DueTrigger, now time.Time) store.RingPlan {
	p := store.RingPlan{JobOf: map[int64]int64{}, Next: map[int64]*store.NextRing{}, Moved: map[job.RunID]time.Time{}}
	type together struct {
		job    int64
		values string
		due    int64
	}
	made := map[together]int{} // place in p.Runs
	for _, t := range due {
		p.JobOf[t.ID] = t.JobID
		r, err := e.times.rule(t.Timing.V, t.Zone, t.Calendars.V)
		if err != nil {
			// It was checked when it was saved, so the zone data has changed.
			e.o.Log.Error("a trigger can no longer be read and rings no more", "job", t.Job, "rule", t.Timing.V.Rule, "zone", t.Zone, "error", err)
			p.Next[t.ID] = nil
			continue
		}
		steps, next := dueRings(r, t, now)
		p.Next[t.ID] = next
		at, dues := map[time.Time]dueRing{}, make([]time.Time, 0, len(steps))
		for _, s := range steps {
			if s.Passed {
				p.Rings = append(p.Rings, job.Ring{TriggerID: t.ID, Due: s.Due, Nominal: s.Nominal, Decision: job.RingPassedOver, Reason: r.Reason(s.Ring)})
				continue
			}
			at[s.Due] = s
			dues = append(dues, s.Due)
		}
		more := next != nil && !next.Due.After(now)
		last := -1
		for _, d := range policy.Rings(t.AfterOutage, t.Overlap, dues, now, more, policy.Open{Working: t.Working, Waiting: t.Waiting}) {
			nominal := at[d.Due].Nominal
			if moved := at[d.Due].reason; moved != "" {
				d.Reason = moved + "; " + d.Reason
			}
			ring := job.Ring{TriggerID: t.ID, Due: d.Due, Nominal: nominal, Decision: d.Decision, Reason: d.Reason}
			key := together{t.JobID, t.Given.V.Key(), d.Due.Unix()}
			other, beside := made[key]
			switch {
			case d.Decision == job.RingRun && beside:
				ring.Decision, ring.Reason = job.RingJoined, "another trigger of this job rang at the same time with equal values"
				last = other
				ring.RunID = &p.Runs[last].ID
				if nominal.After(p.Runs[last].Nominal) {
					p.Runs[last].Nominal = nominal
				}
			case d.Decision == job.RingRun:
				trigger := t.ID
				last = len(p.Runs)
				made[key] = last
				run := store.NewRun{
					ID: job.RunID(-1 - last), JobID: t.JobID, Job: t.Job, JobVersion: t.JobVersion, TriggerID: &trigger,
					Why:     fmt.Sprintf("Rang by its rule: %s (%s). %s.", r.Reading(), t.Zone, upper(d.Reason)),
					Nominal: nominal, Due: d.Due, Zone: t.Zone, Given: t.Given.V, Priority: t.Priority, Gated: t.Overlap != job.OverlapTogether,
				}
				// What is late may come to lie outside the permitted hours.
				if opens := r.Permitted(now); opens.After(now) {
					run.Ready = &opens
					run.Why += fmt.Sprintf(" It begins at %s, when its permitted hours do.", opens.Format("Mon 2 January 15:04 MST"))
				}
				p.Runs = append(p.Runs, run)
				ring.RunID = &p.Runs[last].ID
			case d.Decision == job.RingJoined && d.Joins != 0:
				joined := d.Joins
				ring.RunID = &joined
				p.Moved[joined] = nominal
			case d.Decision == job.RingJoined:
				p.Runs[last].Nominal = nominal
				ring.RunID = &p.Runs[last].ID
			}
			if ring.RunID != nil {
				id := *ring.RunID
				ring.RunID = &id
			}
			p.Rings = append(p.Rings, ring)
		}
	}
	return p
}

// number gives the runs of a plan their real numbers.
func number(p *store.RingPlan, ids []job.RunID) {
	for i := range p.Runs {
		p.Runs[i].ID = ids[i]
	}
	for i := range p.Rings {
		if r := p.Rings[i].RunID; r != nil && *r < 0 {
			p.Rings[i].RunID = &ids[-1-int(*r)]
		}
	}
}

// dueRing is a ring that has come, with why it is not where its rule named it.
type dueRing struct {
	rule.Ring
	reason string
}

// dueRings lists the rings of a trigger up to now, those that are passed over
// with them, and the one after them.
func dueRings(r rule.Rule, t store.DueTrigger, now time.Time) (rings []dueRing, next *store.NextRing) {
	atOnce := ""
	ring, ok := r.Step(t.NextDue.Add(-time.Second))
	if !ok || !ring.Due.Equal(t.NextDue) {
		// The rule knows nothing of this instant: an edited calendar moved a ring
		// into the past, and it rings at once.
		ring = rule.Ring{Due: t.NextDue, Nominal: t.NextDue}
		if t.NextNominal != nil {
			ring.Nominal = *t.NextNominal
		}
		atOnce = "a calendar was changed and moved this ring into the past, so it rings at once"
	}
	for {
		d := dueRing{Ring: ring, reason: atOnce}
		if atOnce == "" && ring.Moved() {
			d.reason = r.Reason(ring)
		}
		atOnce = ""
		rings = append(rings, d)
		following, ok := r.Step(ring.Due)
		if !ok {
			return rings, nil
		}
		if following.Due.After(now) || len(rings) == ringsAtOnce {
			return rings, &store.NextRing{Due: following.Due, Nominal: following.Nominal}
		}
		ring = following
	}
}

func upper(sentence string) string {
	if sentence == "" || sentence[0] < 'a' || sentence[0] > 'z' {
		return sentence
	}
	return string(sentence[0]-32) + sentence[1:]
}
