package runs

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/store"
	"ironbell/internal/store/rings"
)

// Starts are the runs that one transaction makes because of what happened. They are decided on and made
// together, since much may happen at once. It belongs to one goroutine.
type Starts struct{ all []startBy }

// startBy is a run that something asks for.
type startBy struct {
	w       rings.Waiter
	given   job.Values
	nominal time.Time
	why     string
	opens   time.Time // when it may begin, by its permitted hours

	made   int // its place among the runs that are made, from 1 on; 0 when it made none
	joined job.RunID
}

// Add asks for a run of a trigger that may begin from an instant on, and gives what it is called until it is made: see Run.
func (s *Starts) Add(w rings.Waiter, given job.Values, nominal time.Time, why string, opens time.Time) job.RunID {
	s.all = append(s.all, startBy{w: w, given: given, nominal: nominal, why: why, opens: opens})
	return job.RunID(-len(s.all))
}

// Made is the run that was asked for, by what Add gave; 0 when there is none, since the job passes it over.
// Others stay what they are.
func (s *Starts) Made(run job.RunID, runs []rings.NewRun) job.RunID {
	if run >= 0 {
		return run
	}
	one := s.all[-1-run]
	switch {
	case one.made > 0:
		return runs[one.made-1].ID
	case one.joined < 0:
		return runs[-1-one.joined].ID
	}
	return one.joined
}

// Make makes the runs that were asked for, each or joined to one that waits with equal values, or records why
// not.
func (rs *Runs) Make(ctx context.Context, t *store.Tx, s *Starts) (made []rings.NewRun, err error) {
	if len(s.all) == 0 {
		return nil, nil
	}
	now := rs.node.Now()
	frozen, err := t.FreezeOver(ctx, now, now)
	if err != nil {
		return nil, err
	}
	var jobs []int64
	givens := map[int64][]job.Values{}
	for _, one := range s.all {
		if givens[one.w.JobID] == nil {
			jobs = append(jobs, one.w.JobID)
		}
		givens[one.w.JobID] = append(givens[one.w.JobID], one.given)
	}
	slices.Sort(jobs) // locked in one order
	usual, err := t.Usual(ctx, jobs)
	if err != nil {
		return nil, err
	}
	open := map[int64]rings.OpenRuns{}
	for _, id := range jobs {
		if open[id], err = t.OpenFor(ctx, id, givens[id]); err != nil {
			return nil, err
		}
	}
	passed := map[int]string{} // reasons, by place among those that are made
	for i := range s.all {
		one := &s.all[i]
		o := open[one.w.JobID]
		d := policy.Rings(job.OutageOnce, one.w.Overlap, []time.Time{now}, now, false, o.For(one.given))[0]
		reason := ""
		if f := job.FreezeOf(frozen, one.w.Labels.V, now); f != nil {
			reason = f.Reading()
			if f.PassesOver() {
				d = policy.Decision{Decision: job.RingPassedOver, Reason: reason}
			}
		}
		if d.Decision == job.RingJoined {
			one.joined = d.Joins
			continue
		}
		run := rings.NewRun{
			JobID: one.w.JobID, Job: one.w.Job, JobVersion: one.w.JobVersion, TriggerID: &one.w.TriggerID, Why: one.why,
			Nominal: one.nominal, Due: now, Zone: one.w.Zone, Given: one.given, Priority: one.w.Priority,
			Gated: one.w.Overlap != job.OverlapTogether, Labels: one.w.Labels.V, Reason: reason,
		}
		if err := timeRun(&run, one.w.Delay, one.w.Deadline.V, usual[one.w.JobID]); err != nil {
			return nil, err
		}
		if one.opens.After(now) && (run.Ready == nil || run.Ready.Before(one.opens)) {
			run.Ready = &one.opens
			run.Why += fmt.Sprintf(" It begins at %s, when its permitted hours do.", one.opens.Format("Mon 2 January 15:04 MST"))
			run.Reason = "waits for its permitted hours"
		}
		made = append(made, run)
		if d.Decision == job.RingPassedOver {
			passed[len(made)-1] = d.Reason
			continue
		}
		one.made = len(made)
		o.Add(one.given, job.RunID(-len(made)))
	}
	if err := t.AddRuns(ctx, made); err != nil {
		return nil, err
	}
	for i, reason := range passed {
		if err := t.PassOver(ctx, made[i].ID, reason); err != nil {
			return nil, err
		}
	}
	for i, one := range s.all {
		if one.joined != 0 {
			id := s.Made(job.RunID(-1-i), made)
			if err := t.Log(ctx, job.LogLine{Text: "joined by: " + one.why}, id); err != nil {
				return nil, err
			}
		}
	}
	return made, nil
}
