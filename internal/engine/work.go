package engine

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

	"ironbell/internal/core/chain"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
)

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

// work claims parts while it has idle workers, and waits for the last of them
// when ctx ends. From then on nothing begins: what was claimed ahead is handed back,
// and what works comes to the end of its tasks, for a while.
func (e *Engine) work(ctx context.Context) {
	living, end := e.node.AfterStop(ctx)
	defer end()
	parts := make(chan claimed, maxAhead+e.o.Workers)
	var busy sync.WaitGroup
	for range e.o.Workers {
		busy.Go(func() {
			for c := range parts {
				e.desk.begin()
				began := time.Now()
				e.part(ctx, c)
				e.desk.end(time.Since(began))
				e.node.Desk.Wake()
			}
		})
	}
	defer busy.Wait()
	defer close(parts)
	var looked time.Time // when it was asked what becomes ready next
	for ctx.Err() == nil {
		n := e.desk.room(e.o.Workers)
		if n == 0 || e.node.Finishing.Load() {
			node.Sleep(ctx, e.node.Desk, e.node.Poll)
			continue
		}
		since := time.Now()
		claims, more, err := e.store.ClaimParts(ctx, e.node.Name, e.node.Lease, n, e.firstTasks)
		if err != nil {
			e.doubt(ctx, claims)
			e.node.Failed(ctx, "claim work", err)
			continue
		}
		if len(claims) > 0 {
			e.node.Crash(crash.Claim)
		}
		e.desk.queue(len(claims))
		for _, c := range claims {
			working, cancel := context.WithCancelCause(living)
			e.holdings.Hold(c, cancel, since)
			parts <- claimed{c, working, cancel}
		}
		if len(claims) > 0 && more {
			continue
		}
		wait := readyLook
		if time.Since(looked) >= readyLook {
			looked, wait = time.Now(), e.node.Poll
			if next, ok, err := e.store.NextReady(ctx); err == nil && ok {
				wait = min(wait, next+5*time.Millisecond)
			}
		}
		node.Sleep(ctx, e.node.Work, wait)
	}
}

