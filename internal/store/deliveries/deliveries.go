package deliveries

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"

	"github.com/jmoiron/sqlx"
)

// DeliveryFilter chooses deliveries of a list. Zero fields do not restrict.
type DeliveryFilter struct {
	RunID       job.RunID
	States      []string
	Destination string
	Address     string // exactly, in any case of its letters
	KeptBack    job.KeptBack
	Before      int64 // ids below this one
	Limit       int
}

// DeliveryCounts counts the deliveries of a run by state.
func (q Q) DeliveryCounts(ctx context.Context, run job.RunID) (map[job.DeliveryState]int, error) {
	var rows []struct {
		State job.DeliveryState `db:"state"`
		N     int               `db:"n"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT state, count(*) AS n FROM deliveries WHERE run_id = $1
		GROUP BY state`, run)
	counts := make(map[job.DeliveryState]int, len(rows))
	for _, r := range rows {
		counts[r.State] = r.N
	}
	return counts, db.Wrap(err, "count the run's deliveries")
}

// Deliveries lists deliveries, newest first.
func (q Q) Deliveries(ctx context.Context, f DeliveryFilter) ([]job.Delivery, error) {
	list := []job.Delivery{}
	where, args := `true`, []any{f.Limit}
	if f.RunID != 0 {
		args = append(args, f.RunID)
		where += fmt.Sprintf(` AND d.run_id = $%d`, len(args))
	}
	if len(f.States) > 0 {
		where += ` AND ` + amongStates(f.States)
	}
	if f.Destination != "" {
		args = append(args, f.Destination)
		where += fmt.Sprintf(` AND d.destination_id = (SELECT id FROM destinations WHERE name = $%d)`, len(args))
	}
	if f.Address != "" {
		args = append(args, f.Address)
		where += fmt.Sprintf(` AND lower(d.address) = lower($%d)`, len(args))
	}
	if f.KeptBack != "" {
		args = append(args, f.KeptBack)
		where += fmt.Sprintf(` AND d.phase = 'kept back' AND d.kept_back = $%d`, len(args))
	}
	if f.Before > 0 {
		args = append(args, f.Before)
		where += fmt.Sprintf(` AND d.id < $%d`, len(args))
	}
	err := sqlx.SelectContext(ctx, q.Ext, &list, `SELECT `+history.DeliveryColumns+` WHERE `+where+` ORDER BY d.id DESC
		LIMIT $1`, args...)
	return list, db.Wrap(err, "list the deliveries")
}

// DeliveriesOfRun lists the deliveries of a run, at most so many: first those that were not
// sent, however many others there are. It is one statement, so that one that moves
// meanwhile is neither left out nor listed twice.
func (q Q) DeliveriesOfRun(ctx context.Context, id job.RunID, limit int) ([]job.Delivery, error) {
	list := []job.Delivery{}
	unsent := amongStates([]string{
		string(job.DeliveryWaiting), string(job.DeliverySending), string(job.DeliveryOffered),
		string(job.DeliveryTaken),
		string(job.DeliveryFailed), string(job.DeliveryBounced), string(job.DeliveryUnknown),
		string(job.DeliveryDeclined),
	})
	err := sqlx.SelectContext(ctx, q.Ext, &list, `SELECT * FROM (
			(SELECT `+history.DeliveryColumns+` WHERE d.run_id = $1 AND `+unsent+` ORDER BY d.id DESC LIMIT $2)
			UNION ALL (SELECT `+history.DeliveryColumns+` WHERE d.run_id = $1 AND d.state = 'sent' ORDER BY d.id DESC
				LIMIT $2)) d
		ORDER BY d.state = 'sent', d.id DESC LIMIT $2`, id, limit)
	return list, db.Wrap(err, "list the deliveries of a run")
}

