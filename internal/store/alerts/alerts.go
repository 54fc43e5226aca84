package alerts

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/people"

	"github.com/jmoiron/sqlx"
)

// tellAgain is how long an open alert that grows stays silent after it was told.
const tellAgain = time.Hour

// alertFields are what an alert is opened with.
const alertFields = `kind, cause, state, job_id, job_name, run_id, owner_id, happened, for_whom, tried, advice, next,
	urgent, tell_at`

const alertColumns = `a.id, a.kind, a.cause, a.state, a.job_id, a.job_name, a.run_id, coalesce(p.login, '') AS owner,
	a.happened, a.for_whom, a.tried, a.advice, a.next, a.urgent, a.unreached, a.count,
	a.opened_at, a.last_at, a.acknowledged_by, a.acknowledged_at, a.closed_at, a.step, a.told
	FROM alerts a LEFT JOIN people p ON p.id = a.owner_id`

// OpenAlert opens an alert for the owner of its job, or, when it has none, for
// the administrators; or it lets the open one of the same cause grow. One that was
// acknowledged opens again, unless it only tells of more deliveries of the same
// run, or of a destination that is still down.
func (t *Tx) OpenAlert(ctx context.Context, a job.Alert) error {
	const again = `(alerts.state = 'acknowledged' AND excluded.kind <> 'down'
		AND (excluded.run_id IS DISTINCT FROM alerts.run_id OR excluded.kind NOT IN ('delivery failed',
		'delivery unknown', 'bounced')))`
	_, err := t.Ext.ExecContext(ctx, `WITH opened AS (INSERT INTO alerts (`+alertFields+`)
		SELECT $1, $2, 'open', $3, coalesce(j.name, $4), $5, j.owner_id, $6, $7, $8, $9, $10, $11
		OR coalesce((v.definition->>'urgent')::boolean, false), bell_now()
		FROM (SELECT 1) one LEFT JOIN jobs j ON j.id = $3 LEFT JOIN job_versions v ON v.job_id = j.id
		AND v.version = j.version
		WHERE $3::bigint IS NULL OR j.id IS NOT NULL
		ON CONFLICT (cause) WHERE state <> 'closed' DO UPDATE
		SET count = alerts.count + CASE WHEN excluded.run_id IS NULL THEN 0 ELSE 1 END, last_at = bell_now(),
			run_id = coalesce(excluded.run_id, alerts.run_id), happened = excluded.happened,
			for_whom = excluded.for_whom, tried = excluded.tried, advice = excluded.advice, next = excluded.next,
			step = CASE WHEN `+again+` THEN 0 ELSE alerts.step END,
			tell_at = CASE WHEN `+again+` OR alerts.state = 'open' AND alerts.tell_at IS NULL
				AND alerts.told_at < bell_now() - make_interval(secs => $12) THEN bell_now() ELSE alerts.tell_at END,
			acknowledged_by = CASE WHEN `+again+
		` THEN '' ELSE alerts.acknowledged_by END, acknowledged_at = CASE WHEN `+again+
		` THEN NULL ELSE alerts.acknowledged_at END,
			state = CASE WHEN `+again+` THEN 'open' ELSE alerts.state END RETURNING id)
		INSERT INTO alert_runs (alert_id, run_id) SELECT id, $5::bigint FROM opened WHERE $5::bigint IS NOT NULL
		ON CONFLICT (alert_id, run_id) DO UPDATE SET mended = false`,
		a.Kind, a.Cause, a.JobID, a.Job, a.RunID, db.Bounded(a.Happened), db.Bounded(a.ForWhom), db.Bounded(a.Tried),
		db.Bounded(a.Advice), db.Bounded(a.Next), a.Urgent, tellAgain.Seconds())
	if err != nil {
		return db.Wrap(err, "open the alert")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}

// AlertsToTell locks alerts whose owner is to be told now, at most limit.
func (t *Tx) AlertsToTell(ctx context.Context, limit int) ([]job.Alert, error) {
	var alerts []job.Alert
	err := sqlx.SelectContext(ctx, t.Ext, &alerts, `SELECT `+alertColumns+` WHERE a.tell_at <= bell_now()
		ORDER BY a.tell_at LIMIT $1 FOR UPDATE OF a SKIP LOCKED`, limit)
	return alerts, db.Wrap(err, "find the alerts to tell")
}

// Told records who was told of an alert, and which step is due when; none when
// next is zero.
func (t *Tx) Told(ctx context.Context, id int64, told string, step int, next time.Duration) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE alerts SET told = CASE WHEN $2 = '' THEN told ELSE $2 END,
		told_at = bell_now(), step = $3,
		tell_at = CASE WHEN $4::float8 > 0 THEN bell_now() + make_interval(secs => $4::float8) END
		WHERE id = $1`, id, db.Bounded(told), step, next.Seconds())
	return db.Wrap(err, "record who was told")
}

// NextStep sends an alert on to the next step now, because telling the one before
// failed.
func (t *Tx) NextStep(ctx context.Context, id int64, told string) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE alerts SET told = $2, tell_at = bell_now() WHERE id = $1 AND state = 'open'
		AND (tell_at IS NULL OR tell_at > bell_now())`, id, db.Bounded(told))
	if err != nil {
		return db.Wrap(err, "go to the alert's next step")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}

