package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
	"time"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

// errLeaseLost ends the work on a part that another node has now.
var errLeaseLost = errors.New("the lease was lost")

// errCancelled ends the work on a part of a run that somebody cancelled.
var errCancelled = errors.New("the run was cancelled")

const (
	// quick is how short parts must be so that a node claims more of them than
	// it has workers: it then saves claims, and nobody waits long behind it.
	quick     = 50 * time.Millisecond
	maxAhead  = 64 // parts claimed beside those at work, while parts are quick
	brakeWait = 5 * time.Millisecond
)

// desk hands claimed parts to the workers.
type desk struct {
	mu     sync.Mutex
	usual  time.Duration // how long a part takes, smoothed
	queued int
}

// room is how many parts to claim now.
func (d *desk) room(idle int) int {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := idle - d.queued
	if d.usual > 0 && d.usual < quick {
		n += int(min(int64(maxAhead), int64(quick/d.usual)))
	}
	return n
}

func (d *desk) queue(n int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.queued += n
}

func (d *desk) took(t time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.usual += (t - d.usual) / 8
	if d.usual == 0 {
		d.usual = 1
	}
}

// claimed is a claimed part with what its work needs.
type claimed struct {
	store.Claim
	ctx    context.Context //nolint:containedctx // it lives as long as the claim
	cancel context.CancelCauseFunc
}

// work claims parts while it has idle workers, and waits for the last of them
// when ctx ends.
func (e *Engine) work(ctx context.Context) {
	parts := make(chan claimed, maxAhead+e.o.Workers)
	idle := make(chan struct{}, e.o.Workers)
	var busy sync.WaitGroup
	for range e.o.Workers {
		idle <- struct{}{}
		busy.Go(func() {
			for c := range parts {
				e.desk.queue(-1)
				began := time.Now()
				e.part(c.ctx, c.Claim)
				e.desk.took(time.Since(began))
				e.release(c.Claim)
				c.cancel(nil)
				idle <- struct{}{}
			}
		})
	}
	defer busy.Wait()
	defer close(parts)
	for {
		// At least one worker must be idle, or parts so quick that the next
		// ones may be claimed already.
		free := len(idle)
		n := e.desk.room(free)
		if n <= 0 || free == 0 && len(parts) > maxAhead/2 {
			if !sleep(ctx, e.wakeDesk, brakeWait) {
				return
			}
			continue
		}
		if ctx.Err() != nil {
			return
		}
		since := time.Now()
		claims, err := e.store.ClaimParts(ctx, e.o.Node, e.o.Lease, min(n, cap(parts)-len(parts)), e.firstTasks)
		if err != nil {
			e.failed(ctx, "claim work", err)
			continue
		}
		if len(claims) > 0 {
			e.crash(crashClaim)
		}
		e.desk.queue(len(claims))
		for _, c := range claims {
			working, cancel := context.WithCancelCause(ctx)
			e.hold(c, cancel, since)
			select {
			case <-idle:
			default:
			}
			parts <- claimed{c, working, cancel}
		}
		if len(claims) > 0 {
			continue
		}
		wait := e.o.Poll
		if next, ok, err := e.store.NextReady(ctx); err == nil && ok {
			wait = min(wait, next+brakeWait)
		}
		if !sleep(ctx, e.wakeWork, wait) {
			return
		}
	}
}

// part carries out the tasks of one part from where it stands, and writes how
// it ended.
func (e *Engine) part(ctx context.Context, c store.Claim) {
	log := e.o.Log.With("run", c.RunID.String(), "job", c.Job)
	defer func() {
		if broken := recover(); broken != nil {
			log.Error("a task broke", "panic", broken, "stack", string(debug.Stack()))
			f := fault.New(fault.Task, "carry out the job", fmt.Sprintf("the service has a fault of its own: %v", broken), "Report it with the log of this time.")
			if err := e.endPart(ctx, c, job.PartFailed, f.Error(), f); err != nil {
				log.Error("could not write the end of a part", "error", err)
			}
		}
	}()
	err := e.perform(ctx, c)
	switch cause := context.Cause(ctx); {
	case err == nil, errors.Is(err, errReturned):
	case errors.Is(err, store.ErrStale), errors.Is(cause, errLeaseLost), errors.Is(cause, errCancelled):
		log.Warn("this node has the work no more", "part", c.Part, "cause", cause)
	case ctx.Err() != nil:
		// The service stops: hand the part back at once.
		bounded, stop := ending(ctx)
		defer stop()
		err := e.record(bounded, &entry{Entry: store.Entry{Claim: c, Part: &store.PartMove{State: job.PartWaiting, Reason: "node " + e.o.Node + " stops and hands its work back"}}})
		if err != nil && !errors.Is(err, store.ErrStale) {
			log.Error("could not hand the work back; its lease will run out", "error", err)
		}
	default:
		// Our own records could not be read or written; the lease runs out, and
		// the part is taken again.
		log.Error("could not go on with a part", "error", err)
	}
}

// plan is a version of a job as it is carried out. It never changes.
type plan struct {
	job.Definition
	chain  chain.Chain
	first  []string // tasks that a fresh part begins with at once
	totals []string // columns whose totals its conditions ask for
}

type version struct {
	job     int64
	version int
}

const maxPlans = 5000

// planOf gives a version of a job. Versions never change, so they are kept.
func (e *Engine) planOf(ctx context.Context, jobID int64, n int) (*plan, error) {
	key := version{jobID, n}
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
	p = &plan{Definition: def.WithDefaults()}
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
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(e.plans) >= maxPlans {
		clear(e.plans)
	}
	e.plans[key] = p
	return p, nil
}

// firstTasks names the tasks that a claimed part begins with, when its job is
// known already; otherwise they begin a moment later.
func (e *Engine) firstTasks(c store.Claim) []string {
	e.mu.Lock()
	defer e.mu.Unlock()
	if p, ok := e.plans[version{c.JobID, c.JobVersion}]; ok {
		return p.first
	}
	return nil
}
