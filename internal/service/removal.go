package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
)

// Ref names a record that can be renamed, copied, removed and brought back: a job, report,
// group, post, destination, calendar, source or person.
type Ref struct{ Kind, Name string }

func (r Ref) String() string { return fmt.Sprintf("%s %q", r.Kind, r.Name) }

// Dependent is a record that needs another one, and how.
type Dependent struct {
	Ref
	How string // such as: runs it
}

// Removal is what the removal of a record means.
type Removal struct {
	Ref
	Needs []Dependent // that keep it from being removed alone; at most 100
	Ends  []string    // what ends with it, in sentences
}

const (
	mostRemoved    = 500 // records removed at once
	mostDependents = 100
)

// Remove removes records, all or none. One that others need is removed only together with
// them. With try nothing is removed, and what it would mean is told.
func (rc *Records) Remove(ctx context.Context, who job.Person, refs []Ref, try bool) ([]Removal, error) {
	v := &fault.Invalid{What: "removing"}
	if len(refs) == 0 || len(refs) > mostRemoved {
		v.Add("records", "name 1 to %d records", mostRemoved)
		return nil, v.Err()
	}
	if try {
		ctx = db.Trying(ctx)
	}
	var out []Removal
	err := rc.store.Do(ctx, func(t *store.Tx) error {
		out = nil
		v.Wrong = nil
		found, err := rc.lock(ctx, t, who, refs)
		if err != nil {
			return err
		}
		for i := range found {
			r, err := rc.meaning(ctx, t, who, v, found, i)
			if err != nil {
				return err
			}
			out = append(out, r)
		}
		if len(v.Wrong) > 0 {
			if try {
				return nil // what keeps them is told
			}
			return v.Err()
		}
		for _, f := range found {
			if err := rc.remove(ctx, t, who, f); err != nil {
				return err
			}
		}
		return nil
	})
	rc.times.Forget()
	return out, err
}

// A locked record, with who owns it.
type locked struct {
	Ref
	id    int64
	owner string
}

