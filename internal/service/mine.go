package service

import (
	"context"
	"slices"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/people"
	"ironbell/internal/task/recipients"
)

// Mine is what concerns one person.
type Mine struct {
	Receives []people.Gets    // jobs that sent to them lately, at most 500
	Open     []people.OpenJob // jobs whose mails they may join, or have joined
	Reports  []job.Report     // that they may have sent to themselves by own schedules
	Alerts   []job.Alert      // that they have to answer
	Unknown  []people.Asking  // deliveries of their jobs of which nobody knows whether they arrived
	Consents []people.Asking  // deliveries of others' jobs that wait for a second person's yes
}

// Mine gathers what concerns a person: what they get and could get, and what waits for them.
func (pp *People) Mine(ctx context.Context, who job.Person, days int) (Mine, error) {
	var out Mine
	var err error
	if out.Receives, err = pp.Receives(ctx, who.Login, days); err != nil {
		return out, err
	}
	open, err := pp.store.OpenJobs(ctx, who)
	if err != nil {
		return out, err
	}
	out.Open = []people.OpenJob{}
	named := map[string]bool{} // much is open to the same groups
	isOf := func(texts []string) (is bool, err error) {
		key := strings.Join(texts, "\n")
		is, known := named[key]
		if !known {
			all, wrong := recipients.Named(ctx, pp.store, texts)
			is, err = all[who.ID], wrong
			named[key] = is
		}
		return is, err
	}
	for _, o := range open {
		if is, err := isOf(o.Joiners.V); err != nil {
			return out, err
		} else if is {
			out.Open = append(out.Open, o)
		}
	}
	reports, err := pp.store.ReportsToSchedule(ctx)
	if err != nil {
		return out, err
	}
	for _, r := range reports {
		if is, err := isOf(r.Schedulers); err != nil {
			return out, err
		} else if is {
			out.Reports = append(out.Reports, r)
		}
	}
	alone := who
	alone.Role = job.RoleReader // an administrator's own, not those of all
	alerts, err := pp.store.AlertsFor(ctx, alone, pp.now())
	if err != nil {
		return out, err
	}
	out.Alerts = slices.DeleteFunc(alerts, func(a job.Alert) bool {
		return a.State == job.AlertClosed
	})
	if out.Unknown, out.Consents, err = pp.store.AskingOf(ctx, who.ID); err != nil {
		return out, err
	}
	out.Consents = slices.DeleteFunc(out.Consents, func(a people.Asking) bool {
		return access.MayAllow(who, a.Owner) != nil
	})
	return out, nil
}

// Join lets a person get the mails of a job that is open to them, or ends that. Whoever joined
// may always leave again.
func (pp *People) Join(ctx context.Context, who job.Person, name string, join bool) error {
	j, err := pp.store.Job(ctx, name)
	if err != nil {
		return err
	}
	v := &fault.Invalid{What: "the mails of " + j.Name}
	if join {
		may, err := recipients.Named(ctx, pp.store, j.Joiners)
		switch {
		case err != nil:
			return err
		case !may[who.ID]:
			return &access.Denied{
				Act: access.Ring, Person: who, What: "join the mails of " + j.Name + ", which are not open to them",
				Ask: "its owner, " + j.Owner + ", to open them",
			}
		case who.Mail == "":
			v.Add("", "you have no mail address; enter one under what you want for your mails")
			return v.Err()
		}
	}
	return pp.store.Do(ctx, func(t *store.Tx) error {
		if !join {
			had, err := t.Unjoin(ctx, j.ID, who.ID)
			if err == nil && !had {
				v.Add("", "you have not joined them")
				err = v.Err()
			}
			if err != nil {
				return err
			}
		} else if err := t.Join(ctx, j.ID, who.ID); err != nil {
			return err
		} else if err := t.ComeBack(ctx, j.ID, who.Mail); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, map[bool]string{true: "join", false: "leave"}[join], "job", j.Name, nil,
			map[string]any{"person": who.Login})
	})
}
