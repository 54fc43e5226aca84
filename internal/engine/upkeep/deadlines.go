package upkeep

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
)

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
				Happened: fmt.Sprintf("Run %s of %s is late: %s.", id, w.Job, text),
				ForWhom:  "its recipients wait for it", Tried: "nothing; this is a warning",
				Advice: "See what it waits for, or tell those who expect it.",
			}); err != nil {
				return err
			}
		}
		return nil
	})
}
