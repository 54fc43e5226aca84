package sending

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// parkBatch bounds how many deliveries one statement keeps back or lets go.
const parkBatch = 5000

// Rest lets a destination rest from now on, until a probe finds it mended; first
// is when the first one is due. It tells whether it rested already, and how often it
// rested since something got through.
func (t *Tx) Rest(ctx context.Context, id int64, f *fault.Fault,
	first time.Duration,
) (rested bool, inRow int, err error) {
	var row struct {
		Rested bool `db:"rested"`
		InRow  int  `db:"rests_in_row"`
	}
	err = sqlx.GetContext(ctx, t.Ext, &row,
		`WITH was AS (SELECT id, rests_since FROM destinations WHERE id = $1 FOR UPDATE)
		UPDATE destinations d SET rests_since = coalesce(d.rests_since, bell_now()), rest_answer = $2, rest_advice = $3, rest_class = $4,
			rests_in_row = d.rests_in_row + CASE WHEN was.rests_since IS NULL THEN 1 ELSE 0 END,
			-- Each rest in a row is longer than the one before, by half an hour at most.
			probe_at = CASE WHEN was.rests_since IS NULL THEN bell_now() + make_interval(secs => least($5 * power(3, least(d.rests_in_row, 12)), greatest($5, 1800))) ELSE d.probe_at END,
			probes = CASE WHEN was.rests_since IS NULL THEN 0 ELSE d.probes END
		FROM was WHERE d.id = was.id RETURNING was.rests_since IS NOT NULL AS rested, d.rests_in_row`, id, db.Bounded(f.Error()), f.Advice, f.Class, first.Seconds())
	if err != nil {
		return false, 0, db.Wrap(err, "let the destination rest")
	}
	_, err = t.KeepBack(ctx, id)
	return row.Rested, row.InRow, err
}

// KeepBack keeps back what waits for a destination that rests, a batch at a time,
// and tells whether there may be more.
func (q Q) KeepBack(ctx context.Context, id int64) (more bool, err error) {
	res, err := q.Ext.ExecContext(ctx, `UPDATE deliveries SET kept_back = 'rest' WHERE id = ANY(ARRAY(
		SELECT id FROM deliveries WHERE phase = 'ready' AND destination_id = $1
		AND subscription_id IS NULL ORDER BY ready_at, id LIMIT $2
		FOR UPDATE SKIP LOCKED))`, id, parkBatch)
	return full(res, err, "keep deliveries back")
}

// LetGo lets go what was kept back for destinations that do not rest any more, a
// batch at a time, and tells whether there may be more.
func (q Q) LetGo(ctx context.Context) (more bool, err error) {
	res, err := q.Ext.ExecContext(ctx, `UPDATE deliveries SET kept_back = '', ready_at = bell_now()
		WHERE id = ANY(ARRAY(
		SELECT d.id FROM destinations t CROSS JOIN LATERAL (SELECT id FROM deliveries WHERE phase = 'kept back'
		AND kept_back = 'rest' AND destination_id = t.id LIMIT $1) d
		WHERE t.rests_since IS NULL LIMIT $1))`, parkBatch)
	more, err = full(res, err, "let deliveries go")
	if err != nil {
		return more, err
	}
	return more, q.Tell(ctx, db.Notice{Kind: job.NoticeDeliveries})
}

func full(res sql.Result, err error, doing string) (bool, error) {
	if err != nil {
		return false, db.Wrap(err, doing)
	}
	n, err := res.RowsAffected()
	return n >= parkBatch, db.Wrap(err, doing)
}

// Resting is a destination that rests.
type Resting struct {
	ID     int64     `db:"id"`
	Name   string    `db:"name"`
	Since  time.Time `db:"rests_since"`
	Answer string    `db:"rest_answer"`
	Advice string    `db:"rest_advice"`
	Class  string    `db:"rest_class"`
	Probes int       `db:"probes"`
}

// TakeProbe gives a destination whose probe is due, and puts the following one
// off, so that one node at a time looks. ok is false when there is none.
func (q Q) TakeProbe(ctx context.Context, next func(probes int) time.Duration) (r Resting, ok bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &r, `UPDATE destinations SET probes = probes + 1,
		probe_at = bell_now() + interval '1 minute'
		WHERE id = (SELECT id FROM destinations WHERE rests_since IS NOT NULL AND probe_at <= bell_now()
		ORDER BY probe_at LIMIT 1 FOR UPDATE SKIP LOCKED)
		RETURNING id, name, rests_since, rest_answer, rest_advice, rest_class, probes`)
	if errors.Is(err, sql.ErrNoRows) {
		return r, false, nil
	}
	if err != nil {
		return r, false, db.Wrap(err, "find a destination to look at")
	}
	_, err = q.Ext.ExecContext(ctx, `UPDATE destinations SET probe_at = bell_now() + make_interval(secs => $2)
		WHERE id = $1`, r.ID, next(r.Probes).Seconds())
	return r, true, db.Wrap(err, "set the following look")
}

