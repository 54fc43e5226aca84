package notify

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/alert"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/sending"
)

// Owners who want to hear of success are told once for each run that is done, by a mail
// that asks nothing of them.

// tellSuccess sends the mails about runs that are done, and tells of how many. One that
// cannot be told of is not tried again.
func (nr *Notifier) tellSuccess(ctx context.Context) (int, error) {
	var at job.RunID
	take := func(limit int) (n int, err error) {
		at = 0
		err = nr.store.Do(ctx, func(t *store.Tx) error {
			runs, err := t.NotedRuns(ctx, limit)
			if n = len(runs); err != nil || n == 0 {
				return err
			}
			s, ok, err := nr.Settings(ctx, t)
			if err != nil {
				return err
			}
			for _, run := range runs {
				at = run.ID
				if ok {
					if err := nr.successMail(ctx, t, s, run); err != nil {
						return err
					}
				}
				if err := t.RunNoted(ctx, run.ID); err != nil {
					return err
				}
			}
			return nil
		})
		return n, err
	}
	return nr.node.InBatch(ctx, tellAtOnce, take, func(why error) (bool, error) {
		nr.node.Log.Error("an owner could not be told of success", "run", at.String(), "error", why)
		return at != 0, nr.store.Do(ctx, func(t *store.Tx) error { return t.RunNoted(ctx, at) })
	})
}

func (nr *Notifier) successMail(ctx context.Context, t *store.Tx, s job.AlertSettings, run job.Run) error {
	j, err := t.Job(ctx, fmt.Sprint(run.JobID))
	if err != nil {
		return err
	}
	p, _, err := t.PersonByLogin(ctx, j.Owner)
	if db.IsMissing(err) {
		return nil // they were removed with their job
	}
	if err != nil {
		return err
	}
	all, err := nr.standIns(ctx, t, []job.Person{p})
	if err != nil {
		return err
	}
	p = all[0]
	if p.Mail == "" {
		return nil
	}
	id, destination, _, err := nr.alertDestination(ctx, t, s)
	if err != nil {
		return err
	}
	place, err := zone.Load(p.Zone)
	if err != nil {
		place = time.UTC
	}
	letter := alert.Success(run, alert.Reader{Base: nr.links.URL, Zone: place, Locale: languageOf(p)})
	letter.To = []string{p.Mail}
	var at time.Time
	if until, is := nr.quiet(p); is {
		at = until
	}
	none := int64(0) // it belongs to no alert
	return nr.putLetter(ctx, t, id, destination, letter, job.Message{AlertID: &none},
		[]sending.Recipient{{Address: p.Mail, PersonID: p.ID}}, at)
}