// lock finds records and keeps others from changing them: in one order, so that two who remove
// at once do not wait for each other.
func (rc *Records) lock(ctx context.Context, t *store.Tx, who job.Person, refs []Ref) ([]locked, error) {
	refs = slices.Clone(refs)
	place := func(r Ref) int { return slices.IndexFunc(db.Tables, func(t db.Table) bool { return t.Kind == r.Kind }) }
	slices.SortFunc(refs, func(a, b Ref) int {
		if by := place(a) - place(b); by != 0 {
			return by
		}
		return strings.Compare(a.Name, b.Name)
	})
	var out []locked
	for _, r := range refs {
		if place(r) < 0 {
			v := &fault.Invalid{What: "removing"}
			v.Add("records", "a %s is nothing that can be removed so", r.Kind)
			return nil, v.Err()
		}
		f := locked{Ref: r}
		var err error
		if f.id, f.Name, err = t.LockRecord(ctx, r.Kind, r.Name); err != nil {
			return nil, err
		}
		if slices.ContainsFunc(out, func(o locked) bool { return o.Kind == f.Kind && o.id == f.id }) {
			continue
		}
		if f.owner, err = rc.may(ctx, t, who, "remove", f.Ref); err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// may asks whether somebody may rename, remove or bring back a record, and tells who owns it.
func (rc *Records) may(ctx context.Context, t *store.Tx, who job.Person, doing string, r Ref) (string, error) {
	switch r.Kind {
	case "job", "report":
		owner, err := t.OwnerOf(ctx, r.Kind, r.Name)
		if err != nil {
			return "", err
		}
		personal := false
		if r.Kind == "job" && doing != "rename" {
			j, err := t.Job(ctx, r.Name)
			if err != nil && !db.IsMissing(err) {
				return "", err
			}
			personal = j.Personal
			if own, is := job.OwnOf(j.Definition, owner); is && doing == "remove" {
				// Who owns a report may end what others have sent to themselves of it: it would keep the report.
				from, err := t.OwnerOf(ctx, "report", own.Report)
				if err != nil && !db.IsMissing(err) {
					return "", err
				}
				if err == nil && access.May(who, access.Write, "", from) == nil {
					return owner, nil
				}
			}
		}
		return owner, access.MayOwn(who, access.Write, doing+" the "+r.Kind+" "+r.Name, owner, personal)
	}
	return "", access.May(who, access.Administer, "", "")
}

// meaning tells what the removal of one of some records means. What keeps it is added to v.
func (rc *Records) meaning(ctx context.Context, t *store.Tx, who job.Person, v *fault.Invalid, all []locked,
	i int,
) (Removal, error) {
	f := all[i]
	out := Removal{Ref: f.Ref, Needs: []Dependent{}, Ends: []string{}}
	needs, err := rc.dependents(ctx, t, f)
	if err != nil {
		return out, err
	}
	for _, d := range needs {
		together := slices.ContainsFunc(all, func(o locked) bool { return o.Ref == d.Ref })
		if !together && len(out.Needs) < mostDependents {
			out.Needs = append(out.Needs, d)
		}
	}
	if n := len(out.Needs); n > 0 {
		some := make([]string, 0, 5)
		for _, d := range out.Needs[:min(n, 5)] {
			some = append(some, d.String()+" "+d.How)
		}
		v.Add(f.String(), "%s: %s. Take it out of %s first, or remove %s with it",
			phrase.Count(n, "record")+phrase.Plural(n, " needs it", " need it"), strings.Join(some, "; "),
			phrase.Plural(n, "that", "them"), phrase.Plural(n, "that", "them"))
	}
	if f.Kind == "person" {
		if err := rc.keepsAdministrator(ctx, t, who, v, f, all); err != nil {
			return out, err
		}
	}
	out.Ends, err = rc.ends(ctx, t, f)
	return out, err
}

// keepsAdministrator refuses a removal after which nobody could administer, or of oneself.
func (rc *Records) keepsAdministrator(ctx context.Context, t *store.Tx, who job.Person, v *fault.Invalid, f locked,
	all []locked,
) error {
	if f.id == who.ID {
		v.Add(f.String(), "you would shut yourself out; another administrator can remove you")
		return nil
	}
	if err := t.LockSetting(ctx, theAdministrators); err != nil {
		return err
	}
	admins, err := t.Administrators(ctx)
	if err != nil {
		return err
	}
	left := slices.DeleteFunc(admins, func(p job.Person) bool {
		return slices.ContainsFunc(all, func(o locked) bool { return o.Kind == "person" && o.id == p.ID })
	})
	if len(left) == 0 {
		v.Add(f.String(), "nobody would be left who can administer")
	}
	return nil
}

// remove removes one locked record, with what goes with it.
func (rc *Records) remove(ctx context.Context, t *store.Tx, who job.Person, f locked) error {
	before, err := saidOf(ctx, t, f)
	if err != nil {
		return err
	}
	switch f.Kind {
	case "job":
		j, err := t.LockJob(ctx, f.Name)
		if err != nil {
			return err
		}
		if err := t.NoteOn(ctx, j.ID, j.On); err != nil {
			return err
		}
		if j.On {
			if err := rc.jobs.endRings(ctx, t, j, who, "removed"); err != nil {
				return err
			}
			if err := t.SwitchJob(ctx, j.ID, false, map[int64]*records.NextRing{}, zone.Version()); err != nil {
				return err
			}
		}
	case "person":
		if err := t.EndAccess(ctx, f.id); err != nil {
			return err
		}
	case "subscription":
		if err := t.PublishAfterOthers(ctx); err != nil {
			return err
		}
		if _, err := t.TakeBack(ctx, f.id, "the subscription was removed by "+who.Name); err != nil {
			return err
		}
	case "destination":
		rest := &fault.Fault{
			Doing: "hand over", Class: fault.Lasting, Scope: fault.Destination,
			Cause:  fmt.Errorf("the destination was removed by %s", who.Name),
			Advice: "Bring it back, and what waits goes out.",
		}
		if _, _, err := t.Rest(ctx, f.id, rest, 0); err != nil {
			return err
		}
		if err := t.ProbeNever(ctx, f.id); err != nil {
			return err
		}
	}
	if err := t.Remove(ctx, f.Kind, f.id, who.Login); err != nil {
		return err
	}
	return t.Audit(ctx, who.Login, "remove", f.Kind, f.Name, before, nil)
}

// saidOf is what the record of changes keeps of a record that is removed.
func saidOf(ctx context.Context, t *store.Tx, f locked) (any, error) {
	switch f.Kind {
	case "job":
		j, err := t.Job(ctx, f.Name)
		return saidJob{j.On, j.Definition}, err
	case "report":
		r, err := t.Report(ctx, f.Name)
		return r.ReportDefinition, err
	case "group":
		return t.Group(ctx, f.Name)
	case "post":
		return t.Post(ctx, f.Name)
	case "calendar":
		c, err := t.Calendar(ctx, f.Name)
		return c.Definition, err
	case "subscription":
		one, err := t.Subscription(ctx, f.Name)
		return one.SubscriptionDefinition, err
	case "sender":
		one, err := t.Sender(ctx, f.Name)
		return one.SenderDefinition, err
	case "source", "destination":
		p, err := t.Place(ctx, records.PlaceKind(f.Kind), f.Name)
		return saidPlace(p), err
	}
	p, _, err := t.PersonByLogin(ctx, f.Name)
	return p, err
}
