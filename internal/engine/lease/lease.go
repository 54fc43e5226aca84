// Package lease is a node's own view of what it has: the parts of runs and the deliveries that
// it works on, until when it may rely on each by its own monotonic clock, and how the work on
// a part is ended when that time is over or its run was cancelled.
//
// The records hold the truth: whatever a node writes names its lease and is refused when
// another has it. What stands here only saves work that would be refused. The engine's
// worker and sender put in and take out, and one loop of it renews. Nothing here waits or
// asks the database.
package lease

import (
	"context"
	"errors"
	"sync"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/sending"
)

// Why the work on a part was ended.
var (
	ErrLost      = errors.New("the lease was lost")    // another node has it now
	ErrCancelled = errors.New("the run was cancelled") // by somebody
)

// part names a part of a run.
type part struct {
	run job.RunID
	no  int
}

type held struct {
	claim   queue.Claim
	end     context.CancelCauseFunc
	until   time.Time
	entries int64 // that were numbered under it
}

// Holdings are what a node has. They may be used by several goroutines.
type Holdings struct {
	length   time.Duration
	mu       sync.Mutex
	parts    map[part]*held
	sendings map[int64]sending.Sending
}

// New makes holdings whose leases last for a length.
func New(length time.Duration) *Holdings {
	return &Holdings{length: length, parts: map[part]*held{}, sendings: map[int64]sending.Sending{}}
}

// Hold notes that the node works on a part that it asked for at an instant, and how that
// work is ended.
func (h *Holdings) Hold(c queue.Claim, end context.CancelCauseFunc, since time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.parts[part{c.RunID, c.Part}] = &held{claim: c, end: end, until: since.Add(h.length)}
}

// Number numbers an entry that is written under a lease, from 1 on; 0 when the node does
// not have it.
func (h *Holdings) Number(c queue.Claim) int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	l, ok := h.parts[part{c.RunID, c.Part}]
	if !ok || l.claim.LeaseNo != c.LeaseNo {
		return 0
	}
	l.entries++
	return l.entries
}

// Release notes that the node does not work on a part any more, however that ended: one whose
// end could not be written is given to another node when its lease runs out.
func (h *Holdings) Release(c queue.Claim) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.parts, part{c.RunID, c.Part})
}

// Cancel ends the work on all parts of a run that somebody cancelled.
func (h *Holdings) Cancel(run string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for p, l := range h.parts {
		if p.run.String() == run {
			l.end(ErrCancelled)
		}
	}
}

// HoldSending and ReleaseSending note the same of deliveries.
func (h *Holdings) HoldSending(all []sending.Sending) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, s := range all {
		h.sendings[s.ID] = s
	}
}

// ReleaseSending notes that the node does not hand a delivery over any more.
func (h *Holdings) ReleaseSending(s sending.Sending) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.sendings, s.ID)
}

// All lists what the node has.
func (h *Holdings) All() (parts []queue.Claim, sendings []sending.Sending) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, l := range h.parts {
		parts = append(parts, l.claim)
	}
	for _, s := range h.sendings {
		sendings = append(sendings, s)
	}
	return parts, sendings
}

// Renewed notes which leases were prolonged by a question that was put at an instant, ends
// the work whose lease has run out by now, and tells of which parts.
func (h *Holdings) Renewed(kept []queue.Claim, at, now time.Time) (lost []queue.Claim) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, c := range kept {
		if l, ok := h.parts[part{c.RunID, c.Part}]; ok && l.claim.LeaseNo == c.LeaseNo {
			l.until = at.Add(h.length)
		}
	}
	for _, l := range h.parts {
		if now.After(l.until) {
			l.end(ErrLost)
			lost = append(lost, l.claim)
		}
	}
	return lost
}