// Unreached marks an alert that nobody could be told of.
func (t *Tx) Unreached(ctx context.Context, id int64, told string, again time.Duration) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE alerts SET unreached = true, told = $2, told_at = bell_now(), step = 0,
		tell_at = bell_now() + make_interval(secs => $3) WHERE id = $1`, id, db.Bounded(told), again.Seconds())
	return db.Wrap(err, "record that nobody was reached")
}

// Reached notes that somebody was told of an alert: those who got mails about it, unless
// how says that it went otherwise. When nobody could be told before, its steps go on from
// there: the following one is taken after a while.
func (t *Tx) Reached(ctx context.Context, id int64, how string, after time.Duration) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE alerts SET unreached = false,
		step = CASE WHEN unreached THEN 1 ELSE step END,
			told = CASE WHEN $2 <> '' THEN $2
			-- A later step has said more already: receipts come when they come.
			WHEN told LIKE 'the call waits %' THEN told ELSE (SELECT 'told ' || string_agg(address, ', ' ORDER BY first) FROM (
				SELECT address, min(id) AS first FROM deliveries WHERE alert_id = $1 AND state = 'sent' GROUP BY address
				ORDER BY first LIMIT 20) got) END,
			tell_at = CASE WHEN unreached
			AND state = 'open' THEN bell_now() + make_interval(secs => $3) ELSE tell_at END
		WHERE id = $1`, id, db.Bounded(how), after.Seconds())
	if err != nil {
		return db.Wrap(err, "record how the telling went")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}

// HurryAlerts lets the next step be taken now with the alerts whose mails wait for
// a destination that does not work.
func (q Q) HurryAlerts(ctx context.Context, destination int64, told string) error {
	res, err := q.Ext.ExecContext(ctx, `UPDATE alerts SET told = $2, tell_at = bell_now() WHERE state = 'open'
		AND NOT unreached AND (tell_at IS NULL OR tell_at > bell_now())
		AND id IN (SELECT alert_id FROM deliveries WHERE destination_id = $1 AND phase = 'kept back'
		AND kept_back = 'rest' AND alert_id IS NOT NULL)`, destination, db.Bounded(told))
	if err != nil {
		return db.Wrap(err, "go on with the alerts")
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return db.Wrap(err, "go on with the alerts")
	}
	return q.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}

// AlertMailWaits tells whether a mail about an alert still waits to reach an address.
func (q Q) AlertMailWaits(ctx context.Context, id int64, address string) (bool, error) {
	var waits bool
	err := sqlx.GetContext(ctx, q.Ext, &waits,
		`SELECT EXISTS (SELECT 1 FROM deliveries WHERE alert_id = $1 AND lower(address) = lower($2) AND state IN `+
			db.DeliveriesOpen+`)`, id, address)
	return waits, db.Wrap(err, "see whether a mail about the alert waits")
}

