package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/zone"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
)

const (
	reapBatch = 200
	upkeep    = time.Hour // between two looks at the partitions to come and at what has ended
)

// minutely does what every node does about once a minute.
func (e *Engine) minutely(ctx context.Context) {
	for {
		for doing, do := range map[string]func(context.Context) error{"leave the mark": e.leaveMark, "look for newer zone data": e.zoneData.Reckon} {
			if err := do(ctx); err != nil {
				e.node.Failed(ctx, doing, err)
			}
		}
		if !node.Sleep(ctx, nil, time.Minute) {
			return
		}
	}
}

// reap brings back what nodes left that stopped without a word.
func (e *Engine) reap(ctx context.Context) {
	var looked time.Time
	for {
		for doing, do := range map[string]func(context.Context) error{
			"give back lost parts": e.reapParts, "settle lost deliveries": e.reapDeliveries, "give up waiting": e.giveUp, "warn of deadlines": e.warn, "send digests": e.digests,
		} {
			if err := do(ctx); err != nil {
				e.node.Failed(ctx, doing, err)
			}
		}
		if e.node.Now().Sub(looked).Abs() > upkeep {
			if err := e.keepHouse(ctx); err != nil {
				e.node.Failed(ctx, "do the hourly upkeep", err)
			} else {
				looked = e.node.Now()
			}
		}
		if !node.Sleep(ctx, nil, e.node.Lease/2) {
			return
		}
	}
}

// reapParts gives back the parts whose leases ran out.
func (e *Engine) reapParts(ctx context.Context) error {
	n := 0
	err := e.store.Do(ctx, func(t *store.Tx) error {
		lost, err := t.LostParts(ctx, reapBatch)
		n = len(lost)
		if err != nil || n == 0 {
			return err
		}
		entries := make([]*store.Entry, n)
		runs := make([]job.RunID, n)
		for i, c := range lost {
			entries[i] = &store.Entry{Claim: c, Part: &store.PartMove{State: job.PartWaiting, Reason: "its node stopped, or could not reach the database; another goes on at the task that was interrupted"}}
			runs[i] = c.RunID
		}
		if err := t.WriteEntries(ctx, entries); err != nil {
			return err
		}
		return e.settleRuns(ctx, t, runs)
	})
	if err == nil && n > 0 {
		e.node.Log.Warn("gave back parts whose node stopped, or could not reach the database", "parts", n)
	}
	return err
}

// warn tells the owners of runs that will not, or did not, keep their deadline.
func (e *Engine) warn(ctx context.Context) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		due, err := t.TakeWarnings(ctx, reapBatch)
		if err != nil || len(due) == 0 {
			return err
		}
		jobs := make([]int64, len(due))
		for i, w := range due {
			jobs[i] = w.JobID
		}
		usual, err := t.Usual(ctx, jobs)
		if err != nil {
			return err
		}
		for _, w := range due {
			place, err := zone.Load(w.Zone)
			if err != nil {
				place = time.UTC
			}
			var began time.Time
			if w.StartedAt != nil {
				began = w.StartedAt.In(place)
			}
			text := policy.Late(w.Deadline.In(place), e.node.Now(), job.Seconds(usual[w.JobID]), began)
			id := w.ID
			if err := t.Log(ctx, job.LogLine{Level: "warn", Text: "late: " + text}, id); err != nil {
				return err
			}
			if err := t.OpenAlert(ctx, job.Alert{
				Kind: job.AlertLate, Cause: fmt.Sprintf("late:%d", w.JobID), JobID: &w.JobID, RunID: &id,
				Happened: fmt.Sprintf("Run %s of %s is late: %s.", id, w.Job, text), ForWhom: "its recipients wait for it", Tried: "nothing; this is a warning", Advice: "See what it waits for, or tell those who expect it.",
			}); err != nil {
				return err
			}
		}
		return nil
	})
}

// warnAt reckons anew when the owner of a run that begins is to be warned.
func (e *Engine) warnAt(ctx context.Context, c store.Claim) error {
	usual, err := e.store.Usual(ctx, []int64{c.JobID})
	if err != nil {
		return err
	}
	began := e.node.Now()
	if c.StartedAt != nil {
		began = *c.StartedAt
	}
	return e.store.SetWarning(ctx, c.RunID, policy.WarnAt(*c.Deadline, job.Seconds(usual[c.JobID]), began))
}

// reapDeliveries lets deliveries that were not offered be tried again, and marks
// those that were as unknown: nobody heard the answer.
func (e *Engine) reapDeliveries(ctx context.Context) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		offered, safe, err := t.LostSendings(ctx, reapBatch)
		if err != nil {
			return err
		}
		stopped := &fault.Fault{Class: fault.Passing, Scope: fault.Message, Cause: errors.New("the node that sent it stopped before it heard the answer")}
		for _, s := range offered {
			if err := e.unknown(ctx, t, s, stopped); err != nil {
				return err
			}
		}
		for _, s := range safe {
			if err := t.EndSending(ctx, s, store.Ended{State: "waiting", Answer: "the node that was sending it stopped before it offered it", Untried: true}); err != nil {
				return err
			}
		}
		if len(safe) > 0 {
			return t.Tell(ctx, store.Notice{Kind: job.NoticeDeliveries})
		}
		return nil
	})
}
