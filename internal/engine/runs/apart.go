package runs

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/store"
	"ironbell/internal/store/rings"
)

// apartWait is how long a job waits that could not be decided on.
const apartWait = 5 * time.Minute

func apartCause(jobID int64) string { return fmt.Sprintf("apart:%d", jobID) }

// SetApart sets what is due of a job apart, with an alert: its due times wait.
func (rs *Runs) SetApart(ctx context.Context, jobID int64, why error) error {
	rs.node.Log.Error("the rings of a job cannot be decided on; it is set apart", "job", jobID, "error", why)
	return rs.store.Do(ctx, func(t *store.Tx) error {
		j, err := t.Job(ctx, strconv.FormatInt(jobID, 10))
		if err != nil {
			return err
		}
		if err := t.SetApart(ctx, jobID, rs.node.Now(), apartWait, why.Error()); err != nil {
			return err
		}
		return t.OpenAlert(ctx, job.Alert{
			Kind: job.AlertApart, Cause: apartCause(jobID), JobID: &jobID,
			Happened: fmt.Sprintf("What was due of %s could not be rung. %s.", j.Name, phrase.Upper(why.Error())),
			ForWhom:  "its recipients wait for it",
			Tried:    "It is tried again every " + job.Duration(apartWait).String() + "; nothing that was due is lost.",
			Advice:   "See whether its rule, zone and calendars can still be read, and save the job again.",
			Next:     "When it can be rung, what was missed is decided on as the job says for an outage.",
		})
	})
}

// together takes in again what was set apart and could be decided on now.
func (rs *Runs) together(ctx context.Context, t *store.Tx, due []rings.DueTrigger) error {
	var triggers []int64
	var causes []string
	for _, d := range due {
		if d.Apart != "" {
			triggers, causes = append(triggers, d.ID), append(causes, apartCause(d.JobID))
		}
	}
	if len(triggers) == 0 {
		return nil
	}
	if err := t.Together(ctx, triggers); err != nil {
		return err
	}
	return t.CloseAlertsOf(ctx, causes)
}
