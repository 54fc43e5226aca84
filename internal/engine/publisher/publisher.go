// Package publisher hands the service's own events on to those who subscribed to them. What happened is
// written by the database beside the change itself; here it gets a number, and each subscription the
// deliveries that it wants, through the same record as everything that leaves. Of one subject an event goes
// out after the one before it was taken. What a subscription has not been given waits in the log: only so many
// are on their way at once, however far behind it is.
//
// One node publishes at a time.
package publisher

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/event"
	"ironbell/internal/store"
	"ironbell/internal/store/sending"
)

// asks is what this room asks of the store.
type asks interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
	AnySubscription(ctx context.Context) (bool, error)
	SubscriptionsBehind(ctx context.Context) ([]sending.Subscribed, error)
}

// Publisher is the loop of one node.
type Publisher struct {
	node         *node.Node
	store        asks
	destinations *deliver.Destinations
	base         string // address of the service, which is the source of its events
}

// New makes the publisher of a node.
func New(n *node.Node, s asks, d *deliver.Destinations, base string) *Publisher {
	return &Publisher{node: n, store: s, destinations: d, base: base}
}

const (
	mostOnTheirWay = 200 // events of one subscription
	numbered       = 1000
	looked         = 500              // events that one subscription looks at in one transaction
	soon           = time.Second      // to the next look, while some wait for their turn
	firstRetry     = 10 * time.Second // and twice as long each time
	longestRetry   = time.Hour
	retries        = 100 // some four days
)

// Run publishes until ctx ends.
func (p *Publisher) Run(ctx context.Context) {
	for {
		pause := p.node.Poll
		more, waiting, err := p.Pass(ctx)
		switch {
		case err != nil:
			p.node.Failed(ctx, "publish what happened", err)
		case more:
			pause = 0
		case waiting:
			pause = min(soon, pause)
		}
		if !node.Sleep(ctx, p.node.Publish, pause) {
			return
		}
	}
}

// Pass numbers what is new, serves each subscription, and lets go what waited for its turn. It tells whether
// there is more to do at once, and whether anything waits for its turn.
func (p *Publisher) Pass(ctx context.Context) (more, waiting bool, err error) {
	if there, err := p.store.AnySubscription(ctx); err != nil || !there {
		return false, false, err
	}
	err = p.store.Do(ctx, func(t *store.Tx) error {
		alone, err := t.PublishAlone(ctx)
		if err != nil || !alone {
			return err
		}
		n, err := t.NumberPublished(ctx, numbered)
		more = n == numbered
		return err
	})
	if err != nil {
		return false, false, err
	}
	behind, err := p.store.SubscriptionsBehind(ctx)
	if err != nil {
		return false, false, err
	}
	for _, s := range behind {
		again, err := p.serve(ctx, s.ID, p.stands(ctx, s))
		if err != nil {
			// One that cannot be served holds up no other.
			p.node.Failed(ctx, fmt.Sprintf("publish to %q", s.Name), err)
			continue
		}
		more = more || again
	}
	err = p.store.Do(ctx, func(t *store.Tx) error {
		alone, err := t.PublishAlone(ctx)
		if err != nil || !alone {
			return err
		}
		if err := t.ResendUnknown(ctx, numbered); err != nil {
			return err
		}
		_, waiting, err = t.NextTurns(ctx)
		return err
	})
	return more, waiting, err
}

// stands tells why nothing can be handed on to a subscription; it is empty when all is well.
func (p *Publisher) stands(ctx context.Context, s sending.Subscribed) string {
	if s.DestinationID == 0 {
		return fmt.Sprintf("its destination %q was removed", s.Definition.V.Destination)
	}
	d, err := p.destinations.ByID(ctx, s.DestinationID)
	if err != nil {
		return fault.Of(err).Error()
	}
	why, _ := deliver.WhyUnsigned(d, s.Definition.V.Destination)
	return why
}

// standsCause is the cause of the alert about a subscription that stands still.
func standsCause(id int64) string { return fmt.Sprintf("subscription stands:%d", id) }

