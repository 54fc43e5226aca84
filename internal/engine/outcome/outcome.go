// Package outcome alone writes what came of parts and of deliveries, and lets settle say what that
// makes of their runs.
//
// Many small outcomes are written together: while one transaction is under way, what comes
// meanwhile gathers, and goes into the next. Parts are written under the number of their lease,
// so that a node that lost it writes nothing; and once, even when the answer to a write was
// lost.
package outcome

import (
	"context"
	"sync"

	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/notify"
	"ironbell/internal/engine/settle"
	"ironbell/internal/engine/waits"
	"ironbell/internal/store"
)

// asks is what this room asks of the store.
type asks interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
	StillTaken(ctx context.Context, id int64, answer string) error
}

// Outcome writes what came of things. Its methods may be called by several goroutines.
type Outcome struct {
	node     *node.Node
	store    asks
	holdings *lease.Holdings
	waits    *waits.Waits
	notify   *notify.Notifier
	settle   *settle.Settler
	entries  chan *Entry
	receipts chan receipt
}

// New makes it; Run writes.
func New(n *node.Node, s asks, h *lease.Holdings, w *waits.Waits, told *notify.Notifier,
	settled *settle.Settler,
) *Outcome {
	return &Outcome{
		node: n, store: s, holdings: h, waits: w, notify: told, settle: settled,
		entries: make(chan *Entry, maxEntries), receipts: make(chan receipt, maxReceipts),
	}
}

// Run writes what it is given until Close is called.
func (o *Outcome) Run(ctx context.Context) {
	var both sync.WaitGroup
	both.Go(func() { o.write(ctx) })
	both.Go(func() { o.writeReceipts(ctx) })
	both.Wait()
}

// Close says that nothing more comes: everybody who records or receives has ended.
func (o *Outcome) Close() {
	close(o.entries)
	close(o.receipts)
}
