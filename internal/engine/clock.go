package engine

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
)

const (
	ringBatch   = 1000 // triggers in one transaction
	ringsAtOnce = 500  // due times of one trigger in one transaction, after an outage
)

// clock turns due times into rings and runs.
func (e *Engine) clock(ctx context.Context) {
	for ctx.Err() == nil {
		n, err := e.Ring(ctx)
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

// Ring makes one pass over the triggers that are due and tells how many it moved on.
func (e *Engine) Ring(ctx context.Context) (int, error) {
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
		c, err := e.circumstances(ctx, t, due, now)
		if err != nil {
			return err
		}
		plan := e.plan(due, now, c)
		ids, err := t.RunIDs(ctx, len(plan.Runs))
		if err != nil {
			return err
		}
		number(&plan, ids)
		if err := t.WriteRings(ctx, plan); err != nil {
			return err
		}
		for _, run := range plan.Runs {
			if run.Held {
				if err := e.rang(ctx, t, due, run); err != nil {
					return err
				}
			}
		}
		e.crash(crashRing)
		return nil
	})
	if err == nil && taken > 0 {
		e.crash(crashRung)
	}
	return taken, err
}

// circumstances are what a pass of the clock decides by, beside the triggers.
type circumstances struct {
	frozen []store.Freeze
	usual  map[int64]float64 // seconds that jobs with a deadline usually take
}

func (e *Engine) circumstances(ctx context.Context, t *store.Tx, due []store.DueTrigger, now time.Time) (circumstances, error) {
	c := circumstances{}
	var late []int64
	first := now
	for _, d := range due {
		if (d.Deadline.V != job.Deadline{}) {
			late = append(late, d.JobID)
		}
		if d.NextDue.Before(first) {
			first = d.NextDue
		}
	}
	var err error
	if c.frozen, err = t.FreezeOver(ctx, first, now); err != nil {
		return c, err
	}
	if len(late) > 0 {
		c.usual, err = t.Usual(ctx, late)
	}
	return c, err
}

// rang notes that the rule of a trigger has rung that also waits for something.
func (e *Engine) rang(ctx context.Context, t *store.Tx, due []store.DueTrigger, run store.NewRun) error {
	for _, d := range due {
		if d.ID != *run.TriggerID {
			continue
		}
		if err := e.times.refresh(ctx, t); err != nil {
			return err
		}
		w := store.Waiter{TriggerID: d.ID, Waits: d.Waits, JobID: d.JobID, Rule: d.Timing.V.Rule, Zone: d.Zone, Calendars: d.Calendars, Given: d.Given, Delay: d.Delay}
		_, err := e.happen(ctx, t, w, store.Happened{Place: store.PlaceOfRule, Nominal: run.Nominal, What: "its rule rang", RunID: &run.ID})
		return err
	}
	return nil
}

// freezeOf is the freeze that holds what carries some labels at an instant.
func freezeOf(frozen []store.Freeze, labels []string, at time.Time) *store.Freeze {
	for i, f := range frozen {
		ended := f.To != nil && !f.To.After(at) || f.LiftedAt != nil && !f.LiftedAt.After(at)
		if slices.Contains(labels, f.Label) && !f.From.After(at) && !ended {
			return &frozen[i]
		}
	}
	return nil
}

// heldBack says in words what a freeze does.
func heldBack(f store.Freeze) string {
	what := strings.Replace(f.Label, ":", " ", 1)
	if f.Label == "service" {
		what = "everything"
	}
	text := fmt.Sprintf("%s is frozen", what)
	if f.To != nil {
		text += " until " + f.To.UTC().Format("Mon 2 January 15:04 MST")
	}
	text += ", by " + f.By
	if f.Reason != "" {
		text += ": " + f.Reason
	}
	return text
}

// plan decides on all due times of the triggers. The runs that it makes are
// numbered -1, -2, ... until they get their real numbers.
func (e *Engine) plan(due []store.DueTrigger, now time.Time, c circumstances) store.RingPlan {
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
			if f := freezeOf(c.frozen, t.Labels.V, s.Due); f != nil && f.Rings == "pass over" {
				p.Rings = append(p.Rings, job.Ring{TriggerID: t.ID, Due: s.Due, Nominal: s.Nominal, Decision: job.RingPassedOver, Reason: heldBack(*f)})
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
					Nominal: nominal, Due: d.Due, Zone: t.Zone, Given: t.Given.V, Priority: t.Priority, Gated: t.Overlap != job.OverlapTogether, Labels: t.Labels.V,
				}
				if f := freezeOf(c.frozen, t.Labels.V, now); f != nil {
					run.Reason = "held back: " + heldBack(*f)
					run.Why += " " + upper(run.Reason) + "."
				}
				if err := timeRun(&run, t.Delay, t.Deadline.V, c.usual[t.JobID]); err != nil {
					e.o.Log.Error("a deadline cannot be reckoned", "job", t.Job, "error", err)
				}
				if t.Waits.V != nil {
					until := now.Add(time.Duration(t.Waits.V.WithDefaults().Within))
					run.Held, run.Ready = true, &until
					run.Reason = "waits for " + waitReading(*t.Waits.V)
				}
				// What is late may come to lie outside the permitted hours.
				if opens := r.Permitted(now); opens.After(now) && !run.Held {
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

// timeRun gives a run its delay and its deadline; usual is how many seconds the
// job's runs usually take.
func timeRun(run *store.NewRun, delay float64, d job.Deadline, usual float64) error {
	if delay > 0 {
		ready := run.Due.Add(delayOf(delay))
		run.Ready = &ready
		run.Reason = "its job begins " + job.Duration(delayOf(delay)).String() + " after it was due"
	}
	place, err := zone.Load(run.Zone)
	if err != nil {
		return err
	}
	if at, ok := policy.DeadlineOf(d, run.Due.In(place)); ok {
		warn := policy.WarnAt(at, delayOf(usual), time.Time{})
		run.Deadline, run.WarnAt = &at, &warn
	}
	return nil
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
