package engine

import (
	"context"
	"errors"
	"fmt"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

func (e *Engine) owner(ctx context.Context, v *fault.Invalid, login string) (job.Person, error) {
	p, _, err := e.store.PersonByLogin(ctx, login)
	var missing *store.NotFound
	if errors.As(err, &missing) {
		v.Add("owner", "there is no person %q; name somebody who signs in", login)
		return p, nil
	}
	return p, err
}

// checked is a job that was looked through before it is saved.
type checked struct {
	job.Definition
	old   job.Job // of this name; without an id when there is none
	owner job.Person
	uses  store.Uses
}

// check looks a job through that somebody wants to save. What is wrong with it is
// added to v.
func (e *Engine) check(ctx context.Context, v *fault.Invalid, who job.Person, name, owner string, on bool, d job.Definition) (checked, error) {
	c := checked{}
	CheckName(v, "name", name)
	var err error
	if c.old, err = e.store.Job(ctx, name); err != nil && !isMissing(err) {
		return c, err
	}
	if owner == "" {
		owner = orElse(c.old.Owner, who.Login)
	}
	if err := access.May(who, access.Write, "save the job "+name, orElse(c.old.Owner, owner)); err != nil {
		return c, err
	}
	c.Definition = d.WithDefaults()
	if err := e.times.refresh(ctx, e.store); err != nil {
		return c, err
	}
	if c.owner, err = e.owner(ctx, v, owner); err != nil {
		return c, err
	}
	if c.uses, err = e.checkJob(ctx, v, who, name, c.Definition, c.old.Definition); err != nil {
		return c, err
	}
	if on && len(v.Wrong) == 0 {
		err = e.checkReady(ctx, v, owner, c.Definition)
	}
	return c, err
}

// SaveJob checks a job and saves it as a new version. It takes effect at once:
// its triggers ring from now on when it is on.
func (e *Engine) SaveJob(ctx context.Context, who job.Person, name, owner string, on bool, d job.Definition) (job.Job, error) {
	v := &fault.Invalid{What: fmt.Sprintf("job %q", name)}
	c, err := e.check(ctx, v, who, name, owner, on, d)
	if err != nil {
		return job.Job{}, err
	}
	if err := v.Err(); err != nil {
		return job.Job{}, err
	}
	d = c.Definition
	for i := range d.Triggers {
		t := &d.Triggers[i]
		t.NextDue, t.NextNominal = nil, nil
		if t.Rule == "" {
			continue
		}
		if r, err := e.times.rule(t.Timing, d.Zone, d.Calendars); on && err == nil {
			if next := firstRing(r, e.o.Now()); next != nil {
				t.NextDue, t.NextNominal = &next.Due, &next.Nominal
			}
		}
	}
	var saved job.Job
	err = e.store.Do(ctx, func(t *store.Tx) error {
		saved, err = t.PutJob(ctx, name, c.owner.ID, who.ID, on, d, c.uses)
		if err != nil {
			return err
		}
		if err := e.checkCircle(ctx, t, &fault.Invalid{What: fmt.Sprintf("job %q", name)}, saved.ID, name); err != nil {
			return err
		}
		var before any
		if c.old.ID != 0 {
			before = saidJob{c.old.On, c.old.Definition}
		}
		return t.Audit(ctx, who.Login, "save", "job", name, before, saidJob{on, d})
	})
	return e.Described(saved), err
}

// saidJob is what the record of changes keeps of a job.
type saidJob struct {
	On bool `json:"on"`
	job.Definition
}

func orElse(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}
