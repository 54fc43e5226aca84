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
		return owner, access.May(who, access.Write, doing+" the "+r.Kind+" "+r.Name, owner)
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

// dependents lists what needs a record.
func (rc *Records) dependents(ctx context.Context, t *store.Tx, f locked) ([]Dependent, error) {
	var out []Dependent
	add := func(kind, how string) func(names []string, err error) error {
		return func(names []string, err error) error {
			for _, n := range names {
				out = append(out, Dependent{Ref{kind, n}, how})
			}
			return err
		}
	}
	using := func(kind, how string) error {
		jobs, err := t.JobsUsing(ctx, kind, f.id)
		names := make([]string, len(jobs))
		for i, j := range jobs {
			names[i] = j.Name
		}
		return add("job", how)(names, err)
	}
	var err error
	switch f.Kind {
	case "job":
		err = add("job", "waits for it")(t.JobsAfter(ctx, f.id, mostDependents))
	case "report":
		err = using("report", "runs it")
	case "calendar":
		err = using("calendar", "goes by it")
	case "destination":
		if err = using("destination", "sends there"); err == nil {
			err = rc.settingsNeed(ctx, t, f, &out)
		}
	case "source":
		if err = using("source", "asks it"); err == nil {
			err = add("report", "asks it")(t.ReportsFrom(ctx, f.id, mostDependents))
		}
	case "group", "post":
		if err = add("job", "sends to it")(t.JobsSendingTo(ctx, f.Kind, f.Name)); err == nil {
			err = add("group", "holds it")(t.GroupsHolding(ctx, f.Kind, f.Name))
		}
	case "person":
		owns, missed := t.OwnedBy(ctx, f.id, mostDependents)
		for _, o := range owns {
			out = append(out, Dependent{Ref{o.Kind, o.Name}, "is theirs; give it another owner"})
		}
		err = missed
	}
	return out, err
}

// settingsNeed adds the settings that name a destination.
func (rc *Records) settingsNeed(ctx context.Context, t *store.Tx, f locked, out *[]Dependent) error {
	var a job.AlertSettings
	if _, err := t.Setting(ctx, db.AlertSetting, &a); err != nil {
		return err
	}
	for _, name := range []string{a.Destination, a.Standby, a.Call} {
		if name == f.Name {
			*out = append(*out, Dependent{Ref{"setting", "alerts"}, "sends alerts over it"})
		}
	}
	return nil
}

// ends says in sentences what ends with a record.
func (rc *Records) ends(ctx context.Context, t *store.Tx, f locked) ([]string, error) {
	out := []string{}
	waits, works, open, err := t.OpenOf(ctx, f.Kind, f.id)
	if err != nil {
		return out, err
	}
	switch f.Kind {
	case "job":
		j, err := t.Job(ctx, f.Name)
		if err != nil {
			return out, err
		}
		if j.On {
			out = append(out, "It rings no more.")
		}
		if waits > 0 {
			out = append(out, phrase.Count(waits, "run")+phrase.Plural(waits, " that waits", " that wait")+
				": what waits for something that happens is passed over, what waits for its turn goes on.")
		}
		if works > 0 {
			out = append(out, phrase.Count(works, "run")+phrase.Plural(works, " works", " work")+" and goes on to its end.")
		}
		if open > 0 {
			out = append(out, "What was made already still goes out: "+deliveriesOpen(open)+".")
		}
		out = append(out, "Its runs, files and links stay as long as they would have.")
	case "destination":
		if open > 0 {
			out = append(out, deliveriesOpen(open)+phrase.Plural(open, " waits", " wait")+
				" for it: kept back until it comes back, and given up when its job says so.")
		}
	case "source":
		out = append(out, "Its identities are removed with it, and come back with it.")
	case "person":
		return rc.endsOfPerson(ctx, t, f)
	case "post":
		below, err := t.PostsUnder(ctx, f.Name)
		if err != nil {
			return out, err
		}
		if n := len(below) - 1; n > 0 {
			out = append(out, phrase.Count(n, "post")+phrase.Plural(n, " stands", " stand")+
				" under it; what stands right under it stands under the one above until it comes back.")
		}
	}
	return out, nil
}

func deliveriesOpen(n int) string {
	return fmt.Sprintf("%d %s", n, phrase.Plural(n, "delivery", "deliveries"))
}

func (rc *Records) endsOfPerson(ctx context.Context, t *store.Tx, f locked) ([]string, error) {
	out := []string{"They are signed out everywhere, and their tokens end."}
	p, err := t.PersonByID(ctx, f.id)
	if err != nil {
		return out, err
	}
	if p.Mail != "" {
		gets, err := t.GetsOf(ctx, p.Mail, 90)
		if err != nil {
			return out, err
		}
		if n := len(gets); n > 0 {
			names := make([]string, n)
			for i, g := range gets {
				names[i] = g.Job
			}
			out = append(out, fmt.Sprintf("They got the results of %s in the last 90 days: %s. Where they are named as a "+
				"person they get nothing more; where their address is written out it stays.",
				phrase.Count(n, "job"), phrase.Few(names)))
		}
	}
	posts, err := t.Posts(ctx)
	if err != nil {
		return out, err
	}
	for _, post := range posts {
		if slices.ContainsFunc(post.Holders, func(h string) bool { return strings.EqualFold(h, f.Name) }) {
			text := fmt.Sprintf("They hold the post %s", post.Name)
			if len(post.Holders) == 1 {
				text += ", which nobody holds then"
			}
			out = append(out, text+".")
		}
	}
	return out, nil
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
	case "source", "destination":
		p, err := t.Place(ctx, records.PlaceKind(f.Kind), f.Name)
		return saidPlace(p), err
	}
	p, _, err := t.PersonByLogin(ctx, f.Name)
	return p, err
}

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

// FormerNames lists the names by which a record is found beside its own.
func (rc *Records) FormerNames(ctx context.Context, r Ref) ([]string, error) {
	var names []string
	err := rc.store.Do(ctx, func(t *store.Tx) error {
		id, _, err := t.LockRecord(ctx, r.Kind, r.Name)
		if err == nil {
			names, err = t.FormerNames(ctx, r.Kind, id)
		}
		return err
	})
	return names, err
}
