// Package worker claims parts of runs and carries out their tasks as their chains say: values in,
// one attempt after another, artifacts and messages out. What came of each is written by
// outcome.
//
// A part is held under a lease. When the lease is lost, or the run was cancelled, the work ends.
package worker

import (
	"context"
	"sync"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/rests"
	"ironbell/internal/engine/runs"
	"ironbell/internal/engine/settle"
	"ironbell/internal/installation"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/records"
	"ironbell/internal/store/sending"
	"ironbell/internal/task"
	"ironbell/internal/timetable"
)

// asks is what a worker wants of the store.
type asks interface {
	timetable.Records
	Do(ctx context.Context, f func(*store.Tx) error) error

	// parts of runs
	ClaimParts(ctx context.Context, node string, lease time.Duration, limit int,
		first queue.First) (claims []queue.Claim, more bool, err error)
	NextReady(ctx context.Context) (wait time.Duration, ok bool, err error)
	Siblings(ctx context.Context, run job.RunID) ([]sending.Sibling, error)
	Log(ctx context.Context, l job.LogLine, id job.RunID) error

	// what they are made from
	JobAt(ctx context.Context, id int64, version int) (job.Definition, error)
	ReportOf(ctx context.Context, run job.RunID, name string, at time.Time) (job.Report, error)
	PersonByID(ctx context.Context, id int64) (job.Person, error)
	PastRows(ctx context.Context, c queue.Claim, task string, n int) ([]int64, error)
}

// Worker is the loop of one node.
type Worker struct {
	node         *node.Node
	store        asks
	times        *timetable.Timetable
	files        *artifact.Folder
	sources      *report.Sources
	holdings     *lease.Holdings
	kinds        map[job.TaskKind]task.Kind
	installation *installation.Keeper
	runs         *runs.Runs
	settle       *settle.Settler
	outcome      *outcome.Outcome
	rests        *rests.Rests
	workers      int // parts at once
	slots        slots

	mu    sync.Mutex // guards the plans
	plans map[records.Version]*plan
}

// Needs are what a worker works with.
type Needs struct {
	Node         *node.Node
	Store        asks
	Times        *timetable.Timetable
	Files        *artifact.Folder
	Sources      *report.Sources
	Holdings     *lease.Holdings
	Kinds        map[job.TaskKind]task.Kind
	Installation *installation.Keeper
	Runs         *runs.Runs
	Settle       *settle.Settler
	Outcome      *outcome.Outcome
	Rests        *rests.Rests
	Workers      int // parts at once
}

// New makes the worker of a node.
func New(n Needs) *Worker {
	return &Worker{
		node: n.Node, store: n.Store, times: n.Times, files: n.Files, sources: n.Sources, holdings: n.Holdings,
		kinds:        n.Kinds,
		installation: n.Installation, runs: n.Runs, settle: n.Settle, outcome: n.Outcome, rests: n.Rests,
		workers: n.Workers,
		plans:   map[records.Version]*plan{},
	}
}

const (
	// quick is how short parts must be so that a node claims more of them than
	// it has workers: it then saves claims, and nobody waits long behind it.
	quick    = 50 * time.Millisecond
	maxAhead = 250 // parts claimed beside those at work, while parts are quick
)

// readyLook is how soon it is asked again what becomes ready next: while parts come and
// go it need not be asked for each.
const readyLook = 20 * time.Millisecond

// Run claims parts while it has idle workers, and waits for the last of them
// when ctx ends. From then on nothing begins: what was claimed ahead is handed back,
// and what works comes to the end of its tasks, for a while.
func (w *Worker) Run(ctx context.Context) {
	living, end := w.node.AfterStop(ctx)
	defer end()
	parts := make(chan claimed, maxAhead+w.workers)
	var busy sync.WaitGroup
	for range w.workers {
		busy.Go(func() {
			for c := range parts {
				w.slots.begin()
				began := time.Now()
				w.part(ctx, c)
				w.slots.end(time.Since(began))
				w.node.Slots.Wake()
			}
		})
	}
	defer busy.Wait()
	defer close(parts)
	var looked time.Time // when it was asked what becomes ready next
	for ctx.Err() == nil {
		n := w.slots.room(w.workers)
		if n == 0 || w.node.Finishing.Load() {
			node.Sleep(ctx, w.node.Slots, w.node.Poll)
			continue
		}
		since := time.Now()
		claims, more, err := w.store.ClaimParts(ctx, w.node.Name, w.node.Lease, n, w.FirstTasks)
		if err != nil {
			w.Doubt(ctx, claims)
			w.node.Failed(ctx, "claim work", err)
			continue
		}
		if len(claims) > 0 {
			w.node.Crash(crash.Claim)
		}
		w.slots.queue(len(claims))
		for _, c := range claims {
			working, cancel := context.WithCancelCause(living)
			w.holdings.Hold(c, cancel, since)
			parts <- claimed{c, working, cancel}
		}
		if len(claims) > 0 && more {
			continue
		}
		wait := readyLook
		if time.Since(looked) >= readyLook {
			looked, wait = time.Now(), w.node.Poll
			if next, ok, err := w.store.NextReady(ctx); err == nil && ok {
				wait = min(wait, next+5*time.Millisecond)
			}
		}
		node.Sleep(ctx, w.node.Work, wait)
	}
}
