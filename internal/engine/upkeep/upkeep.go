// Package upkeep does what comes again and again: it brings back what dead nodes left, warns of
// deadlines, sends digests, removes what was kept long enough, reads the mailbox for bounces,
// gives the sign of life, and renews this node's leases.
package upkeep

import (
	"context"
	"sync"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/artifact"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/notify"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/settle"
	"ironbell/internal/engine/waits"
	"ironbell/internal/installation"
	"ironbell/internal/outgoing"
	"ironbell/internal/store"
	"ironbell/internal/timetable"
)

// Upkeep are the loops of one node.
type Upkeep struct {
	node         *node.Node
	store        *store.Store
	files        *artifact.Folder
	destinations *deliver.Destinations
	holdings     *lease.Holdings
	links        access.Links
	guard        *outgoing.Guard
	zoneData     timetable.Zones
	installation *installation.Keeper
	notify       *notify.Notifier
	waits        *waits.Waits
	settle       *settle.Settler
	outcome      *outcome.Outcome
	version      string    // of the program
	swept        time.Time // when old history was removed; of the goroutine of reap
}

// Needs are what upkeep works with.
type Needs struct {
	Node         *node.Node
	Store        *store.Store
	Files        *artifact.Folder
	Destinations *deliver.Destinations
	Holdings     *lease.Holdings
	Links        access.Links
	Guard        *outgoing.Guard
	Zones        timetable.Zones
	Installation *installation.Keeper
	Notify       *notify.Notifier
	Waits        *waits.Waits
	Settle       *settle.Settler
	Outcome      *outcome.Outcome
	Version      string // of the program
}

// New makes the upkeep of a node.
func New(n Needs) *Upkeep {
	return &Upkeep{
		node: n.Node, store: n.Store, files: n.Files, destinations: n.Destinations, holdings: n.Holdings,
		links: n.Links, guard: n.Guard,
		zoneData: n.Zones, installation: n.Installation, notify: n.Notify, waits: n.Waits, settle: n.Settle,
		outcome: n.Outcome, version: n.Version,
	}
}

// Run goes through its duties until ctx ends.
func (u *Upkeep) Run(ctx context.Context) {
	var all sync.WaitGroup
	for _, loop := range []func(context.Context){u.reap, u.minutely, u.turns} {
		all.Go(func() { loop(ctx) })
	}
	all.Wait()
}

const (
	reapBatch = 200
	upkeep    = time.Hour // between two looks at the partitions to come and at what has ended
)

// minutely does what every node does about once a minute.
func (u *Upkeep) minutely(ctx context.Context) {
	for {
		for doing, do := range map[string]func(context.Context) error{
			"leave the mark": u.installation.LeaveMark, "look for newer zone data": u.zoneData.Reckon,
		} {
			if err := do(ctx); err != nil {
				u.node.Failed(ctx, doing, err)
			}
		}
		if !node.Sleep(ctx, nil, time.Minute) {
			return
		}
	}
}
