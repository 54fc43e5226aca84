package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
	"ironbell/internal/timetable"
)

// compile lays a calendar out that somebody writes. Its error is a *fault.Invalid.
func (cs *Calendars) compile(name string, d calendar.Definition) (*calendar.Calendar, error) {
	v := &fault.Invalid{What: fmt.Sprintf("calendar %q", name)}
	CheckName(v, "name", name)
	c, err := calendar.Compile(name, d)
	for _, one := range joined(err) {
		var wrong *calendar.Wrong
		if errors.As(one, &wrong) {
			v.Add(wrong.Where, "%s", wrong.Sentence)
		}
	}
	return c, v.Err()
}

// Save saves a calendar as a new version and reckons the next rings of
// the jobs that go by it. With try nothing is saved.
func (cs *Calendars) Save(ctx context.Context, who job.Person, name string, d calendar.Definition,
	try bool,
) (records.Calendar, error) {
	var saved records.Calendar
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return saved, err
	}
	if _, err := cs.compile(name, d); err != nil {
		return saved, err
	}
	if err := cs.times.Refresh(ctx, cs.store); err != nil {
		return saved, err
	}
	old, err := cs.store.Calendar(ctx, name)
	if err != nil && !db.IsMissing(err) {
		return saved, err
	}
	jobs, err := cs.store.JobsUsing(ctx, "calendar", old.ID)
	if err != nil {
		return saved, err
	}
	if try {
		saved = old
		saved.Name, saved.Definition = name, d
		return saved, nil
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
		var asSaved timetable.Timetable // nobody else goes by it before it is committed
		if err := asSaved.Refresh(ctx, t); err != nil {
			return err
		}
		if jobs, err = t.JobsUsing(ctx, "calendar", saved.ID); err != nil {
			return err
		}
		next, _ := asSaved.Reckon(jobs, cs.now(), cs.unread)
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
		return saved, err
	}
	return saved, cs.times.Refresh(ctx, cs.store)
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
