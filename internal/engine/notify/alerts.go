package notify

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"ironbell/internal/alert"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

const (
	// tellGiveUp is how long a mail about an alert waits for its mail server.
	tellGiveUp = 72 * time.Hour
	callLimit  = 20 * time.Second
)

// tellAtOnce is of how many alerts people are told in one transaction.
const tellAtOnce = 20

// tellDue takes the next steps with alerts that are due, and tells with how many. What
// cannot be told is tried again later: no alert holds up another.
func (nr *Notifier) tellDue(ctx context.Context) (int, error) {
	var at job.Alert
	take := func(limit int) (int, error) {
		at = job.Alert{}
		return nr.tellSome(ctx, limit, func(a job.Alert) { at = a })
	}
	return nr.node.InBatch(ctx, tellAtOnce, take, func(why error) (bool, error) {
		if at.ID == 0 {
			return false, nil
		}
		nr.node.Log.Error("an alert cannot be told", "alert", at.ID, "job", at.Job, "error", why)
		return true,
			nr.store.Do(ctx,
				func(t *store.Tx) error { return t.Unreached(ctx, at.ID, "cannot be told: "+why.Error(), nr.every*10) })
	})
}

// tellSome takes the next steps with at most so many alerts; with names each before.
func (nr *Notifier) tellSome(ctx context.Context, limit int, with func(job.Alert)) (n int, err error) {
	var calls []job.Alert
	err = nr.store.Do(ctx, func(t *store.Tx) error {
		calls = nil
		s, _, err := nr.Settings(ctx, t)
		if err != nil {
			return err
		}
		alerts, err := t.AlertsToTell(ctx, limit)
		if n = len(alerts); err != nil {
			return err
		}
		for _, a := range alerts {
			with(a)
			call, err := nr.tellOne(ctx, t, a, s)
			if err != nil {
				return err
			}
			if call {
				calls = append(calls, a)
			}
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	var all sync.WaitGroup
	for _, a := range calls {
		all.Go(func() { nr.call(ctx, a) })
	}
	all.Wait()
	return n, nil
}

// tellOne takes one step with an alert: it composes the mails of those who are to
// be told now and freezes their deliveries, and sets when the following step is
// due. It tells whether the step is a call, which is made outside of the
// transaction.
func (nr *Notifier) tellOne(ctx context.Context, t *store.Tx, a job.Alert, s job.AlertSettings) (call bool, err error) {
	for step := a.Step; step < alert.StepNobody; step++ {
		after := nr.stepAfter(s, step)
		if step == alert.StepCall {
			if s.Call == "" {
				break
			}
			// It calls for what is urgent, or after the last of those who sleep could be told.
			if until, err := nr.lastQuiet(ctx, t, a); err != nil || !a.Urgent && until.After(nr.node.Now()) {
				return false,
					errors.Join(err,
						t.Told(ctx, a.ID, "the call waits for the end of quiet hours, "+until.Format("15:04 MST"), step,
							until.Sub(nr.node.Now())))
			}
			return true, t.Told(ctx, a.ID, "", alert.StepNobody, after)
		}
		people, sleeping, err := nr.recipients(ctx, t, a, step)
		if err != nil {
			return false, err
		}
		if len(people)+len(sleeping) == 0 {
			continue // there is nobody at this step
		}
		names, rests, err := nr.mailAlert(ctx, t, a, s, step, people, sleeping)
		var cannot *unsendable
		if errors.As(err, &cannot) {
			nr.node.Log.Error("an alert cannot be sent", "alert", a.ID, "error", err)
			a.Told = "cannot be sent: " + err.Error()
			continue
		}
		if err != nil {
			return false, err
		}
		if rests {
			// It goes out when the mail server is back; somebody else may be reached now.
			a.Told = "a mail to " + strings.Join(names, ", ") + " waits for the mail server"
			continue
		}
		return false, t.Told(ctx, a.ID, "a mail goes to "+strings.Join(names, ", "), step+1, after)
	}
	if a.Step == alert.StepNobody {
		// Everybody was told, and nobody has acknowledged it: all over again.
		return false, t.Told(ctx, a.ID, a.Told+"; nobody took it on, all are told again", 0, time.Second)
	}
	nr.node.Log.Error("nobody could be told of an alert", "alert", a.ID, "job", a.Job, "told", a.Told)
	return false, t.Unreached(ctx, a.ID, strings.TrimPrefix(a.Told+"; nobody could be told", "; "), nr.every*10)
}

// stepAfter is how long those of a step have before the following one is taken.
func (nr *Notifier) stepAfter(s job.AlertSettings, step int) time.Duration {
	switch step {
	case alert.StepOwner:
		return time.Duration(s.Second)
	case alert.StepSecond:
		return time.Duration(s.Administrators)
	case alert.StepAdministrators:
		if s.Call != "" {
			return time.Duration(s.CallAfter)
		}
	}
	return time.Duration(s.Repeat)
}
