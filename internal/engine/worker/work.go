// Package worker claims parts of runs and carries out their tasks as their chains say: values in,
// one attempt after another, artifacts and messages out. What came of each is written by
// outcome.
//
// A part is held under a lease. When the lease is lost, or the run was cancelled, the work ends.
package worker

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/engine/rests"
	"ironbell/internal/engine/runs"
	"ironbell/internal/engine/settle"
	"ironbell/internal/installation"
	"ironbell/internal/report"
	"ironbell/internal/timetable"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// Worker is the loop of one node.
type Worker struct {
	node         *node.Node
	store        *store.Store
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
	desk         desk

	mu    sync.Mutex // guards the plans
	plans map[store.Version]*plan
}

// Needs are what a worker works with.
type Needs struct {
	Node         *node.Node
	Store        *store.Store
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
		node: n.Node, store: n.Store, times: n.Times, files: n.Files, sources: n.Sources, holdings: n.Holdings, kinds: n.Kinds,
		installation: n.Installation, runs: n.Runs, settle: n.Settle, outcome: n.Outcome, rests: n.Rests, workers: n.Workers,
		plans: map[store.Version]*plan{},
	}
}

const (
	// quick is how short parts must be so that a node claims more of them than
	// it has workers: it then saves claims, and nobody waits long behind it.
	quick    = 50 * time.Millisecond
	maxAhead = 250 // parts claimed beside those at work, while parts are quick
)

// desk knows how many claimed parts lie before the workers.
type desk struct {
	mu     sync.Mutex
	usual  time.Duration // how long a part takes, smoothed
	queued int           // claimed, not begun
	busy   int           // at work
}

// room is how many parts to claim now; while parts are quick, it is zero until a
// claim is worth it.
func (d *desk) room(workers int) int {
	d.mu.Lock()
	defer d.mu.Unlock()
	ahead := 0
	if d.usual > 0 && d.usual < quick {
		ahead = int(min(int64(maxAhead), int64(quick/d.usual)))
	}
	n := workers + ahead - d.queued - d.busy
	if ahead > 0 && n < (workers+ahead)/2 {
		return 0
	}
	return max(n, 0)
}

// queue notes parts that were claimed.
func (d *desk) queue(n int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.queued += n
}

// begin notes that a worker takes a part.
func (d *desk) begin() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.queued--
	d.busy++
}

// end notes that a worker is done with one, and how long that took.
func (d *desk) end(took time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.busy--
	d.usual = max(1, d.usual+(took-d.usual)/8)
}