// amongStates says in which states deliveries are looked for. What went wrong, and
// what is open, is looked for by its phase too: the indexes hold nothing else.
func amongStates(states []string) string {
	var known, phases []string
	for _, s := range states {
		switch state := job.DeliveryState(s); state {
		case job.DeliveryFailed, job.DeliveryBounced, job.DeliveryUnknown, job.DeliveryTaken, job.DeliveryDeclined:
			phases = append(phases, "'"+s+"'")
		case job.DeliveryWaiting:
			phases = append(phases, "'ready'", "'kept back'")
		case job.DeliverySending, job.DeliveryOffered:
			phases = append(phases, "'leased'")
		case job.DeliverySent:
		default:
			continue
		}
		known = append(known, "'"+s+"'")
	}
	if len(known) == 0 {
		return `false`
	}
	among := `d.state IN (` + strings.Join(known, ", ") + `)`
	if !slices.Contains(states, string(job.DeliverySent)) {
		among += ` AND d.phase IN (` + strings.Join(phases, ", ") + `)`
	}
	return among
}

// LockDelivery reads a delivery and keeps others from moving it.
func (t *Tx) LockDelivery(ctx context.Context, id int64) (job.Delivery, error) {
	var d job.Delivery
	err := sqlx.GetContext(ctx, t.Ext, &d, `SELECT `+history.DeliveryColumns+` WHERE d.id = $1 FOR UPDATE OF d`, id)
	return d, db.Found(err, "delivery", fmt.Sprint(id))
}

// SettleDelivery gives a locked delivery whose answer was lost the state that a
// person knows it to have.
func (t *Tx) SettleDelivery(ctx context.Context, id int64, state job.DeliveryState, answer string) error {
	return db.One(t.Ext.ExecContext(ctx, `UPDATE deliveries SET state = $2, answer = $3, class = '', advice = '',
		settled_at = bell_clock() WHERE id = $1`, id, state, answer))
}

// Resend lets a locked delivery go out again at once, as a new message of the same
// bytes with an id of its own; with the same when none is given. Its tries are counted anew.
func (t *Tx) Resend(ctx context.Context, id int64, messageID string) error {
	return t.again(ctx, id, messageID, nil)
}

// ResendLater is Resend after a wait that a policy gave: the tries made still count, and so does
// the time until which is tried.
func (t *Tx) ResendLater(ctx context.Context, id int64, messageID string, wait time.Duration) error {
	secs := wait.Seconds()
	return t.again(ctx, id, messageID, &secs)
}

// again lets a locked delivery go out again, after so many seconds within its tries; at once and anew without wait.
func (t *Tx) again(ctx context.Context, id int64, messageID string, wait *float64) error {
	var removed *time.Time
	if err := sqlx.GetContext(ctx, t.Ext, &removed, `SELECT m.removed_at FROM deliveries d
		JOIN messages m ON m.id = d.message_id WHERE d.id = $1`, id); err != nil {
		return db.Found(err, "delivery", fmt.Sprint(id))
	}
	if removed != nil {
		return &fault.Invalid{Wrong: []fault.Wrong{{Sentence: fmt.Sprintf("what was to be sent was kept until %s and "+
			"is gone; run the job again for that date", removed.UTC().Format("2 January 2006"))}}}
	}
	if err := db.One(t.Ext.ExecContext(ctx, `WITH again AS (
			INSERT INTO messages (id, run_id, alert_id, part, task, message_id, subject, destination_id, key, size,
			sha256, name, media_type, if_exists, stamp, may_leave, body, subscription_id)
			SELECT month_id('message_count'), m.run_id, m.alert_id, m.part, m.task, coalesce(nullif($2, ''), m.message_id), m.subject, m.destination_id,
			m.key, m.size, m.sha256, m.name, m.media_type, m.if_exists, m.stamp, m.may_leave, m.body, m.subscription_id
			FROM deliveries d JOIN messages m ON m.id = d.message_id WHERE d.id = $1 RETURNING id)
		UPDATE deliveries SET message_id = again.id, state = 'waiting', answer = '', advice = '', class = '',
			tries = CASE WHEN $3::float8 IS NULL THEN 0 ELSE tries END,
			ready_at = bell_now() + make_interval(secs => coalesce($3::float8, 0)),
			offered_at = NULL, settled_at = NULL, lease_until = NULL, lease_no = lease_no + 1, went_to = '',
			taken_as = '', ask_at = NULL, asked = 0, yes_until = NULL, allowed_by = '',
			give_up_at = CASE WHEN $3::float8 IS NULL THEN greatest(give_up_at, bell_now() + interval '1 day')
				ELSE give_up_at END,
			kept_back = CASE WHEN deliveries.subscription_id IS NOT NULL THEN 'event' WHEN (SELECT rests_since FROM destinations
			WHERE id = deliveries.destination_id) IS NULL THEN '' ELSE 'rest' END
		FROM again WHERE deliveries.id = $1`, id, messageID, wait)); err != nil {
		return db.Wrap(err, "send again")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeDeliveries})
}

