package service

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
)

// A Vault opens and seals secrets, each for a record.
type Vault interface {
	Sealer
	report.Vault
}

// Rename gives a record another name and rewrites whatever speaks of it, in one transaction. The
// old name still finds it. It tells what was rewritten.
func (rc *Records) Rename(ctx context.Context, who job.Person, r Ref, to string, vault Vault, try bool) ([]Ref, error) {
	v := &fault.Invalid{What: fmt.Sprintf("renaming %s", r)}
	CheckName(v, "to", to)
	if err := v.Err(); err != nil {
		return nil, err
	}
	if try {
		ctx = db.Trying(ctx)
	}
	var changed []Ref
	err := rc.store.Do(ctx, func(t *store.Tx) error {
		changed = []Ref{}
		id, from, err := t.LockRecord(ctx, r.Kind, r.Name)
		if err != nil {
			return err
		}
		if _, err := rc.may(ctx, t, who, "rename", Ref{r.Kind, from}); err != nil {
			return err
		}
		if err := rc.free(ctx, t, r.Kind, id, from, to); err != nil {
			return err
		}
		if err := rc.reseal(ctx, t, r.Kind, id, from, to, vault); err != nil {
			return err
		}
		if err := t.Rename(ctx, r.Kind, id, from, to); err != nil {
			return err
		}
		if err := rc.reword(ctx, t, who, job.Renames(r.Kind, from, to), from, &changed); err != nil {
			return err
		}
		if r.Kind == "source" || r.Kind == "destination" {
			if err := t.Relabelled(ctx, r.Kind+":"+from, r.Kind+":"+to); err != nil {
				return err
			}
		}
		return t.Audit(ctx, who.Login, "rename", r.Kind, to, map[string]string{"name": from}, map[string]string{"name": to})
	})
	rc.times.Forget()
	return changed, err
}

// free tells whether a record may have a name.
func (rc *Records) free(ctx context.Context, t *store.Tx, kind string, id int64, from, to string) error {
	if to == from {
		v := &fault.Invalid{What: "renaming"}
		v.Add("to", "it has this name")
		return v.Err()
	}
	now, err := t.Called(ctx, kind, to)
	if err != nil {
		return err
	}
	other, _, err := t.LockRecord(ctx, kind, to)
	switch {
	case db.IsMissing(err) || err == nil && other == id: // nobody has it, or it had it itself
		return nil
	case err != nil:
		return err
	case now != to && !strings.EqualFold(now, to):
		return &db.Taken{Kind: kind, Name: to, Former: now}
	}
	return &db.Taken{Kind: kind, Name: to}
}

// reseal seals the secrets of a source or destination for its new name.
func (rc *Records) reseal(ctx context.Context, t *store.Tx, kind string, id int64, from, to string, vault Vault) error {
	if kind != "source" && kind != "destination" {
		return nil
	}
	again := func(kind string, id int64, sealed []byte, old, now string) error {
		if len(sealed) == 0 {
			return nil
		}
		plain, err := vault.Open(old, sealed)
		if err != nil {
			return err
		}
		if sealed, err = vault.Seal(now, plain); err != nil {
			return err
		}
		return t.PutSecret(ctx, kind, id, sealed)
	}
	p, err := t.PlaceByID(ctx, records.PlaceKind(kind), id)
	if err != nil {
		return err
	}
	if err := again(kind, id, p.Secret, kind+":"+from, kind+":"+to); err != nil || kind == "destination" {
		return err
	}
	identities, err := t.Identities(ctx, from)
	if err != nil {
		return err
	}
	for _, i := range identities {
		if err := again("identity", i.ID, i.Secret, report.IdentityRecord(from, i.Name),
			report.IdentityRecord(to, i.Name)); err != nil {
			return err
		}
	}
	return nil
}

