package outcome

import (
	"context"
	"slices"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/settle"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/sending"
)

const (
	maxReceipts = 500                  // in one transaction
	pause       = 4 * time.Millisecond // how long a receipt waits for others, since nobody waits for it
)

// receipt is what the other side said when it accepted, to be recorded.
type receipt struct {
	sending.Sending
	res deliver.Result
}

// Received hands a receipt on and lets the line go on: the delivery stays held
// until it is recorded.
func (o *Outcome) Received(s sending.Sending, res deliver.Result) {
	o.node.Crash(crash.Answer)
	o.receipts <- receipt{s, res}
}

// writeReceipts records receipts until their channel is closed.
func (o *Outcome) writeReceipts(ctx context.Context) {
	for r := range o.receipts {
		node.Sleep(ctx, nil, pause)
		group := node.Gather(r, o.receipts, maxReceipts)
		bounded, stop := node.Ending(ctx)
		err := o.store.Do(bounded, func(t *store.Tx) error { return o.sent(bounded, t, group) })
		if err != nil && len(group) > 1 {
			// A broken one harms nobody else.
			for _, one := range group {
				if err := o.sentOne(ctx, one); err != nil {
					o.node.Log.Error("could not record that a delivery was accepted", "delivery", one.ID, "error", err)
				}
			}
		} else if err != nil {
			o.node.Log.Error("could not record that a delivery was accepted", "delivery", r.ID, "error", err)
		}
		stop()
		for _, r := range group {
			o.holdings.ReleaseSending(r.Sending)
			if err == nil {
				o.node.Crash(crash.Receipt)
			}
		}
	}
}

func (o *Outcome) sentOne(ctx context.Context, r receipt) error {
	bounded, stop := node.Ending(ctx)
	defer stop()
	return o.store.Do(bounded, func(t *store.Tx) error { return o.sent(bounded, t, []receipt{r}) })
}

// sent records receipts and settles the runs that end with them.
func (o *Outcome) sent(ctx context.Context, t *store.Tx, group []receipt) error {
	all := make([]sending.Received, len(group))
	logs := map[job.RunID][]job.LogLine{}
	var places []int64
	var refused []string
	published := false // events of ours, of which others may wait for their turn
	for i, r := range group {
		all[i] = sending.Received{ID: r.ID, Answer: r.res.Answer, WentTo: r.res.To, Taken: r.res.Taken}
		if !slices.Contains(places, r.DestinationID) {
			places, refused = append(places, r.DestinationID), append(refused, settle.RefusesCause(r.DestinationID))
		}
		if r.Subscription != nil {
			published = true
		}
		if r.RunID == nil {
			continue
		}
		logs[*r.RunID] = append(logs[*r.RunID], job.LogLine{
			Part: r.Part,
			Text: map[bool]string{true: "taken for ", false: "sent to "}[r.res.Taken != ""] + r.Address + ": " +
				r.res.Answer,
		})
	}
	if err := t.Receipts(ctx, all); err != nil {
		return err
	}
	if rested, err := t.Rested(ctx, places); err != nil {
		return err
	} else if rested {
		if err := t.GotThrough(ctx, places); err != nil {
			return err
		}
		if err := t.CloseAlertsOf(ctx, refused); err != nil {
			return err
		}
	}
	for _, r := range group {
		if r.AlertID != nil {
			s, _, err := o.notify.Settings(ctx, t)
			if err == nil {
				err = t.Reached(ctx, *r.AlertID, "", time.Duration(s.Second))
			}
			if err != nil {
				return err
			}
		}
	}
	runs := make([]job.RunID, 0, len(logs))
	for run := range logs {
		runs = append(runs, run)
	}
	if err := t.LogMany(ctx, logs); err != nil {
		return err
	}
	if err := o.settle.Settle(ctx, t, runs); err != nil {
		return err
	}
	if published {
		if err := t.Tell(ctx, db.Notice{Kind: job.NoticePublished}); err != nil {
			return err
		}
	}
	for _, run := range runs {
		if err := t.Tell(ctx, db.Notice{Kind: job.NoticeRun, ID: run.String()}); err != nil {
			return err
		}
	}
	return nil
}
