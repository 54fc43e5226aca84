package notify

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
)

// Mail to an address outside the allowed domains waits for a second person. Those who
// may say yes are told; nobody who had a hand in it is among them; and it ends at the
// end of the second open day.

const (
	yesDays     = 2   // open days after the one on which a yes is asked for
	maxAsking   = 200 // deliveries that one question looks at
	yesDateForm = "15:04 MST on Mon 2 January"
)

func consentCause(jobID int64) string { return fmt.Sprintf("consent:%d", jobID) }

// AskFor lets deliveries of one run wait for a second person, and tells those who may
// say yes: one alert for each job, which grows.
func (nr *Notifier) AskFor(ctx context.Context, t *store.Tx, group []store.Sending) error {
	first := group[0]
	if first.JobID == nil {
		return t.HoldBack(ctx, group, job.KeptForYes, nil)
	}
	j, err := t.Job(ctx, strconv.FormatInt(*first.JobID, 10))
	if err != nil {
		return err
	}
	until := nr.secondOpenDay(j)
	if err := t.HoldBack(ctx, group, job.KeptForYes, &until); err != nil {
		return err
	}
	waiting, err := t.Asking(ctx, j.ID, maxAsking)
	if err != nil {
		return err
	}
	var who []string
	for _, d := range waiting {
		if !slices.Contains(who, d.Address) {
			who = append(who, d.Address)
		}
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertConsent, Cause: consentCause(j.ID), JobID: &j.ID, RunID: first.RunID,
		Happened: fmt.Sprintf("%d %s of %s to addresses outside the allowed domains %s for a second person's yes.", len(waiting), phrase.Plural(len(waiting), "mail", "mails"), j.Name, phrase.Plural(len(waiting), "waits", "wait")),
		ForWhom:  phrase.Few(who), Tried: "It was not sent.", Advice: fmt.Sprintf("Look at what would go out, then say yes or no, signed in: %s/deliveries?kept=yes, or: ironbell deliveries -kept-back yes, then ironbell allow DELIVERY", nr.links.URL),
		Next: fmt.Sprintf("What nobody said yes to by %s is not sent.", until.Format(yesDateForm)),
	})
}

// secondOpenDay is the end of the second open day after today, in the zone and by the
// calendars of a job.
func (nr *Notifier) secondOpenDay(j job.Job) time.Time {
	place, err := zone.Load(j.Zone)
	if err != nil {
		place = time.UTC
	}
	var open rule.Calendar
	if c, err := nr.times.Calendar(j.Calendars); err == nil && c != nil {
		open = c
	}
	day := nr.node.Now().In(place)
	for left, most := yesDays, 60; left > 0 && most > 0; most-- {
		day = time.Date(day.Year(), day.Month(), day.Day()+1, 12, 0, 0, 0, place)
		is := day.Weekday() != time.Saturday && day.Weekday() != time.Sunday
		if open != nil {
			is = open.Open(day.Year(), int(day.Month())).Has(day.Day())
		}
		if is {
			left--
		}
	}
	return time.Date(day.Year(), day.Month(), day.Day()+1, 0, 0, 0, 0, place).Add(-time.Second)
}

// NotBy tells who may not say yes to mail of a run of a job to some addresses, with
// the reason: its owners, whoever rang, and everybody who had a hand in it since the
// addresses were allowed last. By login, in small letters.
func (nr *Notifier) NotBy(ctx context.Context, t *store.Tx, j job.Job, run job.RunID, addresses []string) (map[string]string, error) {
	through, err := nr.through(ctx, t, j)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	saved, err := t.SavedSince(ctx, j, addresses, through)
	if err != nil {
		return nil, err
	}
	for login, what := range saved {
		out[login] = "saved " + what + ", through which it goes there"
	}
	if asked, err := t.AskedBy(ctx, run); err != nil {
		return nil, err
	} else if asked != "" {
		out[strings.ToLower(asked)] = "rang the job"
	}
	if j.SecondOwner != "" {
		out[strings.ToLower(j.SecondOwner)] = "is the job's second owner"
	}
	out[strings.ToLower(j.Owner)] = "owns the job"
	return out, nil
}

// through names the reports, groups and posts through which mail of a job goes out.
// Recipients that show only when the job runs may come through any of them.
func (nr *Notifier) through(ctx context.Context, t *store.Tx, j job.Job) (store.Through, error) {
	var out store.Through
	any := false
	var walk func(texts []string) error
	walk = func(texts []string) error {
		for _, text := range texts {
			if strings.ContainsAny(text, "{}") {
				any = true
				continue
			}
			for _, piece := range job.SplitRecipients(text) {
				to, err := job.ReadRecipient(piece)
				if err != nil {
					continue
				}
				switch to.Kind {
				case job.ToGroup:
					if slices.Contains(out.Groups, to.Name) {
						continue
					}
					out.Groups = append(out.Groups, to.Name)
					g, err := t.Group(ctx, to.Name)
					if err != nil && !store.IsMissing(err) {
						return err
					}
					if err := walk(g.Members); err != nil {
						return err
					}
				case job.ToPost:
					out.Posts = append(out.Posts, to.Name)
				case job.ToUnder:
					all, err := t.PostsUnder(ctx, to.Name)
					if err != nil && !store.IsMissing(err) {
						return err
					}
					for _, p := range all {
						out.Posts = append(out.Posts, p.Name)
					}
				}
			}
		}
		return nil
	}
	for _, task := range j.Tasks {
		if task.Report != nil {
			out.Reports = append(out.Reports, task.Report.Report)
		}
		if task.Deliver != nil {
			if err := walk(slices.Concat(task.Deliver.To, task.Deliver.Cc, task.Deliver.Bcc)); err != nil {
				return out, err
			}
		}
	}
	if any {
		groups, err := t.Groups(ctx)
		if err != nil {
			return out, err
		}
		posts, err := t.Posts(ctx)
		if err != nil {
			return out, err
		}
		for _, g := range groups {
			out.Groups = append(out.Groups, g.Name)
		}
		for _, p := range posts {
			out.Posts = append(out.Posts, p.Name)
		}
	}
	return out, nil
}

// mayConsent lists the people who may say yes: administrators, and where none of them
// may, owners.
func (nr *Notifier) mayConsent(ctx context.Context, t *store.Tx, a job.Alert) (first, others []job.Person, err error) {
	if a.JobID == nil || a.RunID == nil {
		return nil, nil, nil
	}
	j, err := t.Job(ctx, strconv.FormatInt(*a.JobID, 10))
	if store.IsMissing(err) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	waiting, err := t.Asking(ctx, j.ID, maxAsking)
	if err != nil {
		return nil, nil, err
	}
	var addresses []string
	for _, d := range waiting {
		addresses = append(addresses, d.Address)
	}
	not, err := nr.NotBy(ctx, t, j, *a.RunID, addresses)
	if err != nil {
		return nil, nil, err
	}
	all, err := t.People(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range all {
		_, no := not[strings.ToLower(p.Login)]
		switch {
		case no || p.Role == job.RoleReader:
		case p.Role == job.RoleAdministrator:
			first = append(first, p)
		default:
			others = append(others, p)
		}
	}
	if len(first) == 0 {
		first, others = others, nil
	}
	return first, others, nil
}

// NothingAsked closes the question about a job when nothing waits for a yes any more.
func (nr *Notifier) NothingAsked(ctx context.Context, t *store.Tx, jobID int64) error {
	waiting, err := t.Asking(ctx, jobID, 1)
	if err != nil || len(waiting) > 0 {
		return err
	}
	return t.CloseAlertsOf(ctx, []string{consentCause(jobID)})
}
