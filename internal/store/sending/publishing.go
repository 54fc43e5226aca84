package sending

import (
	"context"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// What the service tells of itself is written by triggers of the database, beside what it tells of. One
// node at a time gives it numbers and makes deliveries of it, so that the order of the numbers is the order
// in which everybody sees it.

// PublishAlone tells whether this transaction is the only one that hands events of ours on.
func (t *Tx) PublishAlone(ctx context.Context) (alone bool, err error) {
	err = sqlx.GetContext(ctx, t.Ext, &alone,
		`SELECT pg_try_advisory_xact_lock(hashtextextended('ironbell publish', 0))`)
	return alone, db.Wrap(err, "be the only one that publishes")
}

// PublishAfterOthers waits until no other transaction hands events of ours on.
func (t *Tx) PublishAfterOthers(ctx context.Context) error {
	_, err := t.Ext.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtextextended('ironbell publish', 0))`)
	return db.Wrap(err, "wait for whoever publishes")
}

// NumberPublished gives numbers to events that have none, at most limit, and tells how many.
func (t *Tx) NumberPublished(ctx context.Context, limit int) (int64, error) {
	res, err := t.Ext.ExecContext(ctx, `WITH new AS MATERIALIZED (
			SELECT id, nextval('published_count') AS no FROM
			(SELECT id FROM published WHERE no IS NULL ORDER BY id LIMIT $1) s)
		UPDATE published p SET no = new.no FROM new WHERE p.id = new.id`, limit)
	if err != nil {
		return 0, db.Wrap(err, "number the events of ours")
	}
	n, err := res.RowsAffected()
	return n, db.Wrap(err, "number the events of ours")
}

// Subscribed is a subscription to be served.
type Subscribed struct {
	ID            int64                                   `db:"id"`
	Name          string                                  `db:"name"`
	Definition    db.Document[job.SubscriptionDefinition] `db:"definition"`
	DestinationID int64                                   `db:"destination_id"` // 0 when it was removed
	Mark          int64                                   `db:"mark"`
	Stands        string                                  `db:"stands"`
	Behind        bool                                    `db:"behind"` // something was published since
}

// AnySubscription tells whether anybody subscribed to events of ours, or did and may come back.
func (q Q) AnySubscription(ctx context.Context) (there bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &there, `SELECT EXISTS (SELECT 1 FROM subscriptions WHERE NOT gone)`)
	return there, db.Wrap(err, "see whether anybody subscribed")
}

// SubscriptionsBehind gives the subscriptions that are on and have not looked at all events yet.
func (q Q) SubscriptionsBehind(ctx context.Context) ([]Subscribed, error) {
	var out []Subscribed
	err := sqlx.SelectContext(ctx, q.Ext, &out, `SELECT s.id, s.name, s.definition, s.mark, s.stands,
			s.mark < coalesce((SELECT max(no) FROM published), 0) AS behind,
			coalesce((SELECT id FROM destinations WHERE id = record_id('destination', s.definition->>'destination')
			AND removed_at IS NULL), 0) AS destination_id
		FROM subscriptions s WHERE s.removed_at IS NULL AND NOT coalesce((s.definition->>'off')::boolean, false)
			AND (s.stands <> '' OR s.mark < coalesce((SELECT max(no) FROM published), 0)) ORDER BY s.id LIMIT 1000`)
	return out, db.Wrap(err, "find the subscriptions that are behind")
}

// LockSubscription reads one anew and keeps others from changing it; ok is false when it is off or gone.
func (t *Tx) LockSubscription(ctx context.Context, id int64) (s Subscribed, ok bool, err error) {
	var all []Subscribed
	err = sqlx.SelectContext(ctx, t.Ext, &all, `SELECT id, name, definition, mark, stands,
			mark < coalesce((SELECT max(no) FROM published), 0) AS behind,
			coalesce((SELECT d.id FROM destinations d WHERE d.id = record_id('destination', definition->>'destination')
			AND d.removed_at IS NULL), 0) AS destination_id
		FROM subscriptions WHERE id = $1 AND removed_at IS NULL
			AND NOT coalesce((definition->>'off')::boolean, false) FOR UPDATE`, id)
	if err != nil || len(all) == 0 {
		return s, false, db.Wrap(err, "lock the subscription")
	}
	return all[0], true, nil
}

// PublishedRow is an event of ours with the id by which others know it.
type PublishedRow struct {
	job.Published
	ID string `db:"uid"`
}

// PublishedAfter lists events of ours after a number, at most limit, in the order of their numbers.
func (q Q) PublishedAfter(ctx context.Context, no int64, limit int) ([]PublishedRow, error) {
	var out []PublishedRow
	err := sqlx.SelectContext(ctx, q.Ext, &out, `SELECT no, type, subject, at, data, uid FROM published WHERE no > $1
		ORDER BY no LIMIT $2`, no, limit)
	return out, db.Wrap(err, "list the events of ours")
}

// OnTheirWay counts the events of a subscription that have no outcome yet, by their subjects.
func (q Q) OnTheirWay(ctx context.Context, subscription int64) (bySubject map[string]int, n int, err error) {
	var rows []struct {
		About string `db:"about"`
		N     int    `db:"n"`
	}
	err = sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT about, count(*) AS n FROM deliveries
		WHERE subscription_id = $1 AND state IN `+db.DeliveriesOpen+` GROUP BY about`, subscription)
	bySubject = map[string]int{}
	for _, r := range rows {
		bySubject[r.About] = r.N
		n += r.N
	}
	return bySubject, n, db.Wrap(err, "count the events that are on their way")
}