// claimed is a claimed part with what its work needs.
type claimed struct {
	store.Claim
	ctx    context.Context //nolint:containedctx // it lives as long as the claim
	cancel context.CancelCauseFunc
}

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
				w.desk.begin()
				began := time.Now()
				w.part(ctx, c)
				w.desk.end(time.Since(began))
				w.node.Desk.Wake()
			}
		})
	}
	defer busy.Wait()
	defer close(parts)
	var looked time.Time // when it was asked what becomes ready next
	for ctx.Err() == nil {
		n := w.desk.room(w.workers)
		if n == 0 || w.node.Finishing.Load() {
			node.Sleep(ctx, w.node.Desk, w.node.Poll)
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
		w.desk.queue(len(claims))
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

// part carries out the tasks of one part from where it stands, and sends what
// came of it to be written. The part is held until that is done. Once stopping has
// ended, no task of it begins.
func (w *Worker) part(stopping context.Context, c claimed) {
	ctx, log := c.ctx, w.node.Log.With("run", c.RunID.String(), "job", c.Job)
	let := func(err error) {
		w.holdings.Release(c.Claim)
		c.cancel(nil)
		if err != nil && !errors.Is(err, store.ErrStale) {
			log.Error("could not write the end of a part; its lease will run out", "error", err)
		}
	}
	if stopping.Err() != nil {
		w.outcome.RecordLater(w.handBack(c.Claim, slices.Sorted(maps.Keys(c.Begun)), c.Begun), let)
		return
	}
	last, err := w.performed(ctx, stopping, c.Claim, log)
	switch cause := context.Cause(ctx); { //nolint:contextcheck // it lives on for a while after the word to stop
	case err == nil:
	case errors.Is(err, store.ErrStale), errors.Is(cause, lease.ErrLost), errors.Is(cause, lease.ErrCancelled):
		log.Warn("this node has the work no more", "part", c.Part, "cause", cause)
		last = nil
	case ctx.Err() != nil:
		// The service stops, and our records could not be read meanwhile.
		last = w.handBack(c.Claim, nil, nil)
	default:
		// Our own records could not be read or written; the lease runs out, and
		// the part is taken again.
		log.Error("could not go on with a part", "error", err)
		last = nil
	}
	if last == nil {
		let(nil)
		return
	}
	w.outcome.RecordLater(last, let)
}

// handBack gives a part back to the other nodes, with the tasks of it that did not
// come to their end and changed nothing outside: they begin anew.
func (w *Worker) handBack(c store.Claim, undone []string, tries map[string]int) *outcome.Entry {
	en := &outcome.Entry{Entry: store.Entry{Claim: c, Part: &store.PartMove{State: job.PartWaiting, Reason: "node " + w.node.Name + " stopped and handed its work back"}}}
	for _, name := range undone {
		en.Ends = append(en.Ends, store.TaskEnd{Again: true, Attempt: job.Attempt{Part: c.Part, Task: name, Try: tries[name], State: job.AttemptLost, Note: "its node was told to stop; the next try begins anew"}})
	}
	return en
}

// Doubt gives back the parts of which nobody knows whether they were claimed, since the
// answer was lost: nothing of them began. The node claims nothing meanwhile, and what the
// records have of another node is left alone, whatever its lease is called.
func (w *Worker) Doubt(ctx context.Context, claims []store.Claim) {
	for end := time.Now().Add(w.node.Lease); len(claims) > 0 && time.Now().Before(end); {
		err := w.giveBackClaims(ctx, claims)
		if err == nil || store.Refused(err) || !node.Sleep(ctx, nil, outcome.WritePause) {
			return
		}
	}
}

func (w *Worker) giveBackClaims(ctx context.Context, claims []store.Claim) error {
	ctx, stop := node.Ending(ctx)
	defer stop()
	return w.store.Do(ctx, func(t *store.Tx) error {
		mine, err := t.Claimed(ctx, w.node.Name, claims)
		if err != nil || len(mine) == 0 {
			return err
		}
		entries, runs := make([]*store.Entry, len(mine)), make([]job.RunID, len(mine))
		for i, c := range mine {
			en := w.handBack(c, slices.Sorted(maps.Keys(c.Begun)), c.Begun)
			en.Part.Reason = "the database did not say whether node " + w.node.Name + " had it, which gave it back"
			entries[i], runs[i] = &en.Entry, c.RunID
		}
		if err := t.WriteEntries(ctx, entries); err != nil {
			return err
		}
		return w.settle.Settle(ctx, t, runs)
	})
}

// performed carries out a part; when that breaks, the part has failed.
func (w *Worker) performed(ctx, stopping context.Context, c store.Claim, log *slog.Logger) (last *outcome.Entry, err error) {
	defer func() {
		if broken := recover(); broken != nil {
			log.Error("a task broke", "panic", broken, "stack", string(debug.Stack()))
			last, err = outcome.FailedPart(c, fault.New(fault.Task, "carry out the job", fmt.Sprintf("the service has a fault of its own: %v", broken), "Report it with the log of this time.")), nil
		}
	}()
	return w.perform(ctx, stopping, c)
}

// plan is a version of a job as it is carried out. It never changes.
type plan struct {
	job.Definition
	chain  chain.Chain
	first  []string // tasks that a fresh part begins with at once
	totals []string // columns whose totals its conditions ask for
	sends  bool     // it has tasks that make deliveries
}

const maxPlans = 5000

// planOf gives a version of a job. Versions never change, so they are kept.
func (w *Worker) planOf(ctx context.Context, jobID int64, n int) (*plan, error) {
	key := store.Version{JobID: jobID, Version: n}
	w.mu.Lock()
	p, ok := w.plans[key]
	w.mu.Unlock()
	if ok {
		return p, nil
	}
	def, err := w.store.JobAt(ctx, jobID, n)
	if err != nil {
		return nil, err
	}
	return w.planned(key, def)
}

// planned reads a version of a job and keeps it.
func (w *Worker) planned(key store.Version, def job.Definition) (*plan, error) {
	p := &plan{Definition: def.WithDefaults()}
	wrong := fault.Invalid{What: "the tasks of the job"}
	p.chain = chain.Read(p.Tasks, &wrong)
	if err := wrong.Err(); err != nil {
		return nil, err
	}
	for _, m := range p.chain.Next(nil, nil) {
		if m.Over == "" && m.Task.OnlyIf == "" && len(p.first) < p.SideBySide {
			p.first = append(p.first, m.Task.Name)
		}
	}
	p.totals = task.WantedTotals(p.Tasks)
	p.sends = slices.ContainsFunc(p.Tasks, func(t job.Task) bool { return t.Kind == job.KindDeliver })
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.plans) >= maxPlans {
		clear(w.plans)
	}
	w.plans[key] = p
	return p, nil
}

// FirstTasks names the tasks that claimed parts begin with. A job that cannot be
// read is told of when its part is worked on.
func (w *Worker) FirstTasks(ctx context.Context, t *store.Tx, claims []store.Claim) ([][]string, error) {
	begin := make([][]string, len(claims))
	plans := make([]*plan, len(claims))
	var unread []store.Version
	w.mu.Lock()
	for i, c := range claims {
		key := store.Version{JobID: c.JobID, Version: c.JobVersion}
		if plans[i] = w.plans[key]; plans[i] == nil {
			unread = append(unread, key)
		}
	}
	w.mu.Unlock()
	if len(unread) > 0 {
		found, err := t.JobsAt(ctx, unread)
		if err != nil {
			return nil, err
		}
		for i, c := range claims {
			key := store.Version{JobID: c.JobID, Version: c.JobVersion}
			if def, ok := found[key]; ok && plans[i] == nil {
				plans[i], _ = w.planned(key, def) // told of when it is worked on
			}
		}
	}
	for i, p := range plans {
		// A run that is still to be divided begins with that.
		if p != nil && claims[i].Fresh() && (p.Split.Each == "" || claims[i].Name != "") {
			begin[i] = p.first
		}
	}
	return begin, nil
}
