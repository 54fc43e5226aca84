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
	"ironbell/internal/core/job"
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
	"ironbell/internal/store/operation"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/sending"
	"ironbell/internal/timetable"
)

// asks is what upkeep wants of the store.
type asks interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
	Setting(ctx context.Context, key string, to any) (bool, error)
	Keeping(ctx context.Context) (job.KeepingSettings, error)

	// turns of which one node has each
	TakeTurn(ctx context.Context, name string, every time.Duration) (ok bool, err error)
	NoteTurn(ctx context.Context, name, word string) error
	LastTurn(ctx context.Context, name string) (operation.Turn, error)

	// this node and the leases it holds
	SeeNode(ctx context.Context, n operation.Node) (finishing bool, err error)
	ForgetNode(ctx context.Context, name string) error
	RenewDeliveries(ctx context.Context, lease time.Duration, worked []sending.Sending) error
	RenewParts(ctx context.Context, lease time.Duration, worked []queue.Claim) ([]queue.Claim, error)

	// what was kept long enough
	EnsureMonths(ctx context.Context) error
	DropMonths(ctx context.Context) error
	SweepAccess(ctx context.Context) error
	Gone(ctx context.Context, before time.Time, limit int) (int, error)
	SweepHappened(ctx context.Context, before time.Time) error
	SweepHistory(ctx context.Context) error
	SweepNames(ctx context.Context) error
	SweepOld(ctx context.Context, k job.KeepingSettings) error
	OldFiles(ctx context.Context, limit int) ([]operation.OldFile, error)
	FilesRemoved(ctx context.Context, files []operation.OldFile) error
	KnownKeys(ctx context.Context, keys []string) (map[string]bool, error)
}

// Upkeep are the loops of one node.
type Upkeep struct {
	node         *node.Node
	store        asks
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
	version      string // of the program
	workers      int
	began        time.Time // when the node began
	swept        time.Time // when old history was removed; of the goroutine of reap
}

// Needs are what upkeep works with.
type Needs struct {
	Node         *node.Node
	Store        asks
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
	Workers      int    // parts that the node works at once
}

// New makes the upkeep of a node.
func New(n Needs) *Upkeep {
	return &Upkeep{
		node: n.Node, store: n.Store, files: n.Files, destinations: n.Destinations, holdings: n.Holdings,
		links: n.Links, guard: n.Guard,
		zoneData: n.Zones, installation: n.Installation, notify: n.Notify, waits: n.Waits, settle: n.Settle,
		outcome: n.Outcome, version: n.Version, workers: n.Workers, began: n.Node.Now(),
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
