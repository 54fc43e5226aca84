package notify

import (
	"context"
	"time"

	"ironbell/internal/alert"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/sending"
)

// NextDigest is when a person's next digest is due; nil when they want none.
func NextDigest(w job.Wishes, now time.Time) *time.Time {
	if w.DigestAt == "" {
		return nil
	}
	next := job.NextClock(w.DigestAt, now)
	return &next
}

// Digests sends the digests that are due: what is open and what closed since the
// day before, of all that is the reader's.
func (nr *Notifier) Digests(ctx context.Context) error {
	return nr.store.Do(ctx, func(t *store.Tx) error {
		people, err := t.DigestsDue(ctx, 20)
		if err != nil || len(people) == 0 {
			return err
		}
		s, ok, err := nr.Settings(ctx, t)
		if err != nil {
			return err
		}
		for _, p := range people {
			place, err := zone.Load(p.Zone)
			if err != nil {
				place = time.UTC
			}
			now := nr.node.Now().In(place)
			if ok && p.Mail != "" {
				if err := nr.digest(ctx, t, s, p, now); err != nil {
					nr.node.Log.Error("a digest could not be sent", "to", p.Login, "error", err)
				}
			}
			if err := t.PutDigest(ctx, p.ID, NextDigest(p.Wishes, now)); err != nil {
				return err
			}
		}
		return nil
	})
}

func (nr *Notifier) digest(ctx context.Context, t *store.Tx, s job.AlertSettings, p job.Person, now time.Time) error {
	alerts, err := t.AlertsFor(ctx, p, now.AddDate(0, 0, -1))
	if err != nil {
		return err
	}
	id, destination, _, err := nr.alertDestination(ctx, t, s)
	if err != nil {
		return err
	}
	letter := alert.Digest(alerts, alert.Reader{Base: nr.links.URL, Zone: now.Location(), Locale: languageOf(p)}, now)
	letter.To = []string{p.Mail}
	none := int64(0) // it belongs to no alert of its own
	return nr.putLetter(ctx, t, id, destination, letter, job.Message{AlertID: &none},
		[]sending.Recipient{{Address: p.Mail, PersonID: p.ID}}, time.Time{})
}
