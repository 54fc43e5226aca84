package notify

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"ironbell/internal/alert"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/store/sending"
	"ironbell/internal/task"
)

// unsendable says why no mail about an alert can be made, while our own records work.
type unsendable struct{ error }

func (u *unsendable) Unwrap() error { return u.error }

// mailAlert composes a mail for each of some people and freezes its delivery. It
// tells whether the mail server rests, so that the mails wait. Its error is *unsendable
// when the mail cannot be made.
func (nr *Notifier) mailAlert(ctx context.Context, t *store.Tx, a job.Alert, s job.AlertSettings, step int,
	people []job.Person, sleeping []sleeper,
) (names []string, rests bool, err error) {
	id, destination, rests, err := nr.alertDestination(ctx, t, s)
	if err != nil {
		return nil, false, &unsendable{err}
	}
	all := make([]sleeper, 0, len(people)+len(sleeping))
	for _, p := range people {
		all = append(all, sleeper{Person: p})
	}
	var failed error
	for _, p := range append(all, sleeping...) {
		waits, err := t.AlertMailWaits(ctx, a.ID, p.Mail)
		if err != nil {
			return nil, false, err
		}
		name := p.Name
		if !p.until.IsZero() {
			name += " after " + p.until.Format("15:04 MST")
		}
		if names = append(names, name); waits {
			rests = rests || p.until.IsZero() // one is enough
			continue
		}
		place, err := zone.Load(p.Zone)
		if err != nil {
			place = time.UTC
		}
		letter := alert.Letter(a, alert.Reader{
			Base: nr.links.URL, Zone: place, Locale: languageOf(p.Person), Step: step,
			Acknowledge: nr.links.Acknowledge(a.ID, p.ID),
		})
		letter.To = []string{p.Mail}
		err = nr.putLetter(ctx, t, id, destination, letter, job.Message{AlertID: &a.ID},
			[]sending.Recipient{{Address: p.Mail, PersonID: p.ID}}, p.until)
		var unfit *fault.Fault
		if errors.As(err, &unfit) { // no mail can be made for them; the others get theirs
			nr.node.Log.Error("an alert cannot be sent to a person", "alert", a.ID, "person", p.Login, "error", err)
			names, failed = names[:len(names)-1], err
			continue
		}
		if err != nil {
			return nil, false, err
		}
	}
	if len(names) == 0 {
		return nil, false, &unsendable{failed}
	}
	return names, rests, nil
}

// putLetter composes a letter of the service itself and writes its deliveries, to
// go out at an instant, or at once when it is zero. It lies in the database: it must
// go out when the disk of the artifacts is full, too.
func (nr *Notifier) putLetter(ctx context.Context, t *store.Tx, id int64, destination deliver.Mailer,
	letter deliver.Letter, m job.Message, to []sending.Recipient, at time.Time,
) error {
	now := nr.node.Now()
	letter.From, letter.Date, letter.MessageID = destination.From(), now,
		task.MessageID(task.DomainOf(destination.From()))
	var err error
	if letter.House, err = nr.looks.Look(ctx, t, ""); err != nil {
		// What must be known is not held up by how it looks.
		nr.node.Log.Error("a mail goes out without the house style", "error", err)
		letter.House = nil
	}
	var body bytes.Buffer
	if err := deliver.Compose(ctx, &body, letter); err != nil {
		return fault.Wrap(err, fault.Lasting, fault.Message, "compose the mail", "")
	}
	sum := sha256.Sum256(body.Bytes())
	giveUp := now.Add(tellGiveUp)
	m.MessageID, m.Subject, m.DestinationID, m.Size, m.SHA256 = "<"+letter.MessageID+">", letter.Subject, id,
		int64(body.Len()), hex.EncodeToString(sum[:])
	n := sending.NewMessage{
		Message: m, To: to, Body: body.Bytes(),
		Retry: job.Retry{Times: int(tellGiveUp / nr.every), Wait: job.Duration(nr.every)}, GiveUpAt: &giveUp,
		IfUnknown: job.UnknownAsk,
	}
	if !at.IsZero() {
		n.ReadyAt = &at
	}
	_, err = t.PutMessage(ctx, n)
	return err
}

// alertDestination is the mail server that alerts go over now: the first that
// does not rest.
func (nr *Notifier) alertDestination(ctx context.Context, t *store.Tx,
	s job.AlertSettings,
) (id int64, d deliver.Mailer, rests bool, err error) {
	if s.Destination == "" {
		return 0, nil, false, fmt.Errorf("no destination is set for alerts; an administrator must name one")
	}
	for _, name := range []string{s.Destination, s.Standby} {
		if name == "" {
			continue
		}
		p, missing := t.Place(ctx, records.Destination, name)
		if missing != nil {
			err = missing
			continue
		}
		nid, nd, opening := nr.destinations.ByName(ctx, name)
		mailer, ok := nd.(deliver.Mailer)
		if opening != nil || !ok {
			if err = opening; err == nil {
				err = fmt.Errorf("the destination %q takes no mails", name)
			}
			continue
		}
		if p.RestsSince == nil {
			return nid, mailer, false, nil
		}
		if d == nil {
			id, d, rests = nid, mailer, true
		}
	}
	if d != nil {
		return id, d, rests, nil
	}
	return 0, nil, false, err
}

// languageOf is how dates are written to a person.
func languageOf(p job.Person) *locale.Locale {
	l, err := locale.Load(p.Wishes.Language)
	if err != nil {
		return nil // it was there when they chose it
	}
	return l
}
