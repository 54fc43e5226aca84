package outcome

import (
	"context"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

// giveUpBatch is how many deliveries are given up in one transaction.
const giveUpBatch = 500

// NobodySaidYes ends what waited for a second person until the end of the second open
// day.
func (o *Outcome) NobodySaidYes(ctx context.Context) error {
	for ctx.Err() == nil {
		n := 0
		err := o.store.Do(ctx, func(t *store.Tx) error {
			all, err := t.NobodySaidYes(ctx, giveUpBatch)
			if n = len(all); err != nil || n == 0 {
				return err
			}
			f := fault.New(fault.Message, "",
				"nobody said yes in time to a mail to an address outside the allowed domains",
				"Ask a second person, then send it again: that asks again.")
			ids := make([]int64, n)
			for i, s := range all {
				ids[i] = s.ID
			}
			if err := t.GiveUp(ctx, ids, f.Error(), f.Advice, string(f.Class)); err != nil {
				return err
			}
			var runs []job.RunID
			told := map[job.RunID]bool{}
			for _, s := range all {
				if s.RunID == nil || told[*s.RunID] {
					continue
				}
				told[*s.RunID] = true
				runs = append(runs, *s.RunID)
				if err := t.Log(ctx, job.LogLine{Level: "error", Text: "not sent to " + s.Address + ": " + f.Error()},
					*s.RunID); err != nil {
					return err
				}
				if err := o.settle.DeliveryAlert(ctx, t, s, job.AlertDeliveryFailed, f,
					"a second person was asked until the end of the second open day"); err != nil {
					return err
				}
				if s.JobID != nil {
					if err := o.notify.NothingAsked(ctx, t, *s.JobID); err != nil {
						return err
					}
				}
			}
			return o.settle.Settle(ctx, t, runs)
		})
		if err != nil || n < giveUpBatch {
			return err
		}
	}
	return nil
}
