// Package notify only tells: it takes open alerts step by step to those who must know, by mail and
// by a call, sends digests and mails of success, and asks a second person for a yes. It decides
// on no run and on no delivery.
//
// Each step is written in the transaction that writes its mails, so that nobody is told twice.
package notify

import (
	"context"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/house"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/timetable"
)

// asks is what this room asks of the store.
type asks interface {
	Calling(ctx context.Context, id int64) (n int, err error)
	Do(ctx context.Context, f func(*store.Tx) error) error
	NextReady(ctx context.Context) (wait time.Duration, ok bool, err error)
	Setting(ctx context.Context, key string, to any) (bool, error)
}

// Notifier is the loop of one node. Its methods may be called by several goroutines.
type Notifier struct {
	node         *node.Node
	store        asks
	times        *timetable.Timetable
	destinations *deliver.Destinations
	links        access.Links
	every        time.Duration // between two tries to tell an owner of an alert
	looks        *house.Shelf
}

// New makes the notifier of a node; every is the time between two tries to tell somebody.
func New(n *node.Node, s asks, times *timetable.Timetable, d *deliver.Destinations, links access.Links,
	every time.Duration, looks *house.Shelf,
) *Notifier {
	return &Notifier{node: n, store: s, times: times, destinations: d, links: links, every: every, looks: looks}
}

// Run sends open alerts to those who must know of them.
func (nr *Notifier) Run(ctx context.Context) {
	for ctx.Err() == nil {
		n, err := nr.tellDue(ctx)
		if err != nil {
			nr.node.Failed(ctx, "tell of alerts", err)
			continue
		}
		told, err := nr.tellSuccess(ctx)
		if err != nil {
			nr.node.Failed(ctx, "tell of success", err)
			continue
		}
		if n+told > 0 {
			continue
		}
		wait := nr.node.Poll
		if next, ok, err := nr.store.NextReady(ctx); err == nil && ok {
			wait = min(wait, next+5*time.Millisecond)
		}
		if !node.Sleep(ctx, nr.node.Tell, wait) {
			return
		}
	}
}

// Settings are those of alerts, and whether alerts can be sent by them at all.
func (nr *Notifier) Settings(ctx context.Context, t *store.Tx) (job.AlertSettings, bool, error) {
	var s job.AlertSettings
	ok, err := t.Setting(ctx, db.AlertSetting, &s)
	return s.WithDefaults(), ok && s.Destination != "", err
}
