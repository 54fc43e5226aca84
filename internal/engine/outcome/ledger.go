package outcome

import (
	"context"
	"maps"
	"slices"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/settle"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/rings"
)

const (
	maxGroup   = 500 // entries in one transaction
	maxEntries = 600 // that wait for theirs
)

// Entry is what one part has to write, and who waits for it.
type Entry struct {
	queue.Entry
	Events []Raised        // by its tasks
	Lone   bool            // the part is its run's only one and sends nothing: its end is the run's
	Failed *settle.Failure // that the owner must hear of
	Found  []settle.Found
	done   chan error      // hears whether it was written; or
	after  func(err error) // is called with that
}

// Record writes an entry and tells whether it was written: store.ErrStale when
// another node has the part now. It always waits for the answer, which is
// bounded, so that nobody acts on what may yet be written.
func (o *Outcome) Record(_ context.Context, en *Entry) error {
	en.Node, en.No = o.node.Name, o.holdings.Number(en.Claim)
	en.done = make(chan error, 1)
	o.entries <- en
	return <-en.done
}

// RecordLater writes an entry after which there is nothing more to do for the
// part, and lets its worker go on with another one meanwhile.
func (o *Outcome) RecordLater(en *Entry, after func(err error)) {
	en.Node, en.No, en.after = o.node.Name, o.holdings.Number(en.Claim), after
	o.entries <- en
}

// written tells whoever waits for an entry how its writing went.
func (en *Entry) written(err error) {
	if err == nil {
		err = en.Err
	}
	if en.after != nil {
		en.after(err)
		return
	}
	en.done <- err
}

// write writes what happened to claimed parts, until entries is closed. While
// one transaction is under way, what comes meanwhile gathers and goes into the
// next together: many small outcomes cost one commit, and a single one waits
// for nobody.
func (o *Outcome) write(ctx context.Context) {
	for en := range o.entries {
		group := []*Entry{en}
		for more := true; more && len(group) < maxGroup; {
			select {
			case en, ok := <-o.entries:
				if more = ok; ok {
					group = append(group, en)
				}
			default:
				more = false
			}
		}
		o.writeGroup(ctx, group)
	}
}

// writeGroup writes entries in one transaction; when that fails each by itself,
// so that a broken one harms nobody else. While the database is away, or its answer
// was lost, they are written again as long as their leases hold: what was committed
// all the same is known by its number. Each write has a time limit of its own.
func (o *Outcome) writeGroup(ctx context.Context, group []*Entry) {
	for end := time.Now().Add(o.node.Lease); ; {
		err := o.writeOnce(ctx, group)
		if err == nil {
			for _, en := range group {
				en.written(nil)
			}
			o.node.Crash(crash.Settled)
			return
		}
		if len(group) > 1 {
			group = slices.DeleteFunc(group, func(en *Entry) bool {
				one := o.writeOnce(ctx, []*Entry{en})
				if one != nil && !db.Refused(one) {
					err = one
					return false
				}
				en.written(one)
				return true
			})
		}
		if len(group) == 0 {
			return
		}
		if db.Refused(err) || time.Now().After(end) {
			for _, en := range group {
				en.written(err)
			}
			return
		}
		o.node.Log.Warn("what happened is written again: the database did not answer", "entries", len(group), "error",
			err)
		node.Sleep(ctx, nil, WritePause)
	}
}

// WritePause is how long to wait before what happened is written again.
const WritePause = 250 * time.Millisecond

func (o *Outcome) writeOnce(ctx context.Context, group []*Entry) error {
	ctx, stop := node.Ending(ctx)
	defer stop()
	return o.writeAll(ctx, group)
}

