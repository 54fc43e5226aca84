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

// SaveJob checks a job and saves it as a new version. It takes effect at once:
// its triggers ring from now on when it is on.
func (e *Engine) SaveJob(ctx context.Context, who job.Person, name, owner string, on bool, d job.Definition) (job.Job, error) {
	v := &fault.Invalid{What: fmt.Sprintf("job %q", name)}
	CheckName(v, "name", name)
	old, err := e.store.Job(ctx, name)
	var missing *store.NotFound
	if err != nil && !errors.As(err, &missing) {
		return job.Job{}, err
	}
	if owner == "" {
		owner = orElse(old.Owner, who.Login)
	}
	if err := access.May(who, access.Write, "save the job "+name, orElse(old.Owner, owner)); err != nil {
		return job.Job{}, err
	}
	d = d.WithDefaults()
	if err := e.times.refresh(ctx, e.store); err != nil {
		return job.Job{}, err
	}
	person, err := e.owner(ctx, v, owner)
	if err != nil {
		return job.Job{}, err
	}
	uses, err := e.checkJob(ctx, v, who, name, d, old.Definition)
	if err != nil {
		return job.Job{}, err
	}
	if on && len(v.Wrong) == 0 {
		if err := e.checkReady(ctx, v, owner, d); err != nil {
			return job.Job{}, err
		}
	}
	if err := v.Err(); err != nil {
		return job.Job{}, err
	}
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
		saved, err = t.PutJob(ctx, name, person.ID, who.ID, on, d, uses)
		if err != nil {
			return err
		}
		if err := e.checkCircle(ctx, t, &fault.Invalid{What: fmt.Sprintf("job %q", name)}, saved.ID, name); err != nil {
			return err
		}
		var before any
		if old.ID != 0 {
			before = saidJob{old.On, old.Definition}
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
