package engine

import (
	"context"
	"fmt"
	"sync"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/rule"
	"ironbell/internal/store"
)

const (
	ringBatch    = 1000 // triggers in one transaction
	ringsAtOnce  = 500  // due times of one trigger in one transaction, after an outage
	maxRuleCache = 50_000
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
	p := store.RingPlan{JobOf: map[int64]int64{}, Next: map[int64]*time.Time{}, Moved: map[job.RunID]time.Time{}}
	type together struct {
		job    int64
		values string
		due    int64
	}
	made := map[together]int{} // place in p.Runs
	for _, t := range due {
		p.JobOf[t.ID] = t.JobID
		r, err := e.rules.get(t.Rule, t.Zone)
		if err != nil {
			// It was checked when it was saved, so the zone data has changed.
			e.o.Log.Error("a trigger can no longer be read and rings no more", "job", t.Job, "rule", t.Rule, "zone", t.Zone, "error", err)
			p.Next[t.ID] = nil
			continue
		}
		dues, next := dueTimes(r, t.NextDue, now)
		p.Next[t.ID] = next
		more := next != nil && !next.After(now)
		last := -1
		for _, d := range policy.Rings(t.AfterOutage, t.Overlap, dues, now, more, policy.Open{Working: t.Working, Waiting: t.Waiting}) {
			ring := job.Ring{TriggerID: t.ID, Due: d.Due, Nominal: d.Due, Decision: d.Decision, Reason: d.Reason}
			key := together{t.JobID, t.Given.V.Key(), d.Due.Unix()}
			other, beside := made[key]
			switch {
			case d.Decision == job.RingRun && beside:
				ring.Decision, ring.Reason = job.RingJoined, "another trigger of this job rang at the same time with equal values"
				last = other
				ring.RunID = &p.Runs[last].ID
			case d.Decision == job.RingRun:
				trigger := t.ID
				last = len(p.Runs)
				made[key] = last
				p.Runs = append(p.Runs, store.NewRun{
					ID: job.RunID(-1 - last), JobID: t.JobID, Job: t.Job, JobVersion: t.JobVersion, TriggerID: &trigger,
					Why:     fmt.Sprintf("Rang by its rule: %s (%s). %s.", r.Reading(), t.Zone, upper(d.Reason)),
					Nominal: d.Due, Due: d.Due, Zone: t.Zone, Given: t.Given.V, Priority: t.Priority, Gated: t.Overlap != job.OverlapTogether,
				})
				ring.RunID = &p.Runs[last].ID
			case d.Decision == job.RingJoined && d.Joins != 0:
				joined := d.Joins
				ring.RunID = &joined
				p.Moved[joined] = d.Due
			case d.Decision == job.RingJoined:
				p.Runs[last].Nominal = d.Due
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

// dueTimes lists the due times from first up to now, and the one after them.
func dueTimes(r rule.Rule, first, now time.Time) (dues []time.Time, next *time.Time) {
	for at := first; ; {
		dues = append(dues, at)
		following, ok := r.Next(at)
		if !ok {
			return dues, nil
		}
		if following.After(now) || len(dues) == ringsAtOnce {
			return dues, &following
		}
		at = following
	}
}

func upper(sentence string) string {
	if sentence == "" || sentence[0] < 'a' || sentence[0] > 'z' {
		return sentence
	}
	return string(sentence[0]-32) + sentence[1:]
}

// ruleCache keeps rules that were read. It is emptied when it is full.
type ruleCache struct {
	mu   sync.Mutex
	read map[[2]string]rule.Rule
}

func (c *ruleCache) get(text, zone string) (rule.Rule, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if r, ok := c.read[[2]string{text, zone}]; ok {
		return r, nil
	}
	z, err := rule.Zone(zone)
	if err != nil {
		return rule.Rule{}, err
	}
	r, err := rule.Parse(text, z)
	if err != nil {
		return rule.Rule{}, err
	}
	if c.read == nil || len(c.read) >= maxRuleCache {
		c.read = map[[2]string]rule.Rule{}
	}
	c.read[[2]string{text, zone}] = r
	return r, nil
}
