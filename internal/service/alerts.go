package service

import (
	"context"
	"strconv"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
)

// Acknowledge records that a person takes an alert on, which ends its steps.
func (al *Alerts) Acknowledge(ctx context.Context, who job.Person, id int64, end bool) (job.Alert, error) {
	a, err := al.store.Alert(ctx, id)
	if err != nil {
		return a, err
	}
	personal := false
	if a.JobID != nil {
		j, err := al.store.Job(ctx, strconv.FormatInt(*a.JobID, 10))
		if err != nil && !db.IsMissing(err) {
			return a, err
		}
		personal = j.Personal
	}
	if err := access.MayOwn(who, access.Ring, "acknowledge alerts of "+a.Job, a.Owner, personal); err != nil {
		return a, err
	}
	err = al.store.Do(ctx, func(t *store.Tx) error {
		var err error
		if end {
			err = t.CloseAlert(ctx, id)
		} else {
			err = t.Acknowledge(ctx, id, who.Name)
		}
		if err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, map[bool]string{true: "close", false: "acknowledge"}[end], "alert",
			strconv.FormatInt(id, 10), nil, nil)
	})
	if err != nil {
		return a, err
	}
	return al.store.Alert(ctx, id)
}

// Link reads such an address: whose it is and what it is about.
func (al *Alerts) Link(ctx context.Context, alert, person int64, signature string) (job.Alert, job.Person, error) {
	if !al.links.MayAcknowledge(alert, person, signature) {
		return job.Alert{}, job.Person{}, &db.NotFound{Kind: "link", Name: strconv.FormatInt(alert, 10)}
	}
	p, err := al.store.PersonByID(ctx, person)
	if err != nil {
		return job.Alert{}, p, err
	}
	a, err := al.store.Alert(ctx, alert)
	return a, p, err
}

// AcknowledgeByLink takes an alert on for who got the mail with the link.
func (al *Alerts) AcknowledgeByLink(ctx context.Context, a job.Alert, p job.Person) error {
	return al.store.Do(ctx, func(t *store.Tx) error {
		if err := t.Acknowledge(ctx, a.ID, p.Name); err != nil {
			return err
		}
		return t.Audit(ctx, p.Login, "acknowledge", "alert", strconv.FormatInt(a.ID, 10), nil,
			map[string]any{"by": "the mail's link"})
	})
}
