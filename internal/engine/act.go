package engine

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/timetable"
)

// Switch turns a job on or off. A job that is switched on rings from now on;
// what it missed while it was off is not made up.
func (e *Engine) Switch(ctx context.Context, who job.Person, name string, on bool) (job.Job, error) {
	j, err := e.store.Job(ctx, name)
	if err != nil {
		return job.Job{}, err
	}
	if err := access.May(who, access.Ring, "switch the job "+j.Name, j.Owner); err != nil {
		return job.Job{}, err
	}
	if on {
		if err := e.times.Refresh(ctx, e.store); err != nil {
			return job.Job{}, err
		}
		v := &fault.Invalid{What: fmt.Sprintf("job %q cannot be switched on", j.Name)}
		if err := e.checkReady(ctx, v, j.Owner, j.Definition); err != nil {
			return job.Job{}, err
		}
		if err := v.Err(); err != nil {
			return job.Job{}, err
		}
	}
	err = e.store.Do(ctx, func(t *store.Tx) error {
		if j, err = t.LockJob(ctx, j.Name); err != nil || j.On == on {
			return err
		}
		next := map[int64]*store.NextRing{}
		if on {
			if next, err = e.firstRings(ctx, t, j, job.Job{}); err != nil {
				return err
			}
		} else if err := e.endRings(ctx, t, j, who, "switched off"); err != nil {
			return err
		}
		if err := t.SwitchJob(ctx, j.ID, on, next, e.zones); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "switch", "job", j.Name, map[string]bool{"on": j.On}, map[string]bool{"on": on})
	})
	if err != nil {
		return job.Job{}, err
	}
	j, err = e.store.Job(ctx, strconv.FormatInt(j.ID, 10))
	return e.Described(j), err
}

// endRings decides on what is due of a locked job that is switched off, and ends its
// runs that wait for what happens elsewhere: they, and no others, would wait in vain.
func (e *Engine) endRings(ctx context.Context, t *store.Tx, j job.Job, who job.Person, what string) error {
	place, err := zone.Load(j.Zone)
	if err != nil {
		place = time.UTC
	}
	said := fmt.Sprintf("the job was %s at %s by %s", what, e.o.Now().In(place).Format("15:04:05 MST"), who.Name)
	if err := e.decideFirst(ctx, t, []int64{j.ID}, said+", before this was decided on"); err != nil {
		return err
	}
	return e.endHeld(ctx, t, j.ID, nil, said+" while the run waited")
}

// endHeld passes over the runs of a job that wait for what happens, with a reason: of
// some triggers, or of all when there are none.
func (e *Engine) endHeld(ctx context.Context, t *store.Tx, jobID int64, triggers []int64, reason string) error {
	held, err := t.HeldOfJob(ctx, jobID, triggers)
	if err != nil {
		return err
	}
	for _, id := range held {
		if err := t.PassOver(ctx, id, reason); err != nil {
			return err
		}
	}
	return nil
}

// firstRings reckons when each trigger of a locked job rings first: from now on, and
// never at or before a due time that was decided on, whatever the clocks of other
// nodes say. What the job waited for before it was saved stands, where neither its
// rule nor what that goes by has changed.
func (e *Engine) firstRings(ctx context.Context, t *store.Tx, j, before job.Job) (map[int64]*store.NextRing, error) {
	now := e.o.Now()
	// A clock that is ahead decides early by seconds, by minutes at the worst.
	last, err := t.LastRings(ctx, j.ID, now.Add(-24*time.Hour))
	if err != nil {
		return nil, err
	}
	var latest time.Time
	for _, at := range last {
		if at.After(latest) {
			latest = at
		}
	}
	waited := map[int64]store.NextRing{}
	if before.On && before.Zone == j.Zone && slices.Equal(before.Calendars, j.Calendars) {
		for _, b := range before.Triggers {
			if b.NextDue != nil {
				waited[b.ID] = store.NextRing{Due: *b.NextDue, Nominal: *orNominal(b)}
			}
		}
	}
	next := map[int64]*store.NextRing{}
	for _, trigger := range j.Triggers {
		if trigger.Rule == "" {
			continue
		}
		if w, ok := waited[trigger.ID]; ok {
			next[trigger.ID] = &w
			continue
		}
		after := latest // of triggers that this one may stand for
		if at, ok := last[trigger.ID]; ok {
			after = at
		}
		if now.After(after) {
			after = now
		}
		r, err := e.times.Rule(trigger.Timing, j.Zone, j.Calendars)
		if err != nil {
			continue // it was checked just now
		}
		next[trigger.ID] = timetable.First(r, after)
	}
	return next, nil
}

// orNominal is the date that a trigger's rule names for its next ring.
func orNominal(t job.Trigger) *time.Time {
	if t.NextNominal != nil {
		return t.NextNominal
	}
	return t.NextDue
}

// Described adds what the engine can say of a job's triggers: their reading, and
// when they ring next.
func (e *Engine) Described(j job.Job) job.Job {
	now := e.o.Now()
	for i := range j.Triggers {
		t := &j.Triggers[i]
		if t.Rule == "" {
			if t.Wait != nil {
				t.Reading = "when " + waitReading(*t.Wait)
			}
			continue
		}
		r, err := e.times.Rule(t.Timing, j.Zone, j.Calendars)
		if err != nil {
			t.Reading = t.Rule
			continue
		}
		t.Reading = r.Reading()
		if t.Wait != nil {
			t.Reading += ", once " + waitReading(*t.Wait)
		}
		if t.NextDue != nil && t.NextDue.After(now) {
			// What is kept may be a ring that will be passed over.
			t.NextDue = nil
			if next, ok := r.Next(now); ok {
				t.NextDue = &next
			}
		}
	}
	return j
}

