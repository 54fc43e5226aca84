// Package upkeep does what comes again and again: it brings back what dead nodes left, warns of
// deadlines, sends digests, removes what was kept long enough, reads the mailbox for bounces,
// gives the sign of life, and renews this node's leases.
package upkeep

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/artifact"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/notify"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/settle"
	"ironbell/internal/engine/waits"
	"ironbell/internal/installation"
	"ironbell/internal/outgoing"
	"ironbell/internal/timetable"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/zone"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
)

// Upkeep are the loops of one node.
type Upkeep struct {
	node         *node.Node
	store        *store.Store
	files        *artifact.Folder
	destinations *deliver.Destinations
	holdings     *lease.Holdings
	links        access.Links
	guard        *outgoing.Guard
	zoneData     timetable.Zones
	installation *installation.Keeper
	notify       *notify.Notifier
	waits        *waits.Waits
	settle       *settle.Settler
	outcome      *outcome.Outcome
	version      string    // of the program
	swept        time.Time // when old history was removed; of the goroutine of reap
}

// Needs are what upkeep works with.
type Needs struct {
	Node         *node.Node
	Store        *store.Store
	Files        *artifact.Folder
	Destinations *deliver.Destinations
	Holdings     *lease.Holdings
	Links        access.Links
	Guard        *outgoing.Guard
	Zones        timetable.Zones
	Installation *installation.Keeper
	Notify       *notify.Notifier
	Waits        *waits.Waits
	Settle       *settle.Settler
	Outcome      *outcome.Outcome
	Version      string // of the program
}

// New makes the upkeep of a node.
func New(n Needs) *Upkeep {
	return &Upkeep{
		node: n.Node, store: n.Store, files: n.Files, destinations: n.Destinations, holdings: n.Holdings, links: n.Links, guard: n.Guard,
		zoneData: n.Zones, installation: n.Installation, notify: n.Notify, waits: n.Waits, settle: n.Settle, outcome: n.Outcome, version: n.Version,
	}
}

// Run goes through its duties until ctx ends.
func (u *Upkeep) Run(ctx context.Context) {
	var all sync.WaitGroup
	for _, loop := range []func(context.Context){u.reap, u.minutely, u.turns} {
		all.Go(func() { loop(ctx) })
	}
	all.Wait()
}

const (
	reapBatch = 200
	upkeep    = time.Hour // between two looks at the partitions to come and at what has ended
)

// minutely does what every node does about once a minute.
func (u *Upkeep) minutely(ctx context.Context) {
	for {
		for doing, do := range map[string]func(context.Context) error{"leave the mark": u.installation.LeaveMark, "look for newer zone data": u.zoneData.Reckon} {
			if err := do(ctx); err != nil {
				u.node.Failed(ctx, doing, err)
			}
		}
		if !node.Sleep(ctx, nil, time.Minute) {
			return
		}
	}
}

// reap brings back what nodes left that stopped without a word.
func (u *Upkeep) reap(ctx context.Context) {
	var looked time.Time
	for {
		for doing, do := range map[string]func(context.Context) error{
			"give back lost parts": u.reapParts, "settle lost deliveries": u.reapDeliveries, "give up waiting": u.waits.GiveUp, "warn of deadlines": u.Warn, "send digests": u.notify.Digests,
		} {
			if err := do(ctx); err != nil {
				u.node.Failed(ctx, doing, err)
			}
		}
		if u.node.Now().Sub(looked).Abs() > upkeep {
			if err := u.keepHouse(ctx); err != nil {
				u.node.Failed(ctx, "do the hourly upkeep", err)
			} else {
				looked = u.node.Now()
			}
		}
		if !node.Sleep(ctx, nil, u.node.Lease/2) {
			return
		}
	}
}

// reapParts gives back the parts whose leases ran out.
func (u *Upkeep) reapParts(ctx context.Context) error {
	n := 0
	err := u.store.Do(ctx, func(t *store.Tx) error {
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
		return u.settle.Settle(ctx, t, runs)
	})
	if err == nil && n > 0 {
		u.node.Log.Warn("gave back parts whose node stopped, or could not reach the database", "parts", n)
	}
	return err
}

// Warn tells the owners of runs that will not, or did not, keep their deadline.
func (u *Upkeep) Warn(ctx context.Context) error {
	return u.store.Do(ctx, func(t *store.Tx) error {
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
			text := policy.Late(w.Deadline.In(place), u.node.Now(), job.Seconds(usual[w.JobID]), began)
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

// reapDeliveries lets deliveries that were not offered be tried again, and marks
// those that were as unknown: nobody heard the answer.
func (u *Upkeep) reapDeliveries(ctx context.Context) error {
	return u.store.Do(ctx, func(t *store.Tx) error {
		offered, safe, err := t.LostSendings(ctx, reapBatch)
		if err != nil {
			return err
		}
		stopped := &fault.Fault{Class: fault.Passing, Scope: fault.Message, Cause: errors.New("the node that sent it stopped before it heard the answer")}
		for _, s := range offered {
			if err := u.outcome.Unknown(ctx, t, s, stopped); err != nil {
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