// Wake ends a destination's rest and tells whether it rested.
func (t *Tx) Wake(ctx context.Context, id int64) (bool, error) {
	res, err := t.Ext.ExecContext(ctx, `UPDATE destinations SET rests_since = NULL, rest_answer = '', rest_advice = '',
		rest_class = '', probe_at = NULL, probes = 0, tested_at = bell_now(), test_answer = ''
		WHERE id = $1 AND rests_since IS NOT NULL`, id)
	if err != nil {
		return false, db.Wrap(err, "wake the destination")
	}
	n, err := res.RowsAffected()
	return n > 0, db.Wrap(err, "wake the destination")
}

// ProbeSoon lets a destination that rests be looked at now.
func (t *Tx) ProbeSoon(ctx context.Context, id int64) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE destinations SET probe_at = bell_now(), probes = 0 WHERE id = $1
		AND rests_since IS NOT NULL AND removed_at IS NULL`, id)
	return db.Wrap(err, "look at the destination")
}

// ProbeSoonFor lets those destinations be looked at now for which something of a run waits.
func (t *Tx) ProbeSoonFor(ctx context.Context, run job.RunID) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE destinations SET probe_at = bell_now(), probes = 0
		WHERE rests_since IS NOT NULL AND removed_at IS NULL AND id IN (SELECT destination_id FROM deliveries
		WHERE run_id = $1 AND phase IN ('ready', 'kept back', 'leased'))`, run)
	if err != nil {
		return db.Wrap(err, "look at the destinations")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeDestinations})
}

// ProbeNever lets a destination that rests not be looked at by itself.
func (t *Tx) ProbeNever(ctx context.Context, id int64) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE destinations SET probe_at = NULL WHERE id = $1`, id)
	return db.Wrap(err, "look at the destination no more")
}

// Waiting is what waits for a destination.
type Waiting struct {
	Deliveries int      `db:"deliveries"`
	Jobs       []string // by name, some of them
	Owners     []int64  // their people
}

// WaitingFor tells what is kept back for a destination.
func (q Q) WaitingFor(ctx context.Context, id int64) (Waiting, error) {
	var w Waiting
	const shown = 50
	var rows []struct {
		Job   *string `db:"job"`
		Owner *int64  `db:"owner_id"`
		N     int     `db:"n"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT j.name AS job, j.owner_id, k.n FROM (
			SELECT job_id, count(*) AS n FROM deliveries WHERE phase = 'kept back' AND kept_back = 'rest'
			AND destination_id = $1 GROUP BY job_id) k
		LEFT JOIN jobs j ON j.id = k.job_id ORDER BY k.n DESC, j.name`, id)
	for _, r := range rows {
		w.Deliveries += r.N
		if r.Job != nil && len(w.Jobs) < shown {
			w.Jobs, w.Owners = append(w.Jobs, *r.Job), append(w.Owners, *r.Owner)
		}
	}
	return w, db.Wrap(err, "see what waits for the destination")
}

// GivenUp locks deliveries whose time to wait has run out, at most limit.
func (t *Tx) GivenUp(ctx context.Context, limit int) ([]Sending, error) {
	var out []Sending
	err := sqlx.SelectContext(ctx, t.Ext, &out, `SELECT id, lease_no, message_id AS message_row, run_id, alert_id,
		subscription_id, job_id, destination_id, part, address, tries,
			retry_times, retry_wait, retry_growth, retry_longest, rehearsal, give_up_at, if_unknown FROM deliveries
		WHERE phase = 'kept back' AND give_up_at < bell_now() AND kept_back = 'rest' ORDER BY give_up_at LIMIT $1
		FOR UPDATE SKIP LOCKED`, limit)
	return out, db.Wrap(err, "find what waited too long")
}

// GiveUp ends deliveries that wait.
func (t *Tx) GiveUp(ctx context.Context, ids []int64, answer, advice, class string) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE deliveries SET state = 'failed', kept_back = '', answer = $2, advice = $3,
		class = $4, settled_at = bell_clock()
		WHERE id = ANY($1) AND state = 'waiting'`, ids, db.Bounded(answer), advice, class)
	return db.Wrap(err, "give up waiting")
}