// reword rewrites whatever speaks of a record that has another name now.
func (rc *Records) reword(ctx context.Context, t *store.Tx, who job.Person, now job.Naming, from string,
	changed *[]Ref,
) error {
	jobs, err := t.JobsSaying(ctx, from)
	if err != nil {
		return err
	}
	for _, j := range jobs {
		d := j.Named(now)
		if reflect.DeepEqual(d, j.Definition) {
			continue
		}
		before := saidJob{j.On, j.Definition}
		j.Definition = d
		if err := t.Reword(ctx, j, who.ID); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "save", "job", j.Name, before, saidJob{j.On, d}); err != nil {
			return err
		}
		*changed = append(*changed, Ref{"job", j.Name})
	}
	reports, err := t.ReportsSaying(ctx, from)
	if err != nil {
		return err
	}
	for _, r := range reports {
		d := r.Named(now)
		if reflect.DeepEqual(d, r.ReportDefinition) {
			continue
		}
		before := r.ReportDefinition
		r.ReportDefinition = d
		if err := t.RewordReport(ctx, r, who.ID); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "save", "report", r.Name, before, d); err != nil {
			return err
		}
		*changed = append(*changed, Ref{"report", r.Name})
	}
	if err := rc.rewordParties(ctx, t, who, now, changed); err != nil {
		return err
	}
	if err := rc.rewordSubscriptions(ctx, t, who, now, changed); err != nil {
		return err
	}
	return rc.rewordSettings(ctx, t, who, now, changed)
}

// rewordSubscriptions rewrites where events of ours go.
func (rc *Records) rewordSubscriptions(ctx context.Context, t *store.Tx, who job.Person, now job.Naming,
	changed *[]Ref,
) error {
	all, err := t.Subscriptions(ctx)
	if err != nil {
		return err
	}
	for _, s := range all {
		after := s.SubscriptionDefinition
		if after.Destination = now("destination", after.Destination); after.Destination == s.Destination {
			continue
		}
		if _, err := t.PutSubscription(ctx, s.Name, after); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "save", "subscription", s.Name, s.SubscriptionDefinition, after); err != nil {
			return err
		}
		*changed = append(*changed, Ref{"subscription", s.Name})
	}
	return nil
}

// rewordParties rewrites groups, posts, wishes and choosers of identities.
func (rc *Records) rewordParties(ctx context.Context, t *store.Tx, who job.Person, now job.Naming,
	changed *[]Ref,
) error {
	note := func(kind, name string, before, after any) error {
		*changed = append(*changed, Ref{kind, name})
		return t.Audit(ctx, who.Login, "save", kind, name, before, after)
	}
	logins := func(all []string) []string {
		out := make([]string, len(all))
		for i, l := range all {
			out[i] = now("person", l)
		}
		return out
	}
	groups, err := t.Groups(ctx)
	if err != nil {
		return err
	}
	for _, g := range groups {
		after := g
		if after.Members = job.RecipientsNamed(g.Members, now); reflect.DeepEqual(after, g) {
			continue
		}
		if err := t.PutGroup(ctx, after); err != nil {
			return err
		}
		if err := note("group", g.Name, g, after); err != nil {
			return err
		}
	}
	posts, err := t.Posts(ctx)
	if err != nil {
		return err
	}
	for _, p := range posts {
		after := p
		if after.Holders = logins(p.Holders); reflect.DeepEqual(after, p) {
			continue
		}
		if err := t.PutPost(ctx, after); err != nil {
			return err
		}
		if err := note("post", p.Name, p, after); err != nil {
			return err
		}
	}
	everybody, err := t.People(ctx)
	if err != nil {
		return err
	}
	for _, p := range everybody {
		if in := p.Wishes.StandIn; in != "" && now("person", in) != in {
			if err := t.PutStandIn(ctx, p.ID, now("person", in)); err != nil {
				return err
			}
			if err := note("wishes", p.Login, map[string]string{"stand_in": in},
				map[string]string{"stand_in": now("person", in)}); err != nil {
				return err
			}
		}
	}
	sources, err := t.Places(ctx, records.Source)
	if err != nil {
		return err
	}
	for _, s := range sources {
		identities, err := t.Identities(ctx, s.Name)
		if err != nil {
			return err
		}
		for _, i := range identities {
			after := i
			if after.Choosers = logins(i.Choosers); reflect.DeepEqual(after, i) {
				continue
			}
			after.Secret = nil // the one that is there stays
			if err := t.PutIdentity(ctx, after); err != nil {
				return err
			}
			if err := note("identity", s.Name+": "+i.Name, map[string]any{"choosers": i.Choosers},
				map[string]any{"choosers": after.Choosers}); err != nil {
				return err
			}
		}
	}
	return nil
}