// Rules reads the rules of a job's triggers, in their order. One that can no
// longer be read rings never.
func (e *Engine) Rules(j job.Job) []rule.Rule {
	out := make([]rule.Rule, len(j.Triggers))
	for i, t := range j.Triggers {
		if t.Rule == "" {
			continue
		}
		if r, err := e.times.Rule(t.Timing, j.Zone, j.Calendars); err == nil {
			out[i] = r
		}
	}
	return out
}

// Upcoming lists the rings of a job in (after, until], earliest first, at most limit,
// without those that a freeze passes over.
func (e *Engine) Upcoming(j job.Job, passing Passing, after, until time.Time, limit int) []time.Time {
	out := []time.Time{}
	if !j.On {
		return out
	}
	for _, r := range e.Rules(j) {
		n := 0
		for at, ok := r.Next(after); ok && !at.After(until) && n < limit; at, ok = r.Next(at) {
			if passing.Over(j.ID, at) == "" {
				out = append(out, at)
				n++
			}
		}
	}
	slices.SortFunc(out, time.Time.Compare)
	out = slices.CompactFunc(out, time.Time.Equal)
	return out[:min(len(out), limit)]
}

// Verdict is what a person says of a delivery whose answer was lost, or that failed.
type Verdict string

// The verdicts.
const (
	VerdictSent   Verdict = "sent"   // it did arrive
	VerdictFailed Verdict = "failed" // it did not, and shall not be sent
	VerdictResend Verdict = "resend" // send it again
)

// Settle gives a delivery that is unknown its state by a person's word, or sends
// one that is unknown or failed again. The outcome of its run is revised.
func (e *Engine) Settle(ctx context.Context, who job.Person, id int64, verdict Verdict) (job.Delivery, error) {
	var d job.Delivery
	err := e.store.Do(ctx, func(t *store.Tx) error {
		var err error
		if d, err = t.LockDelivery(ctx, id); err != nil {
			return err
		}
		if d.RunID == nil || d.JobID == nil {
			return &fault.Invalid{Wrong: []fault.Wrong{{Sentence: "this delivery belongs to an alert; acknowledge the alert instead"}}}
		}
		j, err := t.Job(ctx, strconv.FormatInt(*d.JobID, 10))
		if err != nil {
			return err
		}
		if err := access.May(who, access.Ring, "settle deliveries of "+j.Name, j.Owner); err != nil {
			return err
		}
		lost := d.State == job.DeliveryUnknown
		again := lost || d.State == job.DeliveryFailed || d.State == job.DeliveryBounced || d.State == job.DeliveryDeclined
		if !lost && (verdict != VerdictResend || !again) {
			return &fault.Invalid{Wrong: []fault.Wrong{{Sentence: fmt.Sprintf("the delivery to %s is %s; only one that is unknown can be settled, and only one that is unknown or failed be sent again", d.Address, d.State)}}}
		}
		text := fmt.Sprintf("%s settled the delivery to %s: %s", who.Name, d.Address, verdict)
		switch verdict {
		case VerdictSent:
			err = t.SettleDelivery(ctx, id, job.DeliverySent, "settled by "+who.Name)
		case VerdictFailed:
			err = t.SettleDelivery(ctx, id, job.DeliveryFailed, "settled by "+who.Name)
		case VerdictResend:
			err = t.Resend(ctx, id, newMessageID(d.MailID))
		default:
			return &fault.Invalid{Wrong: []fault.Wrong{{Where: "as", Sentence: fmt.Sprintf("%q is no verdict; say sent, failed or resend", verdict)}}}
		}
		if err != nil {
			return err
		}
		d, err = e.spoken(ctx, t, who, d, "settle", text, map[string]any{"state": d.State}, map[string]any{"as": verdict})
		return err
	})
	return d, err
}

// spoken records what a person said of a locked delivery, with what it was and what they
// said, revises the outcome of its run, and reads it again.
func (e *Engine) spoken(ctx context.Context, t *store.Tx, who job.Person, d job.Delivery, action, text string, was, said any) (job.Delivery, error) {
	if err := t.Log(ctx, job.LogLine{Part: d.Part, Text: text}, *d.RunID); err != nil {
		return d, err
	}
	if err := t.Audit(ctx, who.Login, action, "delivery", strconv.FormatInt(d.ID, 10), was, said); err != nil {
		return d, err
	}
	if err := e.settleRun(ctx, t, *d.RunID); err != nil {
		return d, err
	}
	return t.LockDelivery(ctx, d.ID)
}

// Acknowledge records that a person takes an alert on, which ends its steps.
func (e *Engine) Acknowledge(ctx context.Context, who job.Person, id int64, end bool) (job.Alert, error) {
	a, err := e.store.Alert(ctx, id)
	if err != nil {
		return a, err
	}
	if err := access.May(who, access.Ring, "take on alerts of "+a.Job, a.Owner); err != nil {
		return a, err
	}
	err = e.store.Do(ctx, func(t *store.Tx) error {
		var err error
		if end {
			err = t.CloseAlert(ctx, id)
		} else {
			err = t.Acknowledge(ctx, id, who.Name)
		}
		if err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, map[bool]string{true: "close", false: "acknowledge"}[end], "alert", strconv.FormatInt(id, 10), nil, nil)
	})
	if err != nil {
		return a, err
	}
	return e.store.Alert(ctx, id)
}
