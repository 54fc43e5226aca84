package notify

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/sending"
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
func (nr *Notifier) AskFor(ctx context.Context, t *store.Tx, group []sending.Sending) error {
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
		Happened: fmt.Sprintf("%d %s of %s to addresses outside the allowed domains %s for a second person's yes.",
			len(waiting), phrase.Plural(len(waiting), "mail", "mails"), j.Name,
			phrase.Plural(len(waiting), "waits", "wait")),
		ForWhom: phrase.Few(who), Tried: "It was not sent.",
		Advice: fmt.Sprintf("Look at what would go out, then say yes or no, signed in: %s/deliveries?kept=yes, or: "+
			"ironbell deliveries -kept-back yes, then ironbell allow DELIVERY", nr.links.URL),
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

// NothingAsked closes the question about a job when nothing waits for a yes any more.
func (nr *Notifier) NothingAsked(ctx context.Context, t *store.Tx, jobID int64) error {
	waiting, err := t.Asking(ctx, jobID, 1)
	if err != nil || len(waiting) > 0 {
		return err
	}
	return t.CloseAlertsOf(ctx, []string{consentCause(jobID)})
}
