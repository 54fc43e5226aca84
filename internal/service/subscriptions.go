package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/settle"
	"ironbell/internal/event"
	"ironbell/internal/store"
)

// Save checks and saves a subscription. What waits goes to the destination that it has from now on.
func (sb *Subscriptions) Save(ctx context.Context, who job.Person, name string, d job.SubscriptionDefinition,
) (job.Subscription, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return job.Subscription{}, err
	}
	name, err := sb.store.Called(ctx, "subscription", name)
	if err != nil {
		return job.Subscription{}, err
	}
	stands, err := sb.check(ctx, name, &d)
	if err != nil {
		return job.Subscription{}, err
	}
	var saved job.Subscription
	err = sb.store.Do(ctx, func(t *store.Tx) error {
		if err := t.PublishAfterOthers(ctx); err != nil {
			return err
		}
		old, err := t.Subscription(ctx, name)
		before, err := had(old.SubscriptionDefinition, err)
		if err != nil {
			return err
		}
		id, err := t.PutSubscription(ctx, name, d)
		if err != nil {
			return err
		}
		if stands != "" {
			if err := t.StandsStill(ctx, id, stands); err != nil {
				return err
			}
		}
		if before != nil && (d.Off || d.Destination != old.Destination) {
			why := "the subscription goes to another destination; it follows there"
			if d.Off {
				why = "the subscription was switched off; it follows when it is on again"
			}
			if _, err := t.TakeBack(ctx, id, why); err != nil {
				return err
			}
		}
		if err := t.Audit(ctx, who.Login, "save", "subscription", name, before, d); err != nil {
			return err
		}
		saved, err = t.Subscription(ctx, name)
		return err
	})
	return saved, err
}

// check tells why a subscription stands still, when it may be saved and does.
func (sb *Subscriptions) check(ctx context.Context, name string, d *job.SubscriptionDefinition) (stands string, err error) {
	v := &fault.Invalid{What: fmt.Sprintf("the subscription %q", name)}
	CheckName(v, "name", name)
	if len(d.Types) == 0 {
		v.Add("types", "say at least one type; there are %s", strings.Join(event.PublishedTypes(), ", "))
	}
	for i, t := range d.Types {
		any := false
		for _, kind := range event.PublishedTypes() {
			any = any || job.SubscriptionDefinition{Types: []string{t}}.Wants(kind)
		}
		if !any {
			v.Add(fmt.Sprintf("types[%d]", i), "nothing of the type %q is published; there are %s", t,
				strings.Join(event.PublishedTypes(), ", "))
		}
	}
	if err := event.CheckPublished(d.OnlyIf, d.Wants); err != nil {
		v.Add("only_if", "%s", err)
	}
	if strings.TrimSpace(d.Destination) == "" {
		v.Add("destination", "say where events go: a destination of the protocol http with a key to sign with")
		return "", v.Err()
	}
	_, place, err := sb.destinations.ByName(ctx, d.Destination)
	var unfit *fault.Fault
	switch {
	case errors.As(err, &unfit):
		v.Add("destination", "%s", unfit)
	case err != nil:
		return "", err
	default:
		// One without a key may be saved: files of records hold none. It says that it stands still.
		var may bool
		if stands, may = deliver.WhyUnsigned(place, d.Destination); !may {
			v.Add("destination", "%s", stands)
		}
		if d.Destination, err = sb.store.Called(ctx, "destination", d.Destination); err != nil {
			return "", err
		}
	}
	return stands, v.Err()
}

// Replay hands on again what was published since an instant, or from a number on when that is not 0, in its
// order; each with the id that it had. What waits is handed on in that order, too.
func (sb *Subscriptions) Replay(ctx context.Context, who job.Person, name string, since time.Time, no int64) (job.Replayed, error) {
	var r job.Replayed
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return r, err
	}
	if since.IsZero() == (no == 0) || no < 0 {
		v := &fault.Invalid{What: "the replay"}
		v.Add("since", "say either since when, or from which number on")
		return r, v.Err()
	}
	return r, sb.store.Do(ctx, func(t *store.Tx) error {
		if err := t.PublishAfterOthers(ctx); err != nil {
			return err
		}
		id, _, err := t.LockRecord(ctx, "subscription", name)
		if err != nil {
			return err
		}
		if _, err := t.TakeBack(ctx, id, "it follows again with what is replayed"); err != nil {
			return err
		}
		if r.First, r.Events, err = t.ReplayFrom(ctx, id, since, no); err != nil {
			return err
		}
		if err := t.CloseAlertsOf(ctx, []string{settle.LostCause(id)}); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "replay", "subscription", name, nil, map[string]any{
			"since": since, "number": no, "first": r.First, "events": r.Events,
		})
	})
}
