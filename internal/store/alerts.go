package store

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// tellAgain is how long an open alert that grows stays silent after it was told.
const tellAgain = time.Hour

const alertColumns = `a.id, a.kind, a.cause, a.state, a.job_id, a.job_name, a.run_id, p.login AS owner, a.happened, a.for_whom, a.tried, a.advice, a.count,
	a.opened_at, a.last_at, a.acknowledged_by, a.acknowledged_at, a.closed_at, a.step, a.told
	FROM alerts a JOIN people p ON p.id = a.owner_id`

// OpenAlert opens an alert for the owner of its job, or lets the open one of
// the same cause grow. One that was acknowledged opens again.
func (t *Tx) OpenAlert(ctx context.Context, a job.Alert) error {
	_, err := t.ext.ExecContext(ctx, `INSERT INTO alerts (kind, cause, state, job_id, job_name, run_id, owner_id, happened, for_whom, tried, advice, tell_at)
		SELECT $1, $2, 'open', j.id, j.name, $4, j.owner_id, $5, $6, $7, $8, now() FROM jobs j WHERE j.id = $3
		ON CONFLICT (cause) WHERE state <> 'closed' DO UPDATE SET count = alerts.count + 1, last_at = now(), run_id = excluded.run_id,
			happened = excluded.happened, for_whom = excluded.for_whom, tried = excluded.tried, advice = excluded.advice, step = 0,
			tell_at = CASE WHEN alerts.state = 'acknowledged' OR alerts.told_at < now() - make_interval(secs => $9) THEN now() ELSE alerts.tell_at END,
			state = 'open', acknowledged_by = '', acknowledged_at = NULL`,
		a.Kind, a.Cause, a.JobID, a.RunID, a.Happened, a.ForWhom, a.Tried, a.Advice, tellAgain.Seconds())
	if err != nil {
		return wrap(err, "open the alert")
	}
	return t.Tell(ctx, Notice{Kind: "alerts"})
}

// AlertsToTell locks alerts whose owner is to be told now, at most limit.
func (t *Tx) AlertsToTell(ctx context.Context, limit int) ([]job.Alert, error) {
	var alerts []job.Alert
	err := sqlx.SelectContext(ctx, t.ext, &alerts, `SELECT `+alertColumns+` WHERE a.tell_at <= now() ORDER BY a.tell_at LIMIT $1 FOR UPDATE OF a SKIP LOCKED`, limit)
	return alerts, wrap(err, "find the alerts to tell")
}

// Told records who was told of an alert and sets when the next step is due;
// zero for none.
func (t *Tx) Told(ctx context.Context, id int64, told string, next time.Duration) error {
	_, err := t.ext.ExecContext(ctx, `UPDATE alerts SET told = $2, told_at = now(),
		tell_at = CASE WHEN $3 > 0 THEN now() + make_interval(secs => $3) END WHERE id = $1`, id, told, next.Seconds())
	return wrap(err, "record who was told")
}

// NextStep sends an alert on to the next step, because telling the one before failed.
func (t *Tx) NextStep(ctx context.Context, id int64, told string) error {
	_, err := t.ext.ExecContext(ctx, `UPDATE alerts SET told = $2, step = step + 1, tell_at = CASE WHEN step = 0 THEN now() END WHERE id = $1 AND state = 'open'`, id, told)
	if err != nil {
		return wrap(err, "go to the alert's next step")
	}
	return t.Tell(ctx, Notice{Kind: "alerts"})
}

// NoteTold changes what is said of the telling, when its delivery ended.
func (t *Tx) NoteTold(ctx context.Context, id int64, told string) error {
	_, err := t.ext.ExecContext(ctx, `UPDATE alerts SET told = $2 WHERE id = $1`, id, told)
	if err != nil {
		return wrap(err, "record how the telling went")
	}
	return t.Tell(ctx, Notice{Kind: "alerts"})
}

// Alerts lists alerts, the latest first; open ones only, unless all.
func (q q) Alerts(ctx context.Context, states []string, limit int) ([]job.Alert, error) {
	alerts := []job.Alert{}
	err := sqlx.SelectContext(ctx, q.ext, &alerts, `SELECT `+alertColumns+` WHERE a.state = ANY($1) ORDER BY a.last_at DESC, a.id DESC LIMIT $2`, states, limit)
	return alerts, wrap(err, "list the alerts")
}

// AlertsOfRun lists the alerts that speak of a run.
func (q q) AlertsOfRun(ctx context.Context, id job.RunID) ([]job.Alert, error) {
	alerts := []job.Alert{}
	err := sqlx.SelectContext(ctx, q.ext, &alerts, `SELECT `+alertColumns+` WHERE a.run_id = $1 ORDER BY a.id LIMIT 100`, id)
	return alerts, wrap(err, "list the run's alerts")
}

// Alert finds an alert.
func (q q) Alert(ctx context.Context, id int64) (job.Alert, error) {
	var a job.Alert
	err := sqlx.GetContext(ctx, q.ext, &a, `SELECT `+alertColumns+` WHERE a.id = $1`, id)
	return a, found(err, "alert", fmt.Sprint(id))
}

// Acknowledge records that a person has taken an alert on.
func (q q) Acknowledge(ctx context.Context, id int64, who string) error {
	if _, err := q.ext.ExecContext(ctx, `UPDATE alerts SET state = 'acknowledged', acknowledged_by = $2, acknowledged_at = now(), tell_at = NULL
		WHERE id = $1 AND state = 'open'`, id, who); err != nil {
		return wrap(err, "acknowledge the alert")
	}
	return q.Tell(ctx, Notice{Kind: "alerts"})
}

// CloseAlert ends an alert.
func (q q) CloseAlert(ctx context.Context, id int64) error {
	if _, err := q.ext.ExecContext(ctx, `UPDATE alerts SET state = 'closed', closed_at = now(), tell_at = NULL WHERE id = $1 AND state <> 'closed'`, id); err != nil {
		return wrap(err, "close the alert")
	}
	return q.Tell(ctx, Notice{Kind: "alerts"})
}

// CloseAlertsOfRuns ends the alerts whose latest run was put right, but for
// those that this transaction opened.
func (t *Tx) CloseAlertsOfRuns(ctx context.Context, ids []job.RunID) error {
	if len(ids) == 0 {
		return nil
	}
	var closed []int64
	if err := sqlx.SelectContext(ctx, t.ext, &closed, `UPDATE alerts SET state = 'closed', closed_at = now(), tell_at = NULL
		WHERE run_id = ANY($1) AND state <> 'closed' AND last_at < now() RETURNING id`, numbers(ids)); err != nil {
		return wrap(err, "close the runs' alerts")
	}
	if len(closed) == 0 {
		return nil
	}
	return t.Tell(ctx, Notice{Kind: "alerts"})
}
