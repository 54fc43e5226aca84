package engine

import (
	"context"
	"regexp"
	"time"

	"ironbell/internal/alert"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
)

var clockForm = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]$`)

// nextDigest is when a person's next digest is due; nil when they want none.
func nextDigest(w job.Wishes, now time.Time) *time.Time {
	if w.DigestAt == "" {
		return nil
	}
	next := job.NextClock(w.DigestAt, now)
	return &next
}

// digests sends the digests that are due: what is open and what closed since the
// day before, of all that is the reader's.
func (e *Engine) digests(ctx context.Context) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		people, err := t.DigestsDue(ctx, 20)
		if err != nil || len(people) == 0 {
			return err
		}
		s, ok, err := e.alertSettings(ctx, t)
		if err != nil {
			return err
		}
		for _, p := range people {
			place, err := zone.Load(p.Zone)
			if err != nil {
				place = time.UTC
			}
			now := e.node.Now().In(place)
			if ok && p.Mail != "" {
				if err := e.digest(ctx, t, s, p, now); err != nil {
					e.node.Log.Error("a digest could not be sent", "to", p.Login, "error", err)
				}
			}
			if err := t.PutDigest(ctx, p.ID, nextDigest(p.Wishes, now)); err != nil {
				return err
			}
		}
		return nil
	})
}

// languageOf is how dates are written to a person.
func languageOf(p job.Person) *locale.Locale {
	l, err := locale.Load(p.Wishes.Language)
	if err != nil {
		return nil // it was there when they chose it
	}
	return l
}

func (e *Engine) digest(ctx context.Context, t *store.Tx, s job.AlertSettings, p job.Person, now time.Time) error {
	alerts, err := t.AlertsFor(ctx, p, now.AddDate(0, 0, -1))
	if err != nil {
		return err
	}
	id, destination, _, err := e.alertDestination(ctx, t, s)
	if err != nil {
		return err
	}
	letter := alert.Digest(alerts, alert.Reader{Base: e.links.URL, Zone: now.Location(), Locale: languageOf(p)}, now)
	letter.To = []string{p.Mail}
	none := int64(0) // it belongs to no alert of its own
	return e.freezeLetter(ctx, t, id, destination, letter, job.Message{AlertID: &none}, []store.Recipient{{Address: p.Mail, PersonID: p.ID}}, time.Time{})
}
