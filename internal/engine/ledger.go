package engine

import (
	"context"
	"slices"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
)

const (
	maxGroup   = 500 // entries in one transaction
	maxEntries = 600 // that wait for theirs
)

// entry is what one part has to write, and who waits for it.
type entry struct {
	store.Entry
	events []raised // by its tasks
	lone   bool     // the part is its run's only one and sends nothing: its end is the run's
	failed *failure // that the owner must hear of
	found  []alertOf
	done   chan error      // hears whether it was written; or
	after  func(err error) // is called with that
}

// record writes an entry and tells whether it was written: store.ErrStale when
// another node has the part now. It always waits for the answer, which is
// bounded, so that nobody acts on what may yet be written.
func (e *Engine) record(_ context.Context, en *entry) error {
	en.Node, en.No = e.node.Name, e.holdings.Number(en.Claim)
	en.done = make(chan error, 1)
	e.entries <- en
	return <-en.done
}

// recordLater writes an entry after which there is nothing more to do for the
// part, and lets its worker go on with another one meanwhile.
func (e *Engine) recordLater(en *entry, after func(err error)) {
	en.Node, en.No, en.after = e.node.Name, e.holdings.Number(en.Claim), after
	e.entries <- en
}

// written tells whoever waits for an entry how its writing went.
func (en *entry) written(err error) {
	if err == nil {
		err = en.Err
	}
	if en.after != nil {
		en.after(err)
		return
	}
	en.done <- err
}

// ledger writes what happened to claimed parts, until entries is closed. While
// one transaction is under way, what comes meanwhile gathers and goes into the
// next together: many small outcomes cost one commit, and a single one waits
// for nobody.
func (e *Engine) ledger(ctx context.Context) {
	for en := range e.entries {
		group := []*entry{en}
		for more := true; more && len(group) < maxGroup; {
			select {
			case en, ok := <-e.entries:
				if more = ok; ok {
					group = append(group, en)
				}
			default:
				more = false
			}
		}
		e.writeGroup(ctx, group)
	}
}

// writeGroup writes entries in one transaction; when that fails each by itself,
// so that a broken one harms nobody else. While the database is away, or its answer
// was lost, they are written again as long as their leases hold: what was committed
// all the same is known by its number. Each write has a time limit of its own.
func (e *Engine) writeGroup(ctx context.Context, group []*entry) {
	for end := time.Now().Add(e.node.Lease); ; {
		err := e.writeOnce(ctx, group)
		if err == nil {
			for _, en := range group {
				en.written(nil)
			}
			e.node.Crash(crash.Settled)
			return
		}
		if len(group) > 1 {
			group = slices.DeleteFunc(group, func(en *entry) bool {
				one := e.writeOnce(ctx, []*entry{en})
				if one != nil && !store.Refused(one) {
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
		if store.Refused(err) || time.Now().After(end) {
			for _, en := range group {
				en.written(err)
			}
			return
		}
		e.node.Log.Warn("what happened is written again: the database did not answer", "entries", len(group), "error", err)
		node.Sleep(ctx, nil, writePause)
	}
}

// writePause is how long to wait before what happened is written again.
const writePause = 250 * time.Millisecond

func (e *Engine) writeOnce(ctx context.Context, group []*entry) error {
	ctx, stop := node.Ending(ctx)
	defer stop()
	return e.write(ctx, group)
}

// write writes entries and settles what they end, in one transaction.
func (e *Engine) write(ctx context.Context, group []*entry) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		rows := make([]*store.Entry, len(group))
		for i, en := range group {
			rows[i] = &en.Entry
		}
		if err := t.WriteEntries(ctx, rows); err != nil {
			return err
		}
		var ended []job.RunID
		var alone []store.RunMove
		for _, en := range group {
			if en.Err != nil {
				e.refused(en)
				continue
			}
			if en.Written {
				continue // with all that came of it
			}
			if err := e.consequences(ctx, t, en); err != nil {
				return err
			}
			switch {
			case en.Part == nil:
			case en.lone:
				alone = append(alone, store.RunMove{Run: runOf(en.Claim), To: outcomeOf[en.Part.State], Reason: en.Part.Reason})
			default:
				ended = append(ended, en.Claim.RunID)
			}
		}
		e.node.Crash(crash.Settle)
		if err := e.move(ctx, t, alone); err != nil {
			return err
		}
		return e.settleRuns(ctx, t, ended)
	})
}

// refused counts a write of a node whose lease had gone.
func (e *Engine) refused(en *entry) {
	e.node.Refused.Add(1)
	e.node.Log.Warn("a write was refused: another node has this work now, or its run was cancelled", "run", en.Claim.RunID.String(), "part", en.Claim.Part, "lease", en.Claim.LeaseNo)
}

// consequences raises the events of an entry's tasks and opens its alerts.
func (e *Engine) consequences(ctx context.Context, t *store.Tx, en *entry) error {
	run := en.Claim.RunID
	for _, r := range en.events {
		if _, _, err := e.raise(ctx, t, r.event, nil, &run); err != nil {
			return err
		}
	}
	for _, m := range en.Messages {
		if err := e.badRecipients(ctx, t, en.Claim, m); err != nil {
			return err
		}
	}
	for _, a := range en.found {
		if err := e.foundAlert(ctx, t, en.Claim, a); err != nil {
			return err
		}
	}
	if en.failed != nil {
		return e.failureAlert(ctx, t, en.Claim, en.failed)
	}
	return nil
}
