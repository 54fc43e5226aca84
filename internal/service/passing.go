package service

import (
	"context"
	"time"

	"ironbell/internal/core/job"
)

// Passing are the freezes of a span of time, with what carries their labels.
type Passing struct {
	frozen []job.Freeze
	labels map[int64][]string // of the jobs that carry one of them
}

// Passing reads the freezes of a span of time.
func (js *Jobs) Passing(ctx context.Context, from, to time.Time) (Passing, error) {
	frozen, err := js.store.FreezeOver(ctx, from, to)
	if err != nil || len(frozen) == 0 {
		return Passing{}, err
	}
	labels := make([]string, len(frozen))
	for i, f := range frozen {
		labels[i] = f.Label
	}
	carry, err := js.store.Carriers(ctx, labels)
	return Passing{frozen: frozen, labels: carry}, err
}

// Any tells whether something is frozen at all.
func (p Passing) Any() bool { return len(p.frozen) > 0 }

// Over says why a ring of a job will not ring, when a freeze passes it over; empty
// when it will.
func (p Passing) Over(jobID int64, due time.Time) string {
	if f := p.at(jobID, due); f != nil && f.PassesOver() {
		return f.Reading()
	}
	return ""
}

// Waits says why a ring of a job will ring and wait; empty when it will not.
func (p Passing) Waits(jobID int64, due time.Time) string {
	if f := p.at(jobID, due); f != nil && !f.PassesOver() {
		return f.Reading()
	}
	return ""
}

func (p Passing) at(jobID int64, due time.Time) *job.Freeze {
	labels, ok := p.labels[jobID]
	if !ok {
		return nil
	}
	return job.FreezeOf(p.frozen, labels, due)
}
