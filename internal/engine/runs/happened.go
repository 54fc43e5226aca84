package runs

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/store"
	"ironbell/internal/store/rings"
)

// StartBy makes a run of a job because of what happened, or records why not.
func (rs *Runs) StartBy(ctx context.Context, t *store.Tx, w rings.Waiter, given job.Values, nominal time.Time,
	why string,
) (job.RunID, error) {
	now := rs.node.Now()
	open, err := t.OpenFor(ctx, w.JobID, given)
	if err != nil {
		return 0, err
	}
	d := policy.Rings(job.OutageOnce, w.Overlap, []time.Time{now}, now, false, open)[0]
	frozen, err := t.FreezeOver(ctx, now, now)
	if err != nil {
		return 0, err
	}
	reason := ""
	if f := job.FreezeOf(frozen, w.Labels.V, now); f != nil {
		reason = f.Reading()
		if f.PassesOver() {
			d = policy.Decision{Decision: job.RingPassedOver, Reason: reason}
		}
	}
	if d.Decision == job.RingJoined {
		return d.Joins, t.Log(ctx, job.LogLine{Text: "joined by: " + why}, d.Joins)
	}
	run := rings.NewRun{
		JobID: w.JobID, Job: w.Job, JobVersion: w.JobVersion, TriggerID: &w.TriggerID, Why: why, Nominal: nominal,
		Due: now, Zone: w.Zone,
		Given: given, Priority: w.Priority, Gated: w.Overlap != job.OverlapTogether, Labels: w.Labels.V, Reason: reason,
	}
	usual, err := t.Usual(ctx, []int64{w.JobID})
	if err != nil {
		return 0, err
	}
	if err := timeRun(&run, w.Delay, w.Deadline.V, usual[w.JobID]); err != nil {
		return 0, err
	}
	made := []rings.NewRun{run}
	if err := t.AddRuns(ctx, made); err != nil {
		return 0, err
	}
	if d.Decision == job.RingPassedOver {
		return 0, t.PassOver(ctx, made[0].ID, d.Reason)
	}
	return made[0].ID, nil
}
