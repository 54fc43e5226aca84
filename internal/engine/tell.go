package engine

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/alert"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// AlertSetting is the setting that says how alerts are sent, a job.AlertSettings.
const AlertSetting = "alerts"

// tellGiveUp is how long telling an alert waits for a mail server that is down;
// then the next step is taken.
const tellGiveUp = 72 * time.Hour

// tell sends open alerts to those who must know of them.
func (e *Engine) tell(ctx context.Context) {
	for ctx.Err() == nil {
		n := 0
		err := e.store.Do(ctx, func(t *store.Tx) error {
			alerts, err := t.AlertsToTell(ctx, 20)
			n = len(alerts)
			for _, a := range alerts {
				if err == nil {
					err = e.tellOne(ctx, t, a)
				}
			}
			return err
		})
		if err != nil {
			e.failed(ctx, "tell of alerts", err)
			continue
		}
		if n > 0 {
			continue
		}
		wait := e.o.Poll
		if next, ok, err := e.store.NextReady(ctx); err == nil && ok {
			wait = min(wait, next+5*time.Millisecond)
		}
		if !sleep(ctx, e.wakeTell, wait) {
			return
		}
	}
}

// tellOne composes the mail of one alert and freezes its deliveries.
func (e *Engine) tellOne(ctx context.Context, t *store.Tx, a job.Alert) error {
	people, err := e.recipients(ctx, t, a)
	if err != nil {
		return err
	}
	if len(people) == 0 {
		e.o.Log.Error("nobody could be told of an alert", "alert", a.ID, "job", a.Job)
		return t.Told(ctx, a.ID, strings.TrimPrefix(a.Told+"; nobody else is there to be told", "; "), 0)
	}
	id, destination, err := e.alertDestination(ctx, t)
	if err != nil {
		e.o.Log.Error("an alert cannot be sent", "alert", a.ID, "error", err)
		return t.Told(ctx, a.ID, "cannot be sent: "+err.Error(), 10*time.Minute)
	}
	zone, err := zone.Load(people[0].Zone)
	if err != nil {
		zone = time.UTC
	}
	letter := alert.Letter(a, e.o.URL, zone, a.Step)
	letter.From, letter.Date, letter.MessageID = destination.From(), time.Now(), task.MessageID(task.DomainOf(destination.From()))
	var names []string
	for _, p := range people {
		letter.To = append(letter.To, p.Mail)
		names = append(names, p.Name)
	}
	file, err := e.files.Create()
	if err != nil {
		return err
	}
	if err := deliver.Compose(ctx, file, letter); err != nil {
		file.Drop()
		return t.Told(ctx, a.ID, "cannot be written: "+err.Error(), 0)
	}
	kept, err := file.Keep()
	if err != nil {
		return err
	}
	giveUp := time.Now().Add(tellGiveUp)
	alertID := a.ID
	if _, err := t.Freeze(ctx, store.NewMessage{
		Message:   job.Message{AlertID: &alertID, MessageID: "<" + letter.MessageID + ">", Subject: letter.Subject, DestinationID: id, Key: kept.Key, Size: kept.Size, SHA256: kept.SHA256},
		Addresses: letter.To, Retry: job.Retry{Times: int(tellGiveUp / e.o.Tell), Wait: job.Duration(e.o.Tell)}, GiveUpAt: &giveUp, IfUnknown: job.UnknownAsk,
	}); err != nil {
		return err
	}
	return t.Told(ctx, a.ID, "a mail goes to "+strings.Join(names, ", "), 0)
}

// recipients are the people of an alert's step.
func (e *Engine) recipients(ctx context.Context, t *store.Tx, a job.Alert) ([]job.Person, error) {
	owner, _, err := t.PersonByLogin(ctx, a.Owner)
	if err != nil {
		return nil, err
	}
	switch a.Step {
	case alert.StepOwner:
		return []job.Person{owner}, nil
	case alert.StepAdministrators:
		all, err := t.Administrators(ctx)
		var others []job.Person
		for _, p := range all {
			if p.ID != owner.ID {
				others = append(others, p)
			}
		}
		return others, err
	}
	return nil, nil
}

func (e *Engine) alertDestination(ctx context.Context, t *store.Tx) (int64, deliver.Destination, error) {
	var s job.AlertSettings
	ok, err := t.Setting(ctx, AlertSetting, &s)
	if err != nil {
		return 0, nil, err
	}
	if !ok || s.Destination == "" {
		return 0, nil, fmt.Errorf("no destination is set for alerts; an administrator must name one")
	}
	return e.destinations.ByName(ctx, s.Destination)
}
