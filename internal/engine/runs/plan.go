package runs

import (
	"fmt"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/event"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
	"ironbell/internal/timetable"
)

// ringsAtOnce is how many due times of one trigger are decided on in one transaction, after an
// outage.
const ringsAtOnce = 500

// plan decides on all due times of the triggers.
func (rs *Runs) plan(due []rings.DueTrigger, now time.Time, c circumstances) (rings.RingPlan, error) {
	p := rings.RingPlan{
		JobOf: map[int64]int64{}, Next: map[int64]*records.NextRing{}, Moved: map[job.RunID]time.Time{},
		Zones: zone.Version(),
	}
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
			return p,
				fmt.Errorf("the rule %q of %s (%s) can no longer be read: %w", t.Timing.V.Rule, t.Job, t.Zone, err)
		}
		steps, next := rs.dueRings(r, t, now)
		p.Next[t.ID] = next
		at, dues := map[time.Time]dueRing{}, make([]time.Time, 0, len(steps))
		for _, s := range steps {
			if stands[t.ID][s.Due.Unix()] {
				continue // it was decided on by a node whose clock is ahead
			}
			if s.Passed {
				p.Rings = append(p.Rings, job.Ring{
					TriggerID: t.ID, Due: s.Due, Nominal: s.Nominal, Decision: job.RingPassedOver,
					Reason: r.Reason(s.Ring),
				})
				continue
			}
			if f := job.FreezeOf(c.frozen, t.Labels.V, s.Due); f != nil && f.PassesOver() {
				p.Rings = append(p.Rings, job.Ring{
					TriggerID: t.ID, Due: s.Due, Nominal: s.Nominal, Decision: job.RingPassedOver, Reason: f.Reading(),
				})
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
				ring.Decision, ring.Reason, ring.RunID = job.RingJoined,
					"another trigger of this job rang at the same time with equal values", &earlier
			case d.Decision == job.RingRun && beside:
				ring.Decision, ring.Reason = job.RingJoined,
					"another trigger of this job rang at the same time with equal values"
				last = other
				ring.RunID = &p.Runs[last].ID
				if nominal.After(p.Runs[last].Nominal) {
					p.Runs[last].Nominal = nominal
				}
			case d.Decision == job.RingRun:
				trigger := t.ID
				last = len(p.Runs)
				made[key] = last
				run := rings.NewRun{
					ID: job.RunID(-1 - last), JobID: t.JobID, Job: t.Job, JobVersion: t.JobVersion, TriggerID: &trigger,
					Why:     fmt.Sprintf("Rang by its rule: %s (%s). %s.", r.Reading(), t.Zone, phrase.Upper(d.Reason)),
					Nominal: nominal, Due: d.Due, Zone: t.Zone, Given: t.Given.V, Priority: t.Priority,
					Gated: t.Overlap != job.OverlapTogether, Labels: t.Labels.V,
				}
				if f := job.FreezeOf(c.frozen, t.Labels.V, now); f != nil {
					run.Reason = "held back: " + f.Reading()
					run.Why += " " + phrase.Upper(run.Reason) + "."
				}
				if err := timeRun(&run, t.Delay, t.Deadline.V, c.usual[t.JobID]); err != nil {
					rs.node.Log.Error("a deadline cannot be reckoned", "job", t.Job, "error", err)
				}
				if t.Waits.V != nil {
					until := waitsUntil(*t.Waits.V, d.Due, now, t.Zone)
					run.Held, run.Ready = true, &until
					run.Reason = "waits for " + event.WaitReading(*t.Waits.V)
				}
				// What is late may come to lie outside the permitted hours.
				if opens := r.Permitted(now); opens.After(now) && !run.Held {
					run.Ready = &opens
					run.Why += fmt.Sprintf(" It begins at %s, when its permitted hours do.",
						opens.Format("Mon 2 January 15:04 MST"))
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
func timeRun(run *rings.NewRun, delay float64, d job.Deadline, usual float64) error {
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

// waitsUntil is how long a run waits that a rule rang: as long as within says, or until a time of day.
func waitsUntil(w job.Wait, due, now time.Time, in string) time.Time {
	place, err := zone.Load(in)
	if err == nil && w.Latest != "" {
		if at, ok := policy.DeadlineOf(job.Deadline{At: w.Latest}, due.In(place)); ok {
			return at
		}
	}
	return now.Add(time.Duration(w.WithDefaults().Within))
}

// dueRing is a ring that has come, with why it is not where its rule named it.
type dueRing struct {
	rule.Ring
	reason string
}

// dueRings lists the rings of a trigger up to now, those that are passed over
// with them, and the one after them. The stored due time stands, whatever became of
// calendars and zone data since.
func (rs *Runs) dueRings(r rule.Rule, t rings.DueTrigger, now time.Time) (rings []dueRing, next *records.NextRing) {
	atOnce := ""
	ring, ok := r.Step(t.NextDue.Add(-time.Second))
	if !ok || !ring.Due.Equal(t.NextDue) {
		// The rule knows nothing of this instant.
		ring = rule.Ring{Due: t.NextDue, Nominal: t.NextDue}
		if t.NextNominal != nil {
			ring.Nominal = *t.NextNominal
		}
		if t.Zones != "" && t.Zones != zone.Version() {
			atOnce = fmt.Sprintf("its due time was reckoned by the time zone data %s and stands; those after "+
				"it go by %s", t.Zones, zone.Version())
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
			return rings, &records.NextRing{Due: following.Due, Nominal: following.Nominal}
		}
		ring = following
	}
}
