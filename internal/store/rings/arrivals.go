package rings

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/usual"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// keyOf is the key under which the past of a condition is kept: w is of trigger_waits, t its trigger.
const keyOf = `wait_key(w.event_type, w.job_id, w.watch_id, t.waits->'for'->w.place)`

// LateCause is the cause of the alert about something that is late by its own past.
func LateCause(key string) string { return lateCause + key }

const lateCause = "not come:"

// PutArrival notes that a condition of a trigger came about; the first time of a day counts, by the wall clock
// of its zone. An alert that it did not come ends. The trigger must be locked.
func (t *Tx) PutArrival(ctx context.Context, w Waiter, at time.Time, place *time.Location) error {
	var keys []string
	if err := sqlx.SelectContext(ctx, t.Ext, &keys, `INSERT INTO arrivals (job_id, key, day, at)
		SELECT t.job_id, `+keyOf+`, $3::date, $4 FROM trigger_waits w JOIN triggers t ON t.id = w.trigger_id
		WHERE w.trigger_id = $1 AND w.place = $2
		ON CONFLICT DO NOTHING RETURNING job_id || ':' || key`,
		w.TriggerID, w.Condition, at.In(place).Format(time.DateOnly), at); err != nil {
		return db.Wrap(err, "note when it came")
	}
	if len(keys) == 0 {
		return nil // it came before on this day
	}
	// Of several of which any is enough, the others are not missed any more.
	any := w.Waits.V != nil && w.Waits.V.Need == job.NeedAny
	if _, err := t.Ext.ExecContext(ctx, `UPDATE trigger_waits SET settled = true WHERE trigger_id = $1 AND (place = $2 OR $3)
		AND NOT settled`, w.TriggerID, w.Condition, any); err != nil {
		return db.Wrap(err, "note that it came")
	}
	res, err := t.Ext.ExecContext(ctx, `UPDATE alerts SET state = 'closed', closed_at = bell_now(), tell_at = NULL
		WHERE cause = $1 AND state <> 'closed'`, LateCause(keys[0]))
	if err != nil {
		return db.Wrap(err, "close the alert about it")
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return db.Wrap(err, "close the alert about it")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}

// Expecting is a condition of a trigger with its past.
type Expecting struct {
	TriggerID int64                    `db:"trigger_id"`
	Condition int                      `db:"place"`
	JobID     int64                    `db:"job_id"`
	Job       string                   `db:"job"`
	Zone      string                   `db:"zone"`
	Calendars db.Document[[]string]    `db:"calendars"`
	Waits     db.Document[job.Wait]    `db:"waits"`
	Key       string                   `db:"key"`
	Past      db.Document[[]time.Time] `db:"past"`
	Latest    *time.Time               `db:"latest"` // when any condition of the trigger came last
}

// Enough tells whether one that has not come on a day is not missed, since another was enough.
func (e Expecting) Enough(day int64, place *time.Location) bool {
	return e.Waits.V.Need == job.NeedAny && e.Latest != nil && usual.Day(*e.Latest, place) == day
}

// What is expected has a past that is looked at; a start of the service is nobody's to expect.
const (
	expectingColumns = `w.trigger_id, w.place, t.job_id, j.name AS job, t.zone, t.calendars, t.waits,
	t.job_id || ':' || ` + keyOf + ` AS key,
	coalesce((SELECT json_agg(a.at) FROM arrivals a WHERE a.job_id = t.job_id AND a.key = ` + keyOf + `
		AND a.at > $1::timestamptz - make_interval(days => $2)), '[]') AS past,
	CASE WHEN t.waits->>'need' = 'any' THEN (SELECT max(a.at) FROM trigger_waits w JOIN arrivals a ON a.job_id = t.job_id
		AND a.key = ` + keyOf + ` WHERE w.trigger_id = t.id) END AS latest
	FROM trigger_waits w JOIN triggers t ON t.id = w.trigger_id JOIN jobs j ON j.id = t.job_id`
	pastDays = usual.Days + 2 // whole days in any zone
)

// TakeUnreckoned locks conditions of which nobody has reckoned yet what is usual on the day of now, or of which it
// is told now that they are late.
func (t *Tx) TakeUnreckoned(ctx context.Context, now time.Time, limit int) ([]Expecting, error) {
	var all []Expecting
	err := sqlx.SelectContext(ctx, t.Ext, &all, `SELECT `+expectingColumns+`
		WHERE (w.trigger_id, w.place) IN (
			(SELECT trigger_id, place FROM trigger_waits WHERE reckon_at <= $1 ORDER BY reckon_at LIMIT $3)
			UNION ALL (SELECT w.trigger_id, w.place FROM trigger_waits w JOIN triggers t ON t.id = w.trigger_id
				JOIN jobs j ON j.id = t.job_id WHERE w.late_at <= $1 AND NOT w.settled AND `+wakes+`
				ORDER BY w.late_at LIMIT $3))
		FOR UPDATE OF w SKIP LOCKED`, now, pastDays, limit)
	return all, db.Wrap(err, "find what is expected")
}

// PutUsual writes what is usual of a condition on a day; by and late are nil when nothing is. The next day is
// reckoned at again.
func (t *Tx) PutUsual(ctx context.Context, e Expecting, by, late *time.Time, settled bool, again time.Time) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE trigger_waits SET usual_at = $3, late_at = $4, settled = $5, reckon_at = $6
		WHERE trigger_id = $1 AND place = $2`, e.TriggerID, e.Condition, by, late, settled, again)
	return db.Wrap(err, "write what is usual")
}

// Expected lists conditions with their pasts, of jobs that would start by them and have a part in their name.
func (q Q) Expected(ctx context.Context, part string, now time.Time, limit int) ([]Expecting, error) {
	var all []Expecting
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT `+expectingColumns+` WHERE `+wakes+`
		AND t.waits->'for'->w.place->>'start' IS NULL
		AND ($3 = '' OR position(lower($3) IN lower(j.name)) > 0) AND EXISTS (SELECT 1 FROM arrivals a WHERE a.job_id = t.job_id)
		ORDER BY t.id, w.place LIMIT $4`, now, pastDays, part, limit)
	return all, db.Wrap(err, "find what is expected")
}

// CloseUnexpected ends alerts about what is waited for no more: its job is off, waits for something else, or only
// shows what is late.
func (t *Tx) CloseUnexpected(ctx context.Context) error {
	res, err := t.Ext.ExecContext(ctx, `UPDATE alerts SET state = 'closed', closed_at = bell_now(), tell_at = NULL
		WHERE state <> 'closed' AND cause LIKE '`+lateCause+`%' AND NOT EXISTS (SELECT 1 FROM trigger_waits w
			JOIN triggers t ON t.id = w.trigger_id JOIN jobs j ON j.id = t.job_id
			WHERE t.job_id = alerts.job_id AND alerts.cause = '`+lateCause+`' || t.job_id || ':' || `+keyOf+` AND `+wakes+`
			AND t.waits->>'if_late' IS DISTINCT FROM 'show')`)
	if err != nil {
		return db.Wrap(err, "close alerts about what is not expected any more")
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return db.Wrap(err, "close alerts about what is not expected any more")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}