// ResendFailed lets all deliveries of a run that failed or bounced go out again,
// as new messages of the same bytes, and tells how many. name makes the id of a new
// message out of the old one's.
func (t *Tx) ResendFailed(ctx context.Context, run job.RunID, name func(old string) string) (int, error) {
	var list []struct {
		ID   int64  `db:"id"`
		Mail string `db:"message_id"`
	}
	const most = 10_000
	if err := sqlx.SelectContext(ctx, t.Ext, &list, `SELECT d.id, m.message_id FROM deliveries d
		JOIN messages m ON m.id = d.message_id
		WHERE d.run_id = $1 AND d.phase IN ('failed', 'bounced', 'declined') ORDER BY d.id LIMIT $2
		FOR UPDATE OF d`, run, most); err != nil {
		return 0, db.Wrap(err, "find what failed")
	}
	for _, d := range list {
		if err := t.Resend(ctx, d.ID, name(d.Mail)); err != nil {
			return 0, err
		}
	}
	return len(list), nil
}

// ResendUnknown lets events of ours go out again of which nobody knows whether they arrived, at most limit: their
// ids tell the other side that it has them. Nodes of the version before leave such ones behind.
func (t *Tx) ResendUnknown(ctx context.Context, limit int) error {
	var ids []int64
	if err := sqlx.SelectContext(ctx, t.Ext, &ids, `SELECT id FROM deliveries WHERE phase = 'unknown' AND subscription_id IS NOT NULL
		ORDER BY id LIMIT $1 FOR UPDATE SKIP LOCKED`, limit); err != nil {
		return db.Wrap(err, "find the events that are unknown")
	}
	for _, id := range ids {
		if err := t.Resend(ctx, id, ""); err != nil {
			return err
		}
	}
	return nil
}

// AllowDelivery lets a delivery go that waited for a second person's yes.
func (t *Tx) AllowDelivery(ctx context.Context, id int64, who string) error {
	if err := db.One(t.Ext.ExecContext(ctx, `UPDATE deliveries d
		SET allowed_by = $2, yes_until = NULL, ready_at = bell_now(),
		give_up_at = greatest(give_up_at, bell_now() + interval '1 day'),
			kept_back = CASE WHEN (SELECT rests_since FROM destinations
			WHERE id = d.destination_id) IS NULL THEN '' ELSE 'rest' END
		WHERE id = $1 AND state = 'waiting'`, id, who)); err != nil {
		return db.Wrap(err, "let the delivery go")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeDeliveries})
}

// ReleaseSilent lets go, or gives up, what was kept back since nothing left the
// installation. It gives the runs that it belongs to.
func (t *Tx) ReleaseSilent(ctx context.Context, send bool, who string) (n int64, runs []job.RunID, err error) {
	var rows []*job.RunID
	if err := sqlx.SelectContext(ctx, t.Ext, &rows, `UPDATE deliveries
		SET kept_back = CASE WHEN subscription_id IS NULL THEN '' ELSE 'event' END, ready_at = bell_now(), give_up_at = greatest(give_up_at, bell_now() + interval '1 day'),
		allowed_by = $2,
			state = CASE WHEN $1 THEN 'waiting' ELSE 'failed' END,
			answer = CASE WHEN $1 THEN answer ELSE 'dropped by ' || $2 END,
			settled_at = CASE WHEN $1 THEN NULL ELSE bell_clock() END
		WHERE phase = 'kept back' AND kept_back = 'silent' RETURNING run_id`, send, who); err != nil {
		return 0, nil, db.Wrap(err, "release what was kept back")
	}
	seen := map[job.RunID]bool{}
	for _, r := range rows {
		if r != nil && !seen[*r] {
			seen[*r] = true
			runs = append(runs, *r)
		}
	}
	return int64(len(rows)), runs, t.Tell(ctx, db.Notice{Kind: job.NoticeDeliveries})
}
