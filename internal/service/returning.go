package service

import (
	"context"
	"fmt"
	"slices"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
)

// Return brings records back that were removed, all or none. A job that was on rings again from
// now on; when it cannot, it comes back switched off, and notes say why.
func (rc *Records) Return(ctx context.Context, who job.Person, refs []Ref) (notes []string, err error) {
	if err := rc.times.Refresh(ctx, rc.store); err != nil {
		return nil, err
	}
	// What others speak of comes back before them.
	refs = slices.Clone(refs)
	slices.SortStableFunc(refs, func(a, b Ref) int {
		place := func(r Ref) int { return slices.IndexFunc(db.Tables, func(t db.Table) bool { return t.Kind == r.Kind }) }
		return place(b) - place(a)
	})
	on := []string{}
	err = rc.store.Do(ctx, func(t *store.Tx) error {
		on, notes = nil, []string{}
		for _, r := range refs {
			id, name, err := t.LockRemoved(ctx, r.Kind, r.Name)
			if db.IsMissing(err) {
				return notRemoved(ctx, t, r, err)
			}
			if err != nil {
				return err
			}
			if err := t.Return(ctx, r.Kind, id); err != nil {
				return err
			}
			if _, err := rc.may(ctx, t, who, "bring back", Ref{r.Kind, name}); err != nil {
				return err
			}
			switch r.Kind {
			case "job":
				was, err := t.WasOn(ctx, id)
				if err != nil {
					return err
				}
				if was {
					on = append(on, name)
				}
			case "destination":
				if err := t.ProbeSoon(ctx, id); err != nil {
					return err
				}
			case "person":
				p, err := t.PersonByID(ctx, id)
				if err == nil {
					err = onlyTheirs(ctx, t, p.Mail, id)
				}
				if err != nil {
					return err
				}
			}
			if err := t.Audit(ctx, who.Login, "return", r.Kind, name, map[string]string{"name": name},
				map[string]string{"name": name}); err != nil {
				return err
			}
		}
		return nil
	})
	rc.times.Forget()
	if err != nil {
		return nil, err
	}
	for _, name := range on {
		if err := rc.switchOn(ctx, who, name); err != nil {
			notes = append(notes, fmt.Sprintf("The job %q came back switched off, although it was on: %s", name, err))
		}
	}
	return notes, nil
}

// notRemoved says of a record that cannot be brought back whether it is there.
func notRemoved(ctx context.Context, t *store.Tx, r Ref, missing error) error {
	if _, _, err := t.LockRecord(ctx, r.Kind, r.Name); err != nil {
		return missing
	}
	v := &fault.Invalid{What: "bringing back"}
	v.Add("records", "%s is there; there is nothing to bring back", r)
	return v.Err()
}

// switchOn switches a job on that came back, when all that it speaks of is there.
func (rc *Records) switchOn(ctx context.Context, who job.Person, name string) error {
	j, err := rc.store.Job(ctx, name)
	if err != nil {
		return err
	}
	v := &fault.Invalid{What: fmt.Sprintf("job %q", name)}
	if _, err := rc.jobs.check(ctx, v, who, name, j.Owner, true, j.Definition); err != nil {
		return err
	}
	if err := v.Err(); err != nil {
		return err
	}
	_, err = rc.jobs.Switch(ctx, who, name, true)
	return err
}

// FreeName frees a name that a record had before: it finds the record no more, and others may
// take it.
func (rc *Records) FreeName(ctx context.Context, who job.Person, r Ref, former string) error {
	return rc.store.Do(ctx, func(t *store.Tx) error {
		id, name, err := t.LockRecord(ctx, r.Kind, r.Name)
		if err != nil {
			return err
		}
		if _, err := rc.may(ctx, t, who, "free a name of", Ref{r.Kind, name}); err != nil {
			return err
		}
		if err := t.FreeName(ctx, r.Kind, id, former); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "free name", r.Kind, name, map[string]string{"former": former}, nil)
	})
}
