package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
)

// What needs a record, and what ends with it.

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
		if err == nil {
			err = add("subscription", "sends events there")(t.SubscribedTo(ctx, f.id))
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
	case "sender":
		one, err := t.Sender(ctx, f.Name)
		if err != nil {
			return out, err
		}
		out = append(out, fmt.Sprintf("Nothing that it sends is taken any more: %s came in the last 24 hours. What came stays on record.",
			phrase.Count(one.Day, "event")))
	case "subscription":
		out = append(out, "No events of ours are handed on to it any more. What was published meanwhile follows when it comes "+
			"back, as long as it is kept.")
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