// Calling numbers a call about an alert: each is one of its own, also a repeated one.
func (q Q) Calling(ctx context.Context, id int64) (n int, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &n, `UPDATE alerts SET calls = calls + 1 WHERE id = $1 RETURNING calls`, id)
	return n, db.Wrap(err, "number the call")
}

// UnreachedAlerts counts the alerts that nobody could be told of.
func (q Q) UnreachedAlerts(ctx context.Context) (int, error) {
	var n int
	err := sqlx.GetContext(ctx, q.Ext, &n, `SELECT count(*) FROM alerts WHERE unreached AND state <> 'closed'`)
	return n, db.Wrap(err, "count the alerts that nobody was told of")
}

// Alerts lists alerts, the latest first; open ones only, unless all.
func (q Q) Alerts(ctx context.Context, states []string, limit int) ([]job.Alert, error) {
	alerts := []job.Alert{}
	err := sqlx.SelectContext(ctx, q.Ext, &alerts, `SELECT `+alertColumns+` WHERE a.state = ANY($1)
		ORDER BY a.last_at DESC, a.id DESC LIMIT $2`, states, limit)
	return alerts, db.Wrap(err, "list the alerts")
}

// AlertsOfRun lists the alerts that speak of a run.
func (q Q) AlertsOfRun(ctx context.Context, id job.RunID) ([]job.Alert, error) {
	alerts := []job.Alert{}
	err := sqlx.SelectContext(ctx, q.Ext, &alerts, `SELECT `+alertColumns+` WHERE a.run_id = $1
		OR a.id IN (SELECT alert_id FROM alert_runs WHERE run_id = $1) ORDER BY a.id LIMIT 100`, id)
	return alerts, db.Wrap(err, "list the run's alerts")
}

// Alert finds an alert.
func (q Q) Alert(ctx context.Context, id int64) (job.Alert, error) {
	var a job.Alert
	err := sqlx.GetContext(ctx, q.Ext, &a, `SELECT `+alertColumns+` WHERE a.id = $1`, id)
	return a, db.Found(err, "alert", fmt.Sprint(id))
}

// CloseAlertsOf ends the alerts of some causes, which were put right.
func (t *Tx) CloseAlertsOf(ctx context.Context, causes []string) error {
	if _, err := t.Ext.ExecContext(ctx, `UPDATE alerts SET state = 'closed', closed_at = bell_now(), tell_at = NULL
		WHERE cause = ANY($1) AND state <> 'closed'`, causes); err != nil {
		return db.Wrap(err, "close the alerts")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}

// AlertKnown tells whether there is an alert of a cause that nobody has put right.
func (q Q) AlertKnown(ctx context.Context, cause string) (known bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &known, `SELECT EXISTS (SELECT 1 FROM alerts WHERE cause = $1 AND state <> 'closed')`, cause)
	return known, db.Wrap(err, "see whether there is an alert")
}

