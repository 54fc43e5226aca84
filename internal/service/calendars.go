package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
	"ironbell/internal/timetable"
)

// Effect is what a change of a calendar does to one trigger.
type Effect struct {
	Job     string      `json:"job"`
	Zone    string      `json:"zone"`
	Reading string      `json:"reading"`
	Gone    []time.Time `json:"gone" doc:"rings of the coming year that there will not be, at most 20"`
	New     []time.Time `json:"new" doc:"rings of the coming year that there were not, at most 20"`
}

// Bounds of what is told of the effects of a change.
const (
	effectSpan  = 366 * 24 * time.Hour
	effectRings = 2000
	maxEffects  = 20
)

// Save saves a calendar as a new version and reckons the next rings of
// the jobs that go by it. With try nothing is saved; either way the effects on
// the coming year are told.
func (cs *Calendars) Save(ctx context.Context, who job.Person, name string, d calendar.Definition,
	try bool,
) (records.Calendar, []Effect, error) {
	var saved records.Calendar
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return saved, nil, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("calendar %q", name)}
	CheckName(v, "name", name)
	fresh, err := calendar.Compile(name, d)
	for _, one := range joined(err) {
		var wrong *calendar.Wrong
		if errors.As(one, &wrong) {
			v.Add(wrong.Where, "%s", wrong.Sentence)
		}
	}
	if err := v.Err(); err != nil {
		return saved, nil, err
	}
	if err := cs.times.Refresh(ctx, cs.store); err != nil {
		return saved, nil, err
	}
	old, err := cs.store.Calendar(ctx, name)
	if err != nil && !db.IsMissing(err) {
		return saved, nil, err
	}
	jobs, err := cs.store.JobsUsing(ctx, "calendar", old.ID)
	if err != nil {
		return saved, nil, err
	}
	effects := cs.effects(jobs, fresh)
	if try {
		saved = old
		saved.Name, saved.Definition = name, d
		return saved, effects, nil
	}
	err = cs.store.Do(ctx, func(t *store.Tx) error {
		ids := make([]int64, len(jobs))
		for i, j := range jobs {
			ids[i] = j.ID
		}
		// The clock waits until the rings stand where the new calendar has them. What is
		// due already was due by the calendar as it is.
		if err := t.LockTriggers(ctx, ids); err != nil {
			return err
		}
		if err := cs.runs.DecideFirst(ctx, t, ids, ""); err != nil {
			return err
		}
		var err error
		if saved, err = t.PutCalendar(ctx, name, who.ID, d); err != nil {
			return err
		}
		if err := cs.times.Refresh(ctx, t); err != nil {
			return err
		}
		if jobs, err = t.JobsUsing(ctx, "calendar", saved.ID); err != nil {
			return err
		}
		next, _ := cs.times.Reckon(jobs, cs.now(), cs.unread)
		if err := t.MoveTriggers(ctx, next, zone.Version()); err != nil {
			return err
		}
		var before any
		if old.ID != 0 {
			before = old.Definition
		}
		if err := t.Audit(ctx, who.Login, "save", "calendar", name, before, d); err != nil {
			return err
		}
		saved, err = t.Calendar(ctx, name)
		return err
	})
	if err != nil {
		// What was read within the transaction may not have been kept.
		cs.times.Forget()
		return saved, nil, err
	}
	return saved, effects, nil
}

// unread says that a trigger can no longer be read and keeps its next ring.
func (cs *Calendars) unread(j job.Job, rule string, err error) {
	cs.log.Error("a trigger can no longer be read and keeps its next ring", "job", j.Name, "rule", rule, "error", err)
}

func joined(err error) []error {
	var many interface{ Unwrap() []error }
	if errors.As(err, &many) {
		return many.Unwrap()
	}
	if err == nil {
		return nil
	}
	return []error{err}
}

// effects compares the rings of the coming year by the calendar as it is and as
// it would be.
func (cs *Calendars) effects(jobs []job.Job, fresh *calendar.Calendar) []Effect {
	out := []Effect{}
	now := cs.now()
	for _, j := range jobs {
		for _, t := range j.Triggers {
			before, err := cs.times.Rule(t.Timing, j.Zone, j.Calendars)
			if err != nil {
				continue // told of where the job is shown
			}
			var all []*calendar.Calendar
			for _, name := range j.Calendars {
				c := fresh
				if name != fresh.Name() {
					if c, err = cs.times.Calendar([]string{name}); err != nil {
						continue
					}
				}
				all = append(all, c)
			}
			effect := Effect{
				Job: j.Name, Zone: j.Zone, Reading: before.Reading(), Gone: []time.Time{}, New: []time.Time{},
			}
			v := &fault.Invalid{}
			after, ok := t.Read(v, "", before.Location(), calendar.Combine(all...))
			was, will := ringsOf(before, now), map[time.Time]bool{}
			if ok {
				will = ringsOf(after, now)
			}
			effect.Gone, effect.New = difference(was, will), difference(will, was)
			if len(effect.Gone)+len(effect.New) > 0 {
				out = append(out, effect)
			}
		}
	}
	return out
}

func ringsOf(r rule.Rule, from time.Time) map[time.Time]bool {
	out := map[time.Time]bool{}
	for at := from; len(out) < effectRings; {
		next, ok := r.Next(at)
		if !ok || next.Sub(from) > effectSpan {
			break
		}
		out[next], at = true, next
	}
	return out
}

// difference lists what is in a and not in b, the earliest first.
func difference(a, b map[time.Time]bool) []time.Time {
	out := []time.Time{}
	for at := range a {
		if !b[at] {
			out = append(out, at)
		}
	}
	slices.SortFunc(out, time.Time.Compare)
	return out[:min(len(out), maxEffects)]
}

// SaveWhen saves what an administrator says of all rules.
func (cs *Calendars) SaveWhen(ctx context.Context, who job.Person, s job.WhenSettings) (job.WhenSettings, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return s, err
	}
	if s.Floor != 0 && time.Duration(s.Floor) < time.Second {
		return s, fault.WrongField("the question", "floor", errors.New("the floor is one second at least"))
	}
	s = s.WithDefaults()
	before := cs.When()
	err := cs.store.Do(ctx, func(t *store.Tx) error {
		if err := t.PutSetting(ctx, timetable.WhenSetting, s); err != nil {
			return err
		}
		if err := t.Tell(ctx, db.Notice{Kind: job.NoticeCalendars}); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", timetable.WhenSetting, before, s)
	})
	if err != nil {
		return s, err
	}
	return s, cs.times.Refresh(ctx, cs.store)
}