// Marked notes up to which event a subscription was served, and why it stands still, when it does.
func (t *Tx) Marked(ctx context.Context, subscription, mark int64, stands string) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE subscriptions SET mark = $2, stands = $3 WHERE id = $1`, subscription, mark,
		db.Bounded(stands))
	return db.Wrap(err, "note how far the subscription is")
}

// StandsStill notes why nothing can be handed on to a subscription.
func (t *Tx) StandsStill(ctx context.Context, subscription int64, why string) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE subscriptions SET stands = $2 WHERE id = $1`, subscription, db.Bounded(why))
	return db.Wrap(err, "note why the subscription stands still")
}

// NextTurns lets go the events before which none about their subject is on its way any more, and tells
// how many, and whether any still wait for their turn.
func (t *Tx) NextTurns(ctx context.Context) (n int64, waiting bool, err error) {
	res, err := t.Ext.ExecContext(ctx, `WITH first AS (
			SELECT DISTINCT ON (subscription_id, about) id, kept_back, state FROM deliveries
			WHERE subscription_id IS NOT NULL AND state IN `+db.DeliveriesOpen+` ORDER BY subscription_id, about, id)
		UPDATE deliveries d SET ready_at = bell_now(), kept_back = 'event'
		WHERE d.id = ANY(ARRAY(SELECT id FROM first WHERE state = 'waiting' AND kept_back = 'turn'))`)
	if err != nil {
		return 0, false, db.Wrap(err, "let the next events go")
	}
	if n, err = res.RowsAffected(); err != nil {
		return n, false, db.Wrap(err, "let the next events go")
	}
	if err := sqlx.GetContext(ctx, t.Ext, &waiting, `SELECT EXISTS (SELECT 1 FROM deliveries
		WHERE subscription_id IS NOT NULL AND state IN `+db.DeliveriesOpen+` AND kept_back = 'turn')`); err != nil {
		return n, false, db.Wrap(err, "see what waits for its turn")
	}
	if n == 0 {
		return 0, waiting, nil
	}
	return n, waiting, t.Tell(ctx, db.Notice{Kind: job.NoticeDeliveries})
}

// TakeBack ends the events of a subscription that wait, and sets it back so that they follow again. What is
// being handed over goes on to its end.
func (t *Tx) TakeBack(ctx context.Context, subscription int64, why string) (int, error) {
	var all []int64
	if err := sqlx.SelectContext(ctx, t.Ext, &all, `UPDATE deliveries SET state = 'declined', kept_back = '', answer = $2,
			advice = '', class = '', settled_at = bell_clock()
		WHERE subscription_id = $1 AND state = 'waiting' AND phase IN ('ready', 'kept back')
		RETURNING published_no`, subscription, why); err != nil {
		return 0, db.Wrap(err, "take back the events that wait")
	}
	if len(all) == 0 {
		return 0, nil
	}
	_, err := t.Ext.ExecContext(ctx, `UPDATE subscriptions SET mark = least(mark,
		(SELECT min(no) - 1 FROM unnest($2::bigint[]) AS u(no))) WHERE id = $1`, subscription, all)
	return len(all), db.Wrap(err, "set the subscription back")
}

// ReplayFrom sets a subscription back to before the first event of ours since an instant, or to before a
// number when that is not 0. It tells the number of the first event that follows, 0 when there is none, and
// how many there are.
func (t *Tx) ReplayFrom(ctx context.Context, subscription int64, since time.Time, no int64) (first int64, n int, err error) {
	var row struct {
		First int64 `db:"first"`
		N     int   `db:"n"`
	}
	by, what := `at >= $1`, any(since)
	if no > 0 {
		by, what = `no >= $1`, no
	}
	// From the first one on in the order of numbers, which is not quite that of time.
	if err := sqlx.GetContext(ctx, t.Ext, &row, strings.Replace(`WITH f AS (SELECT min(no) AS no FROM published
			WHERE no IS NOT NULL AND BY)
		SELECT coalesce((SELECT no FROM f), 0) AS first, (SELECT count(*) FROM published, f WHERE published.no >= f.no) AS n`,
		"BY", by, 1), what); err != nil {
		return 0, 0, db.Wrap(err, "find the events to replay")
	}
	if row.First == 0 {
		return 0, 0, nil
	}
	_, err = t.Ext.ExecContext(ctx, `UPDATE subscriptions SET mark = least(mark, $2::bigint - 1) WHERE id = $1`, subscription,
		row.First)
	if err != nil {
		return 0, 0, db.Wrap(err, "set the subscription back")
	}
	return row.First, row.N, t.Tell(ctx, db.Notice{Kind: job.NoticePublished})
}

// Published lists events of ours before a number, the latest first; 0 is from the newest on.
func (q Q) Published(ctx context.Context, before int64, kind string, limit int) ([]job.Published, error) {
	out := []job.Published{}
	err := sqlx.SelectContext(ctx, q.Ext, &out, `SELECT no, type, subject, at, data FROM published
		WHERE no IS NOT NULL AND ($1::bigint = 0 OR no < $1) AND ($2 = '' OR type = $2) ORDER BY no DESC LIMIT $3`, before, kind, limit)
	return out, db.Wrap(err, "list the events of ours")
}
