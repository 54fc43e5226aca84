package runs

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/store"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/rings"
)

// WarnAt reckons anew when the owner of a run that begins is to be warned.
func (rs *Runs) WarnAt(ctx context.Context, c queue.Claim) error {
	usual, err := rs.store.Usual(ctx, []int64{c.JobID})
	if err != nil {
		return err
	}
	began := rs.node.Now()
	if c.StartedAt != nil {
		began = *c.StartedAt
	}
	return rs.store.SetWarning(ctx, c.RunID, policy.WarnAt(*c.Deadline, job.Seconds(usual[c.JobID]), began))
}

// Add makes runs of a job that somebody asked for, and numbers them. Frozen ones wait.
func (rs *Runs) Add(ctx context.Context, t *store.Tx, jobID int64, runs []rings.NewRun) error {
	labels, err := t.Labels(ctx, jobID)
	if err != nil {
		return err
	}
	now := rs.node.Now()
	frozen, err := t.FreezeOver(ctx, now, now)
	if err != nil {
		return err
	}
	for i := range runs {
		runs[i].Labels = labels
		if f := job.FreezeOf(frozen, labels, now); f != nil {
			runs[i].Reason = "held back: " + f.Reading()
		}
	}
	return t.AddRuns(ctx, runs)
}
