// Package sender hands deliveries over: it claims those that are ready, asks the gate, and sends
// each destination's on lines that it keeps open. Before the other side can accept one, its
// offer is on record; what came of it is written by outcome.
package sender

import (
	"context"
	"sync"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/artifact"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/gate"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/rests"
	"ironbell/internal/store"
	"ironbell/internal/store/deliveries"
	"ironbell/internal/store/records"
	"ironbell/internal/store/sending"
)

// Run hands over until ctx ends.
func (sd *Sender) Run(ctx context.Context) {
	var clerk sync.WaitGroup
	clerk.Go(func() { sd.recordOffers(context.WithoutCancel(ctx)) })
	sd.send(ctx)
	close(sd.offers)
	clerk.Wait()
}

// asks is what this room asks of the store.
type asks interface {
	Alone(ctx context.Context, destination int64, name string, most time.Duration) (release func(), err error)
	ClaimDeliveries(ctx context.Context, node string, lease time.Duration, limit int, destinations int, leftOut []int64) ([]sending.Sending, error)
	Do(ctx context.Context, f func(*store.Tx) error) error
	GateNow(ctx context.Context, now time.Time) (deliveries.GateState, error)
	NextReady(ctx context.Context) (wait time.Duration, ok bool, err error)
	Offer(ctx context.Context, all []sending.Sending) (offered map[int64]bool, moved map[int64]bool, err error)
	Pace(ctx context.Context, id int64, pause time.Duration) (time.Duration, error)
	PlaceByID(ctx context.Context, kind records.PlaceKind, id int64) (records.Place, error)
	Redirect(ctx context.Context, s sending.Sending, to string) error
	gate.Records
}

// Sender is the loop of one node.
type Sender struct {
	node         *node.Node
	store        asks
	destinations *deliver.Destinations
	files        *artifact.Folder
	holdings     *lease.Holdings
	links        access.Links
	outcome      *outcome.Outcome
	rests        *rests.Rests
	lines        lines
	offers       chan offered
	most         int // lines to one destination at once
}

// New makes the sender of a node, with at most so many lines to one destination.
func New(n *node.Node, s asks, d *deliver.Destinations, files *artifact.Folder, h *lease.Holdings,
	links access.Links, o *outcome.Outcome, r *rests.Rests, most int,
) *Sender {
	return &Sender{
		node: n, store: s, destinations: d, files: files, holdings: h, links: links, outcome: o, rests: r,
		lines: newLines(), offers: make(chan offered), most: most,
	}
}

// send hands deliveries over, several destinations at once.
func (sd *Sender) send(ctx context.Context) {
	// Lines live longer than what goes over them. A hand-over that is under way
	// when the service stops is brought to its end: broken off after the offer it
	// would be unknown.
	living, hangUp := sd.node.AfterStop(ctx)
	defer hangUp()
	defer sd.lines.sweep(true)
	var batches sync.WaitGroup
	defer batches.Wait()
	for ctx.Err() == nil {
		busy, room := sd.lines.busy(sd.most, destinationsAtOnce*sd.most)
		if room == 0 || sd.node.Finishing.Load() {
			node.Sleep(ctx, sd.node.Send, sd.node.Poll) // until a batch ends
			continue
		}
		claimed, err := sd.store.ClaimDeliveries(ctx, sd.node.Name, sd.node.Lease, sendBatch, room, busy)
		if err != nil {
			sd.node.Failed(ctx, "claim deliveries", err)
			continue
		}
		sd.holdings.HoldSending(claimed)
		if len(claimed) > 0 {
			sd.node.Crash(crash.Send)
		}
		groups := map[int64][]sending.Sending{}
		for _, s := range claimed {
			groups[s.DestinationID] = append(groups[s.DestinationID], s)
		}
		for id, group := range groups {
			connected, end := sd.lines.begin(id)
			batches.Go(func() {
				sd.sendAll(ctx, living, group, connected)
				end()
				sd.node.Send.Wake()
			})
		}
		if len(claimed) > 0 {
			// The same destinations have more once these are connected, which is told;
			// what others had was among them.
			node.Sleep(ctx, sd.node.Send, claimPause)
			continue
		}
		sd.lines.sweep(false)
		wait := min(sd.node.Poll, idleLine)
		if next, ok, err := sd.store.NextReady(ctx); err == nil && ok {
			wait = min(wait, next+5*time.Millisecond)
		}
		node.Sleep(ctx, sd.node.Send, wait)
	}
}
