package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
)

// checked is a job that was looked through before it is saved.
type checked struct {
	job.Definition
	old   job.Job // of this name; without an id when there is none
	owner job.Person
	uses  records.Uses
}

// check looks a job through that somebody wants to save. What is wrong with it is
// added to v.
func (js *Jobs) check(ctx context.Context, v *fault.Invalid, who job.Person, name, owner string, on bool,
	d job.Definition,
) (checked, error) {
	c := checked{}
	CheckName(v, "name", name)
	var err error
	if c.old, err = js.store.Job(ctx, name); err != nil && !db.IsMissing(err) {
		return c, err
	}
	if owner == "" {
		owner = cmp.Or(c.old.Owner, who.Login)
	}
	// The rights of an own schedule are for what is one, before anything of it is asked of a source.
	if _, own := job.OwnOf(d, cmp.Or(c.old.Owner, owner)); d.Personal && !own {
		v.Add("personal", "an own schedule sends one report in one form to its owner, by one rule, and says nothing else")
		return c, v.Err()
	}
	personal := d.Personal && (c.old.ID == 0 || c.old.Personal)
	if err := access.MayOwn(who, access.Write, "save the job "+name, cmp.Or(c.old.Owner, owner), personal); err != nil {
		return c, err
	}
	c.Definition = d.WithDefaults()
	if err := js.times.Refresh(ctx, js.store); err != nil {
		return c, err
	}
	if c.owner, err = js.checks.owner(ctx, v, owner); err != nil {
		return c, err
	}
	if c.uses, err = js.checks.checkJob(ctx, v, who, name, c.Definition, c.old.Definition); err != nil {
		return c, err
	}
	if d.Personal {
		if err := js.checks.checkOwn(ctx, v, c.owner, c.Definition); err != nil {
			return c, err
		}
	}
	if on && len(v.Wrong) == 0 {
		err = js.checks.checkReady(ctx, v, owner, c.Definition)
	}
	return c, err
}

// Save checks a job and saves it as a new version. It takes effect at once:
// its triggers ring from now on when it is on.
func (js *Jobs) Save(ctx context.Context, who job.Person, name, owner string, on bool,
	d job.Definition,
) (job.Job, error) {
	name, err := js.store.Called(ctx, "job", name)
	if err != nil {
		return job.Job{}, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("job %q", name)}
	c, err := js.check(ctx, v, who, name, owner, on, d)
	if err != nil {
		return job.Job{}, err
	}
	if err := v.Err(); err != nil {
		return job.Job{}, err
	}
	d = c.Definition
	d.Tasks = slices.Clone(d.Tasks)
	if err := js.checks.noteTakes(ctx, d.Tasks); err != nil {
		return job.Job{}, err
	}
	for i := range d.Triggers {
		d.Triggers[i].NextDue, d.Triggers[i].NextNominal = nil, nil // reckoned below, under the lock
	}
	var saved job.Job
	err = js.store.Do(ctx, func(t *store.Tx) error {
		old, err := t.LockJob(ctx, name)
		if err != nil && !db.IsMissing(err) {
			return err
		}
		// What was due until now was due by the job as it was.
		switch {
		case old.ID == 0 || !old.On:
		case on:
			err = js.runs.DecideFirst(ctx, t, []int64{old.ID}, "")
		default:
			err = js.endRings(ctx, t, old, who, "saved as switched off")
		}
		if err != nil && !db.IsMissing(err) {
			return err
		}
		if old.ID != 0 {
			if old, err = t.Job(ctx, strconv.FormatInt(old.ID, 10)); err != nil {
				return err
			}
		}
		if d.Personal && old.ID == 0 {
			if err := once(ctx, t, c.owner, d); err != nil {
				return err
			}
		}
		if saved, err = t.PutJob(ctx, name, c.owner.ID, who.ID, on, d, c.uses); err != nil {
			return err
		}
		if on {
			next, err := js.firstRings(ctx, t, saved, old)
			if err == nil {
				err = t.MoveTriggers(ctx, next, zone.Version())
			}
			if err != nil {
				return err
			}
		}
		if err := js.endOfGone(ctx, t, old, saved, who); err != nil {
			return err
		}
		if err := js.checks.checkCircle(ctx, t, &fault.Invalid{What: fmt.Sprintf("job %q", name)}, saved.ID,
			name); err != nil {
			return err
		}
		var before any
		if old.ID != 0 {
			before = saidJob{old.On, old.Definition}
		}
		if err := t.Audit(ctx, who.Login, "save", "job", name, before, saidJob{on, d}); err != nil {
			return err
		}
		saved, err = t.Job(ctx, strconv.FormatInt(saved.ID, 10))
		return err
	})
	return js.Described(saved), err
}

// endOfGone ends the runs of a job that wait for what triggers asked that it has no
// longer.
func (js *Jobs) endOfGone(ctx context.Context, t *store.Tx, old, saved job.Job, who job.Person) error {
	var gone []int64
	for _, o := range old.Triggers {
		if o.Wait != nil && !slices.ContainsFunc(saved.Triggers, func(s job.Trigger) bool { return s.ID == o.ID }) {
			gone = append(gone, o.ID)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	return js.endHeld(ctx, t, saved.ID, gone,
		fmt.Sprintf("the trigger that rang was changed by %s while the run waited", who.Name))
}

// saidJob is what the record of changes keeps of a job.
type saidJob struct {
	On bool `json:"on"`
	job.Definition
}