// Pace takes the next turn of a destination whose messages may go out only so
// often, over all nodes, and gives how long to wait for it.
func (q Q) Pace(ctx context.Context, id int64, pause time.Duration) (time.Duration, error) {
	var seconds float64
	err := sqlx.GetContext(ctx, q.Ext, &seconds, `UPDATE destinations
		SET paced_until = greatest(paced_until, bell_clock()) + make_interval(secs => $2)
		WHERE id = $1 RETURNING extract(epoch FROM paced_until - bell_clock()) - $2`, id, pause.Seconds())
	return time.Duration(max(seconds, 0) * float64(time.Second)), db.Wrap(err, "wait for a turn")
}

// Tested keeps how the last test of a destination went: what it answered when it
// failed, and nothing when it went well.
func (t *Tx) Tested(ctx context.Context, id int64, answer string) error {
	if err := db.One(t.Ext.ExecContext(ctx, `UPDATE destinations SET tested_at = bell_now(), test_answer = $2
		WHERE id = $1`, id, db.Bounded(answer))); err != nil {
		return db.Wrap(err, "keep how the test went")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeDestinations})
}

// PinDestination keeps the host key that a destination showed at its first test.
func (q Q) PinDestination(ctx context.Context, id int64, pin string) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE destinations SET pin = $2, updated_at = bell_now() WHERE id = $1
		AND pin = ''`, id, pin)
	return db.Wrap(err, "pin the host key")
}

// DestinationUse is a job that sends to a destination.
type DestinationUse struct {
	Job     string     `db:"job"`
	Owner   string     `db:"owner"`
	On      bool       `db:"is_on"`
	Sent    int        `db:"sent"`
	Waiting int        `db:"waiting"`
	Failed  int        `db:"failed"`
	LastAt  *time.Time `db:"last_at"`
}

// DestinationUses lists the jobs that send to a destination, with what went there
// in the last days.
func (q Q) DestinationUses(ctx context.Context, id int64, days int) ([]DestinationUse, error) {
	uses := []DestinationUse{}
	err := sqlx.SelectContext(ctx, q.Ext, &uses, `WITH lately AS (
			SELECT job_id, count(*) FILTER (WHERE state = 'sent') AS sent, count(*) FILTER (WHERE state IN `+
		db.DeliveriesOpen+`) AS waiting,
				count(*) FILTER (WHERE state IN ('failed', 'bounced', 'unknown')) AS failed,
				max(settled_at) FILTER (WHERE state = 'sent') AS last_at
			FROM deliveries WHERE destination_id = $1 AND created_at > bell_now() - make_interval(days => $2)
			AND id >= month_end($2 + 31) GROUP BY job_id)
		SELECT j.name AS job, p.login AS owner, j.is_on, coalesce(l.sent, 0) AS sent, coalesce(l.waiting, 0) AS waiting,
		coalesce(l.failed, 0) AS failed, l.last_at
		FROM jobs j JOIN people p ON p.id = j.owner_id LEFT JOIN lately l ON l.job_id = j.id
		WHERE l.job_id IS NOT NULL OR EXISTS (SELECT 1 FROM job_uses u WHERE u.job_id = j.id AND u.kind = 'destination'
		AND u.id = $1)
		ORDER BY j.name LIMIT 500`, id, days)
	return uses, db.Wrap(err, "list what goes to the destination")
}

// KeptBackTotals counts what is kept back, by its reason.
func (q Q) KeptBackTotals(ctx context.Context) (map[job.KeptBack]int, error) {
	var rows []struct {
		Why job.KeptBack `db:"kept_back"`
		N   int          `db:"n"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT kept_back, count(*) AS n FROM deliveries
		WHERE phase = 'kept back' GROUP BY kept_back`)
	out := map[job.KeptBack]int{}
	for _, r := range rows {
		out[r.Why] = r.N
	}
	return out, db.Wrap(err, "count what is kept back")
}

// Watched are the numbers that a watcher from outside asks for.
type Watched struct {
	Open, Unreached, Resting, Waiting int
	KeptBack                          map[job.KeptBack]int
}

// Watched counts what needs somebody, and what waits.
func (q Q) Watched(ctx context.Context) (Watched, error) {
	var w Watched
	row := q.Ext.QueryRowxContext(ctx, `SELECT (SELECT count(*) FROM alerts WHERE state = 'open'),
		(SELECT count(*) FROM alerts WHERE unreached AND state <> 'closed'),
		(SELECT count(*) FROM destinations WHERE removed_at IS NULL AND rests_since IS NOT NULL),
		(SELECT count(*) FROM deliveries WHERE phase = 'ready')`)
	if err := row.Scan(&w.Open, &w.Unreached, &w.Resting, &w.Waiting); err != nil {
		return w, db.Wrap(err, "count what needs somebody")
	}
	var err error
	w.KeptBack, err = q.KeptBackTotals(ctx)
	return w, err
}
