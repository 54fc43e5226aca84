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
	"ironbell/internal/store"
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
	if j.On == on {
		return e.Described(j), nil
	}
	next := map[int64]*store.NextRing{}
	if on {
		if err := e.times.refresh(ctx, e.store); err != nil {
			return job.Job{}, err
		}
		v := &fault.Invalid{What: fmt.Sprintf("job %q cannot be switched on", j.Name)}
		if err := e.checkReady(ctx, v, j.Owner, j.Definition); err != nil {
			return job.Job{}, err
		}
		if err := v.Err(); err != nil {
			return job.Job{}, err
		}
		for _, t := range j.Triggers {
			if t.Rule == "" {
				continue
			}
			if r, err := e.times.rule(t.Timing, j.Zone, j.Calendars); err == nil {
				next[t.ID] = firstRing(r, e.o.Now())
			}
		}
	}
	err = e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.SwitchJob(ctx, j.ID, on, next); err != nil {
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
		r, err := e.times.rule(t.Timing, j.Zone, j.Calendars)
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
		if r, err := e.times.rule(t.Timing, j.Zone, j.Calendars); err == nil {
			out[i] = r
		}
	}
	return out
}

// Upcoming lists the rings of a job in (after, until], earliest first, at most limit.
func (e *Engine) Upcoming(j job.Job, after, until time.Time, limit int) []time.Time {
	out := []time.Time{}
	if !j.On {
		return out
	}
	for _, r := range e.Rules(j) {
		n := 0
		for at, ok := r.Next(after); ok && !at.After(until) && n < limit; at, ok = r.Next(at) {
			out = append(out, at)
			n++
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
		again := lost || d.State == job.DeliveryFailed || d.State == job.DeliveryBounced
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
		if err := t.Log(ctx, job.LogLine{Text: text}, *d.RunID); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "settle", "delivery", strconv.FormatInt(id, 10), map[string]any{"state": d.State}, map[string]any{"as": verdict}); err != nil {
			return err
		}
		if err := e.settleRun(ctx, t, *d.RunID); err != nil {
			return err
		}
		d, err = t.LockDelivery(ctx, id)
		return err
	})
	return d, err
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
	if end {
		err = e.store.CloseAlert(ctx, id)
	} else {
		err = e.store.Acknowledge(ctx, id, who.Name)
	}
	if err != nil {
		return a, err
	}
	if err := e.store.Audit(ctx, who.Login, map[bool]string{true: "close", false: "acknowledge"}[end], "alert", strconv.FormatInt(id, 10), nil, nil); err != nil {
		return a, err
	}
	return e.store.Alert(ctx, id)
}