// AlertFor says anew for whom the open alerts of some causes matter.
func (t *Tx) AlertFor(ctx context.Context, causes []string, whom string) error {
	if _, err := t.Ext.ExecContext(ctx, `UPDATE alerts SET for_whom = $2 WHERE cause = ANY($1) AND state <> 'closed'`,
		causes, db.Bounded(whom)); err != nil {
		return db.Wrap(err, "say for whom the alerts matter")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}

// Acknowledge records that a person has taken an alert on.
func (q Q) Acknowledge(ctx context.Context, id int64, who string) error {
	if _, err := q.Ext.ExecContext(ctx, `UPDATE alerts SET state = 'acknowledged', acknowledged_by = $2,
		acknowledged_at = bell_now(), tell_at = NULL
		WHERE id = $1 AND state = 'open'`, id, who); err != nil {
		return db.Wrap(err, "acknowledge the alert")
	}
	return q.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}

// CloseAlert ends an alert.
func (q Q) CloseAlert(ctx context.Context, id int64) error {
	if _, err := q.Ext.ExecContext(ctx, `UPDATE alerts SET state = 'closed', closed_at = bell_now(), tell_at = NULL
		WHERE id = $1 AND state <> 'closed'`, id); err != nil {
		return db.Wrap(err, "close the alert")
	}
	return q.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}

// CloseAlertsOfRuns notes that runs were put right, with those that they repeat, and
// that others have ended and are no longer late. It ends the alerts of which every run
// was mended, but for those that this transaction opened.
func (t *Tx) CloseAlertsOfRuns(ctx context.Context, right, ended []job.RunID) error {
	if len(right)+len(ended) == 0 {
		return nil
	}
	var closed []int64
	if err := sqlx.SelectContext(ctx, t.Ext, &closed, `WITH RECURSIVE right_now AS (
			SELECT id, again FROM runs WHERE id = ANY($1)
			UNION SELECT r.id, r.again FROM runs r JOIN right_now n ON r.id = n.again
		), over AS (
			SELECT id, '' AS kind FROM right_now UNION ALL SELECT unnest($2::bigint[]), 'late'
		), mended AS (
			UPDATE alert_runs m SET mended = true FROM over, alerts a
			WHERE m.run_id = over.id AND NOT m.mended AND a.id = m.alert_id
			AND (a.kind = over.kind OR over.kind = '' AND a.last_at < bell_now())
			RETURNING m.alert_id, m.run_id
		)
		UPDATE alerts SET state = 'closed', closed_at = bell_now(), tell_at = NULL
		WHERE id IN (SELECT alert_id FROM mended) AND state <> 'closed'
			AND NOT EXISTS (SELECT 1 FROM alert_runs o WHERE o.alert_id = alerts.id AND NOT o.mended
			AND NOT EXISTS (SELECT 1 FROM mended m WHERE m.alert_id = o.alert_id AND m.run_id = o.run_id))
			RETURNING id`, db.Numbers(right), db.Numbers(ended)); err != nil {
		return db.Wrap(err, "close the runs' alerts")
	}
	if len(closed) == 0 {
		return nil
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeAlerts})
}

// OwnersWaiting are the owners of the jobs whose deliveries wait for the
// destination that an alert is about, at most 50.
func (q Q) OwnersWaiting(ctx context.Context, cause string) ([]job.Person, error) {
	owners := []job.Person{}
	if label, ok := strings.CutPrefix(cause, "rest:"); ok {
		return people.In(q.Base).OwnersOf(ctx, label)
	}
	kind, number, _ := strings.Cut(cause, ":")
	if kind != "destination" && kind != "refuses" {
		return owners, nil
	}
	err := sqlx.SelectContext(ctx, q.Ext, &owners, `SELECT `+people.PersonColumns+` FROM people p WHERE p.id IN (
			SELECT j.owner_id FROM deliveries d JOIN jobs j ON j.id = d.job_id
			WHERE d.phase = 'kept back' AND d.kept_back = 'rest' AND d.destination_id = $1::bigint)
		ORDER BY p.id LIMIT 50`, number)
	return owners, db.Wrap(err, "find whose deliveries wait")
}

// AlertsFor lists what a digest tells a person: open alerts, and those that closed
// since an instant, of what is theirs; all of them for an administrator.
func (q Q) AlertsFor(ctx context.Context, p job.Person, since time.Time) ([]job.Alert, error) {
	alerts := []job.Alert{}
	err := sqlx.SelectContext(ctx, q.Ext, &alerts, `SELECT `+alertColumns+`
		WHERE (a.state <> 'closed' OR a.closed_at > $2) AND (a.owner_id = $1 OR $3)
		ORDER BY a.state <> 'closed' DESC, a.last_at DESC LIMIT 200`, p.ID, since, p.Role == job.RoleAdministrator)
	return alerts, db.Wrap(err, "list the alerts of "+p.Name)
}