// rewordSettings rewrites the settings of alerts.
func (rc *Records) rewordSettings(ctx context.Context, t *store.Tx, who job.Person, now job.Naming,
	changed *[]Ref,
) error {
	var a job.AlertSettings
	had, err := t.Setting(ctx, db.AlertSetting, &a)
	if err != nil || !had {
		return err
	}
	after := a
	for _, name := range []*string{&after.Destination, &after.Standby, &after.Call} {
		if *name != "" {
			*name = now("destination", *name)
		}
	}
	if after == a {
		return nil
	}
	if err := t.PutSetting(ctx, db.AlertSetting, after); err != nil {
		return err
	}
	*changed = append(*changed, Ref{"setting", db.AlertSetting})
	return t.Audit(ctx, who.Login, "save", "setting", db.AlertSetting, a, after)
}

// Copy makes a record that says what another one says, under another name. A copied job is
// off; a copied person has neither address nor password; secrets of places are copied.
func (rc *Records) Copy(ctx context.Context, who job.Person, r Ref, to string, vault Vault) error {
	ctx = db.Expecting(ctx, db.Precondition{Kind: r.Kind, Absent: true})
	switch r.Kind {
	case "job":
		j, err := rc.store.Job(ctx, r.Name)
		if err != nil {
			return err
		}
		for i := range j.Triggers {
			j.Triggers[i].ID = 0
		}
		_, err = rc.jobs.Save(ctx, who, to, "", false, j.Definition)
		return err
	case "report":
		rep, err := rc.store.Report(ctx, r.Name)
		if err != nil {
			return err
		}
		_, err = rc.reports.Save(ctx, who, to, "", rep.ReportDefinition, false)
		return err
	case "group":
		g, err := rc.store.Group(ctx, r.Name)
		if err != nil {
			return err
		}
		_, err = rc.people.SaveGroup(ctx, who, job.Group{Name: to, Members: g.Members})
		return err
	case "post":
		p, err := rc.store.Post(ctx, r.Name)
		if err != nil {
			return err
		}
		_, err = rc.people.SavePost(ctx, who, job.Post{Name: to, Under: p.Under, Holders: p.Holders})
		return err
	case "calendar":
		c, err := rc.store.Calendar(ctx, r.Name)
		if err != nil {
			return err
		}
		_, err = rc.calendars.Save(ctx, who, to, c.Definition, false)
		return err
	case "subscription":
		one, err := rc.store.Subscription(ctx, r.Name)
		if err != nil {
			return err
		}
		_, err = rc.subscriptions.Save(ctx, who, to, one.SubscriptionDefinition)
		return err
	case "sender":
		one, err := rc.store.Sender(ctx, r.Name)
		if err != nil {
			return err
		}
		_, err = rc.senders.Save(ctx, who, to, one.SenderDefinition)
		return err
	case "source", "destination":
		return rc.copyPlace(ctx, who, records.PlaceKind(r.Kind), r.Name, to, vault)
	case "person":
		p, _, err := rc.store.PersonByLogin(ctx, r.Name)
		if err != nil {
			return err
		}
		_, err = rc.people.Save(ctx, who, job.Person{Login: to, Name: to, Role: p.Role, Zone: p.Zone}, "")
		return err
	}
	v := &fault.Invalid{What: "copying"}
	v.Add("kind", "a %s is nothing that can be copied so", r.Kind)
	return v.Err()
}

func (rc *Records) copyPlace(ctx context.Context, who job.Person, kind records.PlaceKind, name, to string,
	vault Vault,
) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	p, err := rc.store.Place(ctx, kind, name)
	if err != nil {
		return err
	}
	plain, err := vault.Open(string(kind)+":"+p.Name, p.Secret)
	if err != nil {
		return err
	}
	settings, err := settingsOf(p)
	if err != nil {
		return err
	}
	_, err = rc.places.Save(ctx, who, kind, to, p.Protocol, settings, &plain, vault)
	return err
}

func settingsOf(p records.Place) (settings map[string]any, err error) {
	if err := json.Unmarshal(p.Settings, &settings); err != nil {
		return nil, fmt.Errorf("read the settings of %s: %w", p.Name, err)
	}
	return settings, nil
}
