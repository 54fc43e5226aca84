// Package runs alone makes runs: of due times, of what happened elsewhere, and of what people
// ask for. Whatever decides whether a run is made, when it may begin and what it is given stands
// here: freezes, delays, deadlines, overlap, outages, and what it is held for.
//
// It writes in the transactions of those who ask: the clock, waits, and the service.
package runs

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
	"ironbell/internal/timetable"
)

// asks is what this room asks of the store.
type asks interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
	SetWarning(ctx context.Context, id job.RunID, at time.Time) error
	Usual(ctx context.Context, jobs []int64) (map[int64]float64, error)
}

// Runs makes runs. It may be used by several goroutines.
type Runs struct {
	node  *node.Node
	store asks
	times *timetable.Timetable
}

// New makes the maker of runs.
func New(n *node.Node, s asks, times *timetable.Timetable) *Runs {
	return &Runs{node: n, store: s, times: times}
}