// serve makes deliveries for a subscription, and tells whether more may be made at once.
func (p *Publisher) serve(ctx context.Context, id int64, stands string) (more bool, err error) {
	err = p.store.Do(ctx, func(t *store.Tx) error {
		more = false
		alone, err := t.PublishAlone(ctx)
		if err != nil || !alone {
			return err
		}
		s, ok, err := t.LockSubscription(ctx, id)
		if err != nil || !ok {
			return err
		}
		if stands != "" {
			return p.standStill(ctx, t, s, stands)
		}
		if s.Stands != "" {
			if err := t.CloseAlertsOf(ctx, []string{standsCause(s.ID)}); err != nil {
				return err
			}
		}
		mark, again, err := p.handOn(ctx, t, s)
		if err != nil {
			return err
		}
		more = again
		return t.Marked(ctx, s.ID, mark, "")
	})
	return more, err
}

// standStill notes why a subscription is not served, and tells the administrators once something waits for it.
func (p *Publisher) standStill(ctx context.Context, t *store.Tx, s sending.Subscribed, why string) error {
	told, err := t.AlertKnown(ctx, standsCause(s.ID))
	if err != nil || s.Stands == why && (told || !s.Behind) {
		return err
	}
	if err := t.Marked(ctx, s.ID, s.Mark, why); err != nil || !s.Behind {
		return err
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertDown, Cause: standsCause(s.ID), Job: s.Name,
		Happened: fmt.Sprintf("No events are handed on to the subscription %q: %s.", s.Name, why),
		ForWhom:  "whoever goes by the events of this service",
		Advice:   "Mend the destination, or name another one. What was published meanwhile follows by itself.",
	})
}

// handOn makes deliveries of what a subscription wants, as long as not too many are on their way. It gives the
// number of the last event that it looked at.
func (p *Publisher) handOn(ctx context.Context, t *store.Tx, s sending.Subscribed) (mark int64, more bool, err error) {
	subjects, open, err := t.OnTheirWay(ctx, s.ID)
	if err != nil || open >= mostOnTheirWay {
		return s.Mark, false, err
	}
	rows, err := t.PublishedAfter(ctx, s.Mark, looked)
	if err != nil {
		return s.Mark, false, err
	}
	mark = s.Mark
	for _, row := range rows {
		if open >= mostOnTheirWay {
			return mark, false, nil
		}
		mark = row.No
		if !p.wants(s, row.Published) {
			continue
		}
		if err := p.put(ctx, t, s, row, subjects[row.Subject] > 0); err != nil {
			return mark, false, err
		}
		subjects[row.Subject]++
		open++
	}
	return mark, len(rows) == looked, nil
}

// wants tells whether an event goes to a subscription. What cannot be held against its condition goes: who asked
// for too much gets too much, and nothing is lost.
func (p *Publisher) wants(s sending.Subscribed, e job.Published) bool {
	d := s.Definition.V
	if !d.Wants(e.Type) {
		return false
	}
	holds, err := event.PublishedHolds(d.OnlyIf, e)
	if err != nil {
		p.node.Log.Warn("an event goes to a subscription whose condition could not be held against it", "subscription", s.Name,
			"event", e.No, "error", err)
		return true
	}
	return holds
}

// put freezes an event and its delivery; behind tells that another about its subject is on its way.
func (p *Publisher) put(ctx context.Context, t *store.Tx, s sending.Subscribed, e sending.PublishedRow, behind bool) error {
	body, err := event.Structured(e.ID, p.base, e.Published)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(body)
	to := sending.Recipient{Address: fmt.Sprintf("%s/%d.json", e.Type, e.No)}
	if behind {
		to.KeptBack = job.KeptForTurn
	}
	_, err = t.PutMessage(ctx, sending.NewMessage{
		Message: job.Message{
			MessageID: "<" + e.ID + ">", Subject: e.Type + " " + e.Subject, DestinationID: s.DestinationID,
			Size: int64(len(body)), SHA256: hex.EncodeToString(sum[:]), Name: fmt.Sprintf("%d.json", e.No),
			MediaType: event.MediaType + "; charset=utf-8", IfExists: job.ExistsOverwrite,
		},
		To: []sending.Recipient{to}, Body: body,
		Retry: job.Retry{
			Times: retries, Wait: job.Duration(firstRetry), Growth: 2, Longest: job.Duration(longestRetry),
		},
		IfUnknown:      job.UnknownAsk, // it is sent again all the same: its id tells the other side that it has it
		SubscriptionID: &s.ID, PublishedNo: e.No, About: e.Subject,
	})
	return err
}
