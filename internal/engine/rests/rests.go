// Package rests lets what fails as a whole rest: a destination, a source, the store of artifacts.
// What needs it is kept back untried, whoever must know is told once, and when it works again
// everything goes on by itself.
//
// Whoever meets the fault says so here: worker and sender; probe looks whether it is mended; and
// so does the service when somebody tests or saves it.
package rests

import (
	"context"

	"ironbell/internal/artifact"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/settle"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/store/queue"
)

// asks is what this room asks of the store.
type asks interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
	HurryAlerts(ctx context.Context, destination int64, told string) error
	LetGo(ctx context.Context) (more bool, err error)
	Rests(ctx context.Context) ([]queue.RestOf, error)
}

// Rests keeps what rests. It may be used by several goroutines.
type Rests struct {
	node     *node.Node
	store    asks
	holdings *lease.Holdings
	sources  *report.Sources
	files    *artifact.Folder
	settle   *settle.Settler
}

// New makes what keeps rests.
func New(n *node.Node, s asks, h *lease.Holdings, sources *report.Sources, files *artifact.Folder,
	settled *settle.Settler,
) *Rests {
	return &Rests{node: n, store: s, holdings: h, sources: sources, files: files, settle: settled}
}