// writeAll writes entries and settles what they end, in one transaction.
func (o *Outcome) writeAll(ctx context.Context, group []*Entry) error {
	return o.store.Do(ctx, func(t *store.Tx) error {
		rows := make([]*queue.Entry, len(group))
		for i, en := range group {
			rows[i] = &en.Entry
		}
		if err := t.WriteEntries(ctx, rows); err != nil {
			return err
		}
		var ended []job.RunID
		var alone []history.RunMove
		for _, en := range group {
			if en.Err != nil {
				o.refused(en)
				continue
			}
			if en.Written {
				continue // with all that came of it
			}
			if err := o.consequences(ctx, t, en); err != nil {
				return err
			}
			switch {
			case en.Part == nil:
			case en.Lone:
				alone = append(alone, history.RunMove{
					Run: runOf(en.Claim), To: outcomeOf[en.Part.State], Reason: en.Part.Reason,
				})
			default:
				ended = append(ended, en.Claim.RunID)
			}
		}
		o.node.Crash(crash.Settle)
		if err := o.settle.Move(ctx, t, alone); err != nil {
			return err
		}
		return o.settle.Settle(ctx, t, ended)
	})
}

// refused counts a write of a node whose lease had gone.
func (o *Outcome) refused(en *Entry) {
	o.node.Refused.Add(1)
	o.node.Log.Warn("a write was refused: another node has this work now, or its run was cancelled", "run",
		en.Claim.RunID.String(), "part", en.Claim.Part, "lease", en.Claim.LeaseNo)
}

// consequences raises the events of an entry's tasks and opens its alerts.
func (o *Outcome) consequences(ctx context.Context, t *store.Tx, en *Entry) error {
	run := en.Claim.RunID
	if len(en.Events) > 0 {
		owner, err := t.OwnerOfRun(ctx, run)
		if err != nil {
			return err
		}
		for _, r := range en.Events {
			if _, err := o.waits.Raise(ctx, t, []job.Event{r.Event}, rings.From{Run: &run, Owner: owner}); err != nil {
				return err
			}
		}
	}
	for _, m := range en.Messages {
		if err := o.settle.BadRecipients(ctx, t, en.Claim, m); err != nil {
			return err
		}
	}
	for _, a := range en.Found {
		if err := o.settle.FoundAlert(ctx, t, en.Claim, a); err != nil {
			return err
		}
	}
	if en.Failed != nil {
		return o.settle.FailureAlert(ctx, t, en.Claim, en.Failed)
	}
	return nil
}

// Raised is an event that a task raised.
type Raised struct{ Event job.Event }

// FailedPart ends a part that fails outside of a task, with the tries that began with its claim.
func FailedPart(c queue.Claim, f *fault.Fault) *Entry {
	var ends []queue.TaskEnd
	for _, name := range slices.Sorted(maps.Keys(c.Begun)) {
		ends = append(ends, queue.TaskEnd{Attempt: job.Attempt{
			Part: c.Part, Task: name, Try: c.Begun[name], State: job.AttemptFailed, Note: f.Error(),
		}})
	}
	return &Entry{
		Entry:  queue.Entry{Claim: c, Ends: ends, Part: &queue.PartMove{State: job.PartFailed, Reason: f.Error()}},
		Failed: &settle.Failure{Fault: f, Tried: 1, Reason: "lasting: trying again would fail the same way"},
	}
}

// outcomeOf is the state of a run whose only part has one and which sends
// nothing.
var outcomeOf = map[job.PartState]job.RunState{
	job.PartWaiting: job.RunWaiting, job.PartDone: job.RunDone, job.PartPartly: job.RunPartly,
	job.PartBlank: job.RunBlank, job.PartFailed: job.RunFailed,
}

// runOf is what a claim tells of its run, which works.
func runOf(c queue.Claim) job.Run {
	return job.Run{
		ID: c.RunID, JobID: c.JobID, Job: c.Job, JobVersion: c.JobVersion, TriggerID: c.TriggerID, Nominal: c.Nominal,
		Due: c.Due, Zone: c.Zone, Rehearsal: c.Rehearsal, State: job.RunRunning,
	}
}
