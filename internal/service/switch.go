package service

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
	"ironbell/internal/event"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/timetable"
)

// Switch turns a job on or off. A job that is switched on rings from now on;
// what it missed while it was off is not made up.
func (js *Jobs) Switch(ctx context.Context, who job.Person, name string, on bool) (job.Job, error) {
	j, err := js.store.Job(ctx, name)
	if err != nil {
		return job.Job{}, err
	}
	if err := access.MayOwn(who, access.Ring, "switch the job "+j.Name, j.Owner, j.Personal); err != nil {
		return job.Job{}, err
	}
	if on {
		if err := js.times.Refresh(ctx, js.store); err != nil {
			return job.Job{}, err
		}
		v := &fault.Invalid{What: fmt.Sprintf("job %q cannot be switched on", j.Name)}
		if err := js.checks.checkReady(ctx, v, j.Owner, j.Definition); err != nil {
			return job.Job{}, err
		}
		if err := v.Err(); err != nil {
			return job.Job{}, err
		}
	}
	err = js.store.Do(ctx, func(t *store.Tx) error {
		if j, err = t.LockJob(ctx, j.Name); err != nil || j.On == on {
			return err
		}
		next := map[int64]*records.NextRing{}
		if on {
			if next, err = js.firstRings(ctx, t, j, job.Job{}); err != nil {
				return err
			}
		} else if err := js.endRings(ctx, t, j, who, "switched off"); err != nil {
			return err
		}
		if err := t.SwitchJob(ctx, j.ID, on, next, zone.Version()); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "switch", "job", j.Name, map[string]bool{"on": j.On}, map[string]bool{"on": on})
	})
	if err != nil {
		return job.Job{}, err
	}
	j, err = js.store.Job(ctx, strconv.FormatInt(j.ID, 10))
	return js.Described(j), err
}

// endRings decides on what is due of a locked job that is switched off, and ends its
// runs that wait for what happens elsewhere: they, and no others, would wait in vain.
func (js *Jobs) endRings(ctx context.Context, t *store.Tx, j job.Job, who job.Person, what string) error {
	place, err := zone.Load(j.Zone)
	if err != nil {
		place = time.UTC
	}
	said := fmt.Sprintf("the job was %s at %s by %s", what, js.now().In(place).Format("15:04:05 MST"), who.Name)
	if err := js.runs.DecideFirst(ctx, t, []int64{j.ID}, said+", before this was decided on"); err != nil {
		return err
	}
	return js.endHeld(ctx, t, j.ID, nil, said+" while the run waited")
}

// endHeld passes over the runs of a job that wait for what happens, with a reason: of
// some triggers, or of all when there are none.
func (js *Jobs) endHeld(ctx context.Context, t *store.Tx, jobID int64, triggers []int64, reason string) error {
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
func (js *Jobs) firstRings(ctx context.Context, t *store.Tx, j, before job.Job) (map[int64]*records.NextRing, error) {
	now := js.now()
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
	waited := map[int64]records.NextRing{}
	if before.On && before.Zone == j.Zone && slices.Equal(before.Calendars, j.Calendars) {
		for _, b := range before.Triggers {
			if b.NextDue != nil {
				waited[b.ID] = records.NextRing{Due: *b.NextDue, Nominal: *orNominal(b)}
			}
		}
	}
	next := map[int64]*records.NextRing{}
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
		r, err := js.times.Rule(trigger.Timing, j.Zone, j.Calendars)
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
func (js *Jobs) Described(j job.Job) job.Job {
	now := js.now()
	for i := range j.Triggers {
		t := &j.Triggers[i]
		if t.Rule == "" {
			if t.Wait != nil {
				word := "when "
				if c := first(t.Wait.For); c.Files != nil || c.Query != nil || c.Start != "" {
					word = "on " // a file, a yes, a start
				}
				t.Reading = word + event.WaitReading(*t.Wait)
			}
			continue
		}
		r, err := js.times.Rule(t.Timing, j.Zone, j.Calendars)
		if err != nil {
			t.Reading = t.Rule
			continue
		}
		t.Reading = r.Reading()
		if t.Wait != nil {
			t.Reading += ", once " + event.WaitReading(*t.Wait)
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
func (js *Jobs) Rules(j job.Job) []rule.Rule {
	out := make([]rule.Rule, len(j.Triggers))
	for i, t := range j.Triggers {
		if t.Rule == "" {
			continue
		}
		if r, err := js.times.Rule(t.Timing, j.Zone, j.Calendars); err == nil {
			out[i] = r
		}
	}
	return out
}

// Upcoming lists the rings of a job in (after, until], earliest first, at most limit,
// without those that a freeze passes over.
func (js *Jobs) Upcoming(j job.Job, passing Passing, after, until time.Time, limit int) []time.Time {
	out := []time.Time{}
	if !j.On {
		return out
	}
	for _, r := range js.Rules(j) {
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

// first is the first condition; none of what waits for nothing yet.
func first(all []job.Condition) job.Condition {
	if len(all) == 0 {
		return job.Condition{}
	}
	return all[0]
}