// part carries out the tasks of one part from where it stands, and sends what
// came of it to be written. The part is held until that is done. Once stopping has
// ended, no task of it begins.
func (e *Engine) part(stopping context.Context, c claimed) {
	ctx, log := c.ctx, e.node.Log.With("run", c.RunID.String(), "job", c.Job)
	let := func(err error) {
		e.holdings.Release(c.Claim)
		c.cancel(nil)
		if err != nil && !errors.Is(err, store.ErrStale) {
			log.Error("could not write the end of a part; its lease will run out", "error", err)
		}
	}
	if stopping.Err() != nil {
		e.recordLater(e.handBack(c.Claim, slices.Sorted(maps.Keys(c.Begun)), c.Begun), let)
		return
	}
	last, err := e.performed(ctx, stopping, c.Claim, log)
	switch cause := context.Cause(ctx); { //nolint:contextcheck // it lives on for a while after the word to stop
	case err == nil:
	case errors.Is(err, store.ErrStale), errors.Is(cause, lease.ErrLost), errors.Is(cause, lease.ErrCancelled):
		log.Warn("this node has the work no more", "part", c.Part, "cause", cause)
		last = nil
	case ctx.Err() != nil:
		// The service stops, and our records could not be read meanwhile.
		last = e.handBack(c.Claim, nil, nil)
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
	e.recordLater(last, let)
}

// handBack gives a part back to the other nodes, with the tasks of it that did not
// come to their end and changed nothing outside: they begin anew.
func (e *Engine) handBack(c store.Claim, undone []string, tries map[string]int) *entry {
	en := &entry{Entry: store.Entry{Claim: c, Part: &store.PartMove{State: job.PartWaiting, Reason: "node " + e.node.Name + " stopped and handed its work back"}}}
	for _, name := range undone {
		en.Ends = append(en.Ends, store.TaskEnd{Again: true, Attempt: job.Attempt{Part: c.Part, Task: name, Try: tries[name], State: job.AttemptLost, Note: "its node was told to stop; the next try begins anew"}})
	}
	return en
}

// doubt gives back the parts of which nobody knows whether they were claimed, since the
// answer was lost: nothing of them began. The node claims nothing meanwhile, and what the
// records have of another node is left alone, whatever its lease is called.
func (e *Engine) doubt(ctx context.Context, claims []store.Claim) {
	for end := time.Now().Add(e.node.Lease); len(claims) > 0 && time.Now().Before(end); {
		err := e.giveBackClaims(ctx, claims)
		if err == nil || store.Refused(err) || !node.Sleep(ctx, nil, writePause) {
			return
		}
	}
}

func (e *Engine) giveBackClaims(ctx context.Context, claims []store.Claim) error {
	ctx, stop := node.Ending(ctx)
	defer stop()
	return e.store.Do(ctx, func(t *store.Tx) error {
		mine, err := t.Claimed(ctx, e.node.Name, claims)
		if err != nil || len(mine) == 0 {
			return err
		}
		entries, runs := make([]*store.Entry, len(mine)), make([]job.RunID, len(mine))
		for i, c := range mine {
			en := e.handBack(c, slices.Sorted(maps.Keys(c.Begun)), c.Begun)
			en.Part.Reason = "the database did not say whether node " + e.node.Name + " had it, which gave it back"
			entries[i], runs[i] = &en.Entry, c.RunID
		}
		if err := t.WriteEntries(ctx, entries); err != nil {
			return err
		}
		return e.settleRuns(ctx, t, runs)
	})
}

// performed carries out a part; when that breaks, the part has failed.
func (e *Engine) performed(ctx, stopping context.Context, c store.Claim, log *slog.Logger) (last *entry, err error) {
	defer func() {
		if broken := recover(); broken != nil {
			log.Error("a task broke", "panic", broken, "stack", string(debug.Stack()))
			last, err = failedPart(c, fault.New(fault.Task, "carry out the job", fmt.Sprintf("the service has a fault of its own: %v", broken), "Report it with the log of this time.")), nil
		}
	}()
	return e.perform(ctx, stopping, c)
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
func (e *Engine) planOf(ctx context.Context, jobID int64, n int) (*plan, error) {
	key := store.Version{JobID: jobID, Version: n}
	e.mu.Lock()
	p, ok := e.plans[key]
	e.mu.Unlock()
	if ok {
		return p, nil
	}
	def, err := e.store.JobAt(ctx, jobID, n)
	if err != nil {
		return nil, err
	}
	return e.planned(key, def)
}

// planned reads a version of a job and keeps it.
func (e *Engine) planned(key store.Version, def job.Definition) (*plan, error) {
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
	p.totals = wantedTotals(p.Tasks)
	p.sends = slices.ContainsFunc(p.Tasks, func(t job.Task) bool { return t.Kind == job.KindDeliver })
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(e.plans) >= maxPlans {
		clear(e.plans)
	}
	e.plans[key] = p
	return p, nil
}

// firstTasks names the tasks that claimed parts begin with. A job that cannot be
// read is told of when its part is worked on.
func (e *Engine) firstTasks(ctx context.Context, t *store.Tx, claims []store.Claim) ([][]string, error) {
	begin := make([][]string, len(claims))
	plans := make([]*plan, len(claims))
	var unread []store.Version
	e.mu.Lock()
	for i, c := range claims {
		key := store.Version{JobID: c.JobID, Version: c.JobVersion}
		if plans[i] = e.plans[key]; plans[i] == nil {
			unread = append(unread, key)
		}
	}
	e.mu.Unlock()
	if len(unread) > 0 {
		found, err := t.JobsAt(ctx, unread)
		if err != nil {
			return nil, err
		}
		for i, c := range claims {
			key := store.Version{JobID: c.JobID, Version: c.JobVersion}
			if def, ok := found[key]; ok && plans[i] == nil {
				plans[i], _ = e.planned(key, def) // told of when it is worked on
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
