package notify

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/alert"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
)

// sleeper is a person who is to be told, and until when they are in quiet hours.
type sleeper struct {
	job.Person
	until time.Time
}

// recipients are the people of an alert's step: those who can be told now, and those
// who are told at the end of their quiet hours.
func (nr *Notifier) recipients(ctx context.Context, t *store.Tx, a job.Alert,
	step int,
) (people []job.Person, sleeping []sleeper, err error) {
	all, err := nr.stepPeople(ctx, t, a, step)
	if err != nil {
		return nil, nil, err
	}
	if a.Kind != job.AlertConsent { // what a person may say only themselves goes to nobody else
		if all, err = nr.standIns(ctx, t, all); err != nil {
			return nil, nil, err
		}
	}
	for _, p := range all {
		if p.Mail == "" {
			continue
		}
		if until, is := nr.quiet(p); is && !a.Urgent {
			sleeping = append(sleeping, sleeper{p, until})
			continue
		}
		people = append(people, p)
	}
	return people, sleeping, nil
}

// quiet tells until when a person is in quiet hours.
func (nr *Notifier) quiet(p job.Person) (until time.Time, is bool) {
	place, err := zone.Load(p.Zone)
	if err != nil {
		place = time.UTC
	}
	return p.Wishes.Quiet(nr.node.Now().In(place))
}

// lastQuiet is when the last of all who are told of an alert leaves quiet hours; zero
// when nobody is in any.
func (nr *Notifier) lastQuiet(ctx context.Context, t *store.Tx, a job.Alert) (last time.Time, err error) {
	for step := alert.StepOwner; step < alert.StepCall; step++ {
		_, sleeping, err := nr.recipients(ctx, t, a, step)
		if err != nil {
			return last, err
		}
		for _, p := range sleeping {
			if p.until.After(last) {
				last = p.until
			}
		}
	}
	return last, nil
}

// standIns puts those who stand in for people who are away in their place, as far as
// they name any.
func (nr *Notifier) standIns(ctx context.Context, t *store.Tx, people []job.Person) ([]job.Person, error) {
	const most = 3
	known := map[int64]bool{}
	var out []job.Person
	for _, p := range people {
		for range most {
			if !p.Wishes.Away(nr.node.Now()) || p.Wishes.StandIn == "" {
				break
			}
			in, _, err := t.PersonByLogin(ctx, p.Wishes.StandIn)
			if db.IsMissing(err) {
				break
			}
			if err != nil {
				return nil, err
			}
			p = in
		}
		if !known[p.ID] {
			known[p.ID] = true
			out = append(out, p)
		}
	}
	return out, nil
}

// stepPeople are all people of an alert's step. That of a destination belongs to
// the administrators and to the owners of what waits for it.
func (nr *Notifier) stepPeople(ctx context.Context, t *store.Tx, a job.Alert, step int) ([]job.Person, error) {
	known := map[int64]bool{}
	var out []job.Person
	add := func(p job.Person) {
		if !known[p.ID] {
			known[p.ID] = true
			out = append(out, p)
		}
	}
	if a.Kind == job.AlertConsent {
		if a.JobID == nil {
			// The address of a person, or the allowed domains.
			if step != alert.StepOwner {
				return nil, nil
			}
			return t.Administrators(ctx)
		}
		// The question goes to those who may answer it, and to nobody who had a hand in it.
		first, others, err := nr.mayConsent(ctx, t, a)
		switch step {
		case alert.StepOwner:
			return first, err
		case alert.StepSecond:
			return others, err
		}
		return nil, err
	}
	var second string
	var owner *job.Person
	if a.Owner != "" {
		p, _, err := t.PersonByLogin(ctx, a.Owner)
		if err != nil && !db.IsMissing(err) {
			return nil, err
		}
		if err == nil { // they may have been removed with their jobs, while a run was under way
			owner = &p
		}
	}
	if a.JobID != nil && step > alert.StepOwner {
		j, err := t.Job(ctx, fmt.Sprint(*a.JobID))
		if err != nil && !db.IsMissing(err) {
			return nil, err
		}
		second = j.SecondOwner
	}
	switch {
	case step == alert.StepOwner && owner != nil:
		add(*owner)
	case step == alert.StepSecond && second != "":
		p, _, err := t.PersonByLogin(ctx, second)
		if err != nil && !db.IsMissing(err) {
			return nil, err
		}
		if err == nil {
			add(p)
		}
	case step == alert.StepAdministrators || step == alert.StepOwner && a.Kind == job.AlertDown:
		all, err := t.Administrators(ctx)
		if err != nil {
			return nil, err
		}
		for _, p := range all {
			if owner == nil || p.ID != owner.ID {
				add(p)
			}
		}
		if a.Kind != job.AlertDown {
			break
		}
		if step != alert.StepOwner {
			return nil, nil // they were told in the first step
		}
		owners, err := t.OwnersWaiting(ctx, a.Cause)
		if err != nil {
			return nil, err
		}
		for _, p := range owners {
			add(p)
		}
	}
	return out, nil
}
