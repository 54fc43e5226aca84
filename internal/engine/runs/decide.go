// Package runs alone makes runs: of due times, of what happened elsewhere, and of what people
// ask for. Whatever decides whether a run is made, when it may begin and what it is given stands
// here: freezes, delays, deadlines, overlap, outages, and what it is held for.
//
// It writes in the transactions of those who ask: the clock, waits, and the service.
package runs

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/engine/node"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/engine/gate"
	"ironbell/internal/event"
	"ironbell/internal/store"
	"ironbell/internal/timetable"
)

// Runs makes runs. It may be used by several goroutines.
type Runs struct {
	node  *node.Node
	store *store.Store
	times *timetable.Timetable
}

// New makes the maker of runs.
func New(n *node.Node, s *store.Store, times *timetable.Timetable) *Runs {
	return &Runs{node: n, store: s, times: times}
}

// ringsAtOnce is how many due times of one trigger are decided on in one transaction, after an
// outage.
const ringsAtOnce = 500

// Decide decides on the due times of locked triggers that have come: it writes their
// rings and runs, and moves them on. careful looks first which decisions stand;
// without it store.ErrStands says when one does.
func (rs *Runs) Decide(ctx context.Context, t *store.Tx, due []store.DueTrigger, now time.Time, careful bool) (err error) {
	defer func() {
		if broken := recover(); broken != nil {
			err = fmt.Errorf("the service has a fault of its own: %v", broken)
		}
	}()
	if slices.ContainsFunc(due, func(d store.DueTrigger) bool { return len(d.Calendars.V) > 0 }) {
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

// apartWait is how long a job waits that could not be decided on.
const apartWait = 5 * time.Minute

func apartCause(jobID int64) string { return fmt.Sprintf("apart:%d", jobID) }

// SetApart sets what is due of a job apart, with an alert: its due times wait.
func (rs *Runs) SetApart(ctx context.Context, jobID int64, why error) error {
	rs.node.Log.Error("the rings of a job cannot be decided on; it is set apart", "job", jobID, "error", why)
	return rs.store.Do(ctx, func(t *store.Tx) error {
		j, err := t.Job(ctx, strconv.FormatInt(jobID, 10))
		if err != nil {
			return err
		}
		if err := t.SetApart(ctx, jobID, rs.node.Now(), apartWait, why.Error()); err != nil {
			return err
		}
		return t.OpenAlert(ctx, job.Alert{
			Kind: job.AlertApart, Cause: apartCause(jobID), JobID: &jobID,
			Happened: fmt.Sprintf("What was due of %s could not be rung. %s.", j.Name, phrase.Upper(why.Error())), ForWhom: "its recipients wait for it",
			Tried: "It is tried again every " + job.Duration(apartWait).String() + "; nothing that was due is lost.", Advice: "See whether its rule, zone and calendars can still be read, and save the job again.",
			Next: "When it can be rung, what was missed is decided on as the job says for an outage.",
		})
	})
}

// together takes in again what was set apart and could be decided on now.
func (rs *Runs) together(ctx context.Context, t *store.Tx, due []store.DueTrigger) error {
	var triggers []int64
	var causes []string
	for _, d := range due {
		if d.Apart != "" {
			triggers, causes = append(triggers, d.ID), append(causes, apartCause(d.JobID))
		}
	}
	if len(triggers) == 0 {
		return nil
	}
	if err := t.Together(ctx, triggers); err != nil {
		return err
	}
	return t.CloseAlertsOf(ctx, causes)
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
func (rs *Runs) passOverDue(ctx context.Context, t *store.Tx, due []store.DueTrigger, now time.Time, over string, unread map[int64]error) error {
	c, err := rs.circumstances(ctx, t, due, now, true)
	if err != nil {
		return err
	}
	p := store.RingPlan{JobOf: map[int64]int64{}, Next: map[int64]*store.NextRing{}, Zones: zone.Version()}
	for _, d := range due {
		p.JobOf[d.ID] = d.JobID
		nominal := d.NextDue
		if d.NextNominal != nil {
			nominal = *d.NextNominal
		}
		rings := []dueRing{{Ring: rule.Ring{Due: d.NextDue, Nominal: nominal}}}
		var next *store.NextRing
		reason := over
		if err := unread[d.ID]; err != nil {
			reason = strings.TrimPrefix(over+"; its rule cannot be read any more: "+err.Error(), "; ")
		} else if r, err := rs.times.Rule(d.Timing.V, d.Zone, d.Calendars.V); err == nil {
			rings, next = rs.dueRings(r, d, now)
		}
		p.Next[d.ID] = next
		for _, r := range rings {
			if !c.stands(d.ID, r.Due) {
				p.Rings = append(p.Rings, job.Ring{TriggerID: d.ID, Due: r.Due, Nominal: r.Nominal, Decision: job.RingPassedOver, Reason: reason})
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
	frozen []store.Freeze
	usual  map[int64]float64 // seconds that jobs with a deadline usually take
	stood  []store.Stood     // decisions that stand on due times of these jobs
}

// stands tells whether a decision stands on a due time of a trigger.
func (c circumstances) stands(trigger int64, due time.Time) bool {
	return slices.ContainsFunc(c.stood, func(s store.Stood) bool { return s.TriggerID == trigger && s.Due.Equal(due) })
}

func (rs *Runs) circumstances(ctx context.Context, t *store.Tx, due []store.DueTrigger, now time.Time, careful bool) (circumstances, error) {
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
		if c.stood, err = t.Standing(ctx, slices.Compact(slices.Sorted(slices.Values(jobs))), first, now.Add(time.Hour)); err != nil {
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
func (rs *Runs) rang(ctx context.Context, t *store.Tx, due []store.DueTrigger, run store.NewRun) error {
	for _, d := range due {
		if d.ID != *run.TriggerID {
			continue
		}
		if err := rs.times.Refresh(ctx, t); err != nil {
			return err
		}
		w := store.Waiter{TriggerID: d.ID, Waits: d.Waits, JobID: d.JobID, Rule: d.Timing.V.Rule, Zone: d.Zone, Calendars: d.Calendars, Given: d.Given, Delay: d.Delay}
		return rs.holdRun(ctx, t, w, run)
	}
	return nil
}

// plan decides on all due times of the triggers.
func (rs *Runs) plan(due []store.DueTrigger, now time.Time, c circumstances) (store.RingPlan, error) {
	p := store.RingPlan{JobOf: map[int64]int64{}, Next: map[int64]*store.NextRing{}, Moved: map[job.RunID]time.Time{}, Zones: zone.Version()}
	type together struct {
		job    int64
		values string
		due    int64
		waits  int64 // the trigger, when it waits for something of its own
	}
	made := map[together]int{}         // place in p.Runs
	before := map[together]job.RunID{} // of passes before
	stands := map[int64]map[int64]bool{}
	for _, s := range c.stood {
		if stands[s.TriggerID] == nil {
			stands[s.TriggerID] = map[int64]bool{}
		}
		stands[s.TriggerID][s.Due.Unix()] = true
		if s.RunID != nil {
			before[together{job: s.JobID, values: s.Given.V.Key(), due: s.Due.Unix()}] = *s.RunID
		}
	}
	for _, t := range due {
		p.JobOf[t.ID] = t.JobID
		r, err := rs.times.Rule(t.Timing.V, t.Zone, t.Calendars.V)
		if err != nil {
			// It was checked when it was saved: the zone data has changed, or a calendar went.
			return p, fmt.Errorf("the rule %q of %s (%s) can no longer be read: %w", t.Timing.V.Rule, t.Job, t.Zone, err)
		}
		steps, next := rs.dueRings(r, t, now)
		p.Next[t.ID] = next
		at, dues := map[time.Time]dueRing{}, make([]time.Time, 0, len(steps))
		for _, s := range steps {
			if stands[t.ID][s.Due.Unix()] {
				continue // it was decided on by a node whose clock is ahead
			}
			if s.Passed {
				p.Rings = append(p.Rings, job.Ring{TriggerID: t.ID, Due: s.Due, Nominal: s.Nominal, Decision: job.RingPassedOver, Reason: r.Reason(s.Ring)})
				continue
			}
			if f := gate.FreezeOf(c.frozen, t.Labels.V, s.Due); f != nil && f.Rings == "pass over" {
				p.Rings = append(p.Rings, job.Ring{TriggerID: t.ID, Due: s.Due, Nominal: s.Nominal, Decision: job.RingPassedOver, Reason: gate.HeldBack(*f)})
				continue
			}
			at[s.Due] = s
			dues = append(dues, s.Due)
		}
		more := next != nil && !next.Due.After(now)
		last := -1
		open := policy.Open{Working: t.Working, Waiting: t.Waiting, Held: t.Waits.V != nil}
		for _, d := range policy.Rings(t.AfterOutage, t.Overlap, dues, now, more, open) {
			nominal := at[d.Due].Nominal
			if moved := at[d.Due].reason; moved != "" {
				d.Reason = moved + "; " + d.Reason
			}
			ring := job.Ring{TriggerID: t.ID, Due: d.Due, Nominal: nominal, Decision: d.Decision, Reason: d.Reason}
			key := together{job: t.JobID, values: t.Given.V.Key(), due: d.Due.Unix()}
			if t.Waits.V != nil {
				key.waits = t.ID
			}
			other, beside := made[key]
			earlier, stood := before[key]
			switch {
			case d.Decision == job.RingRun && stood:
				ring.Decision, ring.Reason, ring.RunID = job.RingJoined, "another trigger of this job rang at the same time with equal values", &earlier
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
					Why:     fmt.Sprintf("Rang by its rule: %s (%s). %s.", r.Reading(), t.Zone, phrase.Upper(d.Reason)),
					Nominal: nominal, Due: d.Due, Zone: t.Zone, Given: t.Given.V, Priority: t.Priority, Gated: t.Overlap != job.OverlapTogether, Labels: t.Labels.V,
				}
				if f := gate.FreezeOf(c.frozen, t.Labels.V, now); f != nil {
					run.Reason = "held back: " + gate.HeldBack(*f)
					run.Why += " " + phrase.Upper(run.Reason) + "."
				}
				if err := timeRun(&run, t.Delay, t.Deadline.V, c.usual[t.JobID]); err != nil {
					rs.node.Log.Error("a deadline cannot be reckoned", "job", t.Job, "error", err)
				}
				if t.Waits.V != nil {
					until := now.Add(time.Duration(t.Waits.V.WithDefaults().Within))
					run.Held, run.Ready = true, &until
					run.Reason = "waits for " + event.WaitReading(*t.Waits.V)
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
	return p, nil
}

// timeRun gives a run its delay and its deadline; usual is how many seconds the
// job's runs usually take.
func timeRun(run *store.NewRun, delay float64, d job.Deadline, usual float64) error {
	if delay > 0 {
		ready := run.Due.Add(job.Seconds(delay))
		run.Ready = &ready
		run.Reason = "its job begins " + job.Duration(job.Seconds(delay)).String() + " after it was due"
	}
	place, err := zone.Load(run.Zone)
	if err != nil {
		return err
	}
	if at, ok := policy.DeadlineOf(d, run.Due.In(place)); ok {
		warn := policy.WarnAt(at, job.Seconds(usual), time.Time{})
		run.Deadline, run.WarnAt = &at, &warn
	}
	return nil
}

// dueRing is a ring that has come, with why it is not where its rule named it.
type dueRing struct {
	rule.Ring
	reason string
}

// dueRings lists the rings of a trigger up to now, those that are passed over
// with them, and the one after them. The stored due time stands, whatever became of
// calendars and zone data since.
func (rs *Runs) dueRings(r rule.Rule, t store.DueTrigger, now time.Time) (rings []dueRing, next *store.NextRing) {
	atOnce := ""
	ring, ok := r.Step(t.NextDue.Add(-time.Second))
	if !ok || !ring.Due.Equal(t.NextDue) {
		// The rule knows nothing of this instant.
		ring = rule.Ring{Due: t.NextDue, Nominal: t.NextDue}
		if t.NextNominal != nil {
			ring.Nominal = *t.NextNominal
		}
		if t.Zones != "" && t.Zones != zone.Version() {
			atOnce = fmt.Sprintf("its due time was reckoned by the time zone data %s and stands; those after it go by %s", t.Zones, zone.Version())
			// The ring that the new data has in its place is the same one.
			if same, ok := r.Step(t.NextDue); ok && same.Due.Sub(t.NextDue) < timetable.Slack(r) {
				t.NextDue = same.Due
			}
		} else {
			// An edited calendar moved a ring into the past, and it rings at once.
			atOnce = "a calendar was changed and moved this ring into the past, so it rings at once"
		}
	}
	for {
		d := dueRing{Ring: ring, reason: atOnce}
		after := ring.Due
		if atOnce == "" && ring.Moved() {
			d.reason = r.Reason(ring)
		}
		if atOnce != "" && t.NextDue.After(after) {
			after = t.NextDue
		}
		atOnce = ""
		rings = append(rings, d)
		following, ok := r.Step(after)
		if !ok {
			return rings, nil
		}
		if following.Due.After(now) || len(rings) == ringsAtOnce {
			return rings, &store.NextRing{Due: following.Due, Nominal: following.Nominal}
		}
		ring = following
	}
}
