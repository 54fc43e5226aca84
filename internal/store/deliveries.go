package store

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// NewMessage is a message with all that shall receive it, to be frozen.
type NewMessage struct {
	job.Message
	JobID     *int64
	Addresses []string
	Retry     job.Retry
	GiveUpAt  *time.Time
	IfUnknown job.IfUnknown
	Rehearsal bool
}

// Freeze writes a message and one delivery for each address, before anything
// leaves. Addresses that are named twice get one.
func (t *Tx) Freeze(ctx context.Context, m NewMessage) (int64, error) {
	var id int64
	err := sqlx.GetContext(ctx, t.ext, &id, `INSERT INTO messages (id, run_id, alert_id, part, task, message_id, subject, destination_id, key, size, sha256)
		VALUES (month_id('message_count'), $1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id`,
		m.RunID, m.AlertID, m.Part, m.Task, m.MessageID, m.Subject, m.DestinationID, m.Key, m.Size, m.SHA256)
	if err != nil {
		return 0, wrap(err, "write the message")
	}
	_, err = t.ext.ExecContext(ctx, `INSERT INTO deliveries (id, message_id, run_id, alert_id, job_id, destination_id, address, state, retry_times, retry_wait, retry_growth, retry_longest, give_up_at, if_unknown, rehearsal)
		SELECT month_id('delivery_count'), $1, $2, $3, $4, $5, address, 'waiting', $6, $7, $8, $9, $10, $11, $12
		FROM (SELECT DISTINCT ON (lower(address)) address FROM unnest($13::text[]) AS u(address)) a`,
		id, m.RunID, m.AlertID, m.JobID, m.DestinationID, m.Retry.Times, time.Duration(m.Retry.Wait).Seconds(), m.Retry.Growth, time.Duration(m.Retry.Longest).Seconds(),
		m.GiveUpAt, m.IfUnknown, m.Rehearsal, m.Addresses)
	if err != nil {
		return 0, wrap(err, "write the deliveries")
	}
	return id, t.Tell(ctx, Notice{Kind: "deliveries"})
}

// Sending is a delivery held by a lease, with what is needed to hand it over.
type Sending struct {
	ID            int64         `db:"id"`
	LeaseNo       int64         `db:"lease_no"`
	MessageRow    int64         `db:"message_row"`
	MessageID     string        `db:"message_id"`
	Key           string        `db:"key"`
	Size          int64         `db:"size"`
	RunID         *job.RunID    `db:"run_id"`
	AlertID       *int64        `db:"alert_id"`
	JobID         *int64        `db:"job_id"`
	DestinationID int64         `db:"destination_id"`
	Address       string        `db:"address"`
	Tries         int           `db:"tries"`
	RetryTimes    int           `db:"retry_times"`
	RetryWait     float64       `db:"retry_wait"`
	RetryGrowth   float64       `db:"retry_growth"`
	RetryLongest  float64       `db:"retry_longest"`
	Rehearsal     bool          `db:"rehearsal"`
	GiveUpAt      *time.Time    `db:"give_up_at"`
	IfUnknown     job.IfUnknown `db:"if_unknown"`
}

// Retry is how passing failures of this delivery are tried again.
func (s Sending) Retry() job.Retry {
	return job.Retry{Times: s.RetryTimes, Wait: seconds(s.RetryWait), Growth: s.RetryGrowth, Longest: seconds(s.RetryLongest)}
}

func seconds(n float64) job.Duration { return job.Duration(n * float64(time.Second)) }

// ClaimDeliveries takes up to limit deliveries that are ready, oldest first, but
// for those whose destination is frozen, or has all the lines that its limit
// allows. Alerts go out through any freeze.
func (q q) ClaimDeliveries(ctx context.Context, node string, lease time.Duration, limit int) ([]Sending, error) {
	var out []Sending
	err := sqlx.SelectContext(ctx, q.ext, &out, `WITH frozen AS (
			SELECT label FROM freezes WHERE lifted_at IS NULL AND from_at <= now() AND (to_at IS NULL OR to_at > now())
		), shut AS (
			SELECT t.id, l.label IS NOT NULL AS frozen FROM destinations t LEFT JOIN frozen l ON l.label = 'destination:' || t.name
				LEFT JOIN (SELECT substr(l.key, 13) AS name, l.value::int AS most FROM settings s, jsonb_each_text(s.value) l WHERE s.key = 'limits' AND l.key LIKE 'destination:%') m ON m.name = t.name
			WHERE l.label IS NOT NULL OR m.most <= (SELECT count(DISTINCT line) FROM deliveries d WHERE d.state IN ('sending', 'offered') AND d.destination_id = t.id)
		), picked AS MATERIALIZED (
			SELECT id FROM deliveries WHERE state = 'waiting' AND ready_at <= now()
				AND destination_id NOT IN (SELECT id FROM shut WHERE alert_id IS NULL OR NOT frozen) AND (alert_id IS NOT NULL OR NOT EXISTS (SELECT 1 FROM frozen WHERE label = 'service'))
			ORDER BY ready_at, id LIMIT $1 FOR UPDATE SKIP LOCKED
		), lines AS MATERIALIZED (SELECT nextval('line_count') AS line)
		UPDATE deliveries d SET state = 'sending', tries = d.tries + 1, lease_no = d.lease_no + 1, node = $3, lease_until = now() + make_interval(secs => $2), line = lines.line
		FROM picked p, messages m, lines WHERE d.id = p.id AND m.id = d.message_id
		RETURNING d.id, d.lease_no, m.id AS message_row, m.message_id, m.key, m.size, d.run_id, d.alert_id, d.job_id, d.destination_id, d.address, d.tries,
			d.retry_times, d.retry_wait, d.retry_growth, d.retry_longest, d.rehearsal, d.give_up_at, d.if_unknown`, limit, lease.Seconds(), node)
	return out, wrap(err, "claim deliveries")
}

// RenewDeliveries prolongs the leases of the deliveries that a node is handing over.
func (q q) RenewDeliveries(ctx context.Context, lease time.Duration, worked []Sending) error {
	ids, leases := make([]int64, len(worked)), make([]int64, len(worked))
	for i, s := range worked {
		ids[i], leases[i] = s.ID, s.LeaseNo
	}
	_, err := q.ext.ExecContext(ctx, `UPDATE deliveries d SET lease_until = now() + make_interval(secs => $1)
		FROM unnest($2::bigint[], $3::bigint[]) AS w(id, lease_no)
		WHERE d.id = w.id AND d.lease_no = w.lease_no AND d.state IN ('sending', 'offered') AND d.lease_until > now()`, lease.Seconds(), ids, leases)
	return wrap(err, "renew the deliveries' leases")
}

// Offer records that the other side may accept from now on. It must be
// committed before the last byte goes out; ErrStale forbids to go on.
func (q q) Offer(ctx context.Context, s Sending) error {
	return one(q.ext.ExecContext(ctx, `UPDATE deliveries SET state = 'offered', offered_at = clock_timestamp()
		WHERE id = $1 AND lease_no = $2 AND state = 'sending' AND lease_until > now()`, s.ID, s.LeaseNo))
}

// Receipt records that the other side accepted. It asks for no lease: what the
// other side said counts, whoever heard it, and may settle an unknown.
func (t *Tx) Receipt(ctx context.Context, id int64, answer string) error {
	_, err := t.ext.ExecContext(ctx, `UPDATE deliveries SET state = 'sent', answer = $2, class = '', advice = '', settled_at = clock_timestamp(), lease_until = NULL
		WHERE id = $1 AND state IN ('offered', 'unknown')`, id, answer)
	return wrap(err, "record the receipt")
}

// Ended is how a try of a delivery ended without a receipt.
type Ended struct {
	State  job.DeliveryState // waiting, failed or unknown
	Wait   time.Duration     // until the next try, when waiting
	Answer string
	Advice string
	Class  string

	Untried bool // it was claimed, and given back before anything was done
}

// EndSending records how a try ended, for the holder of the lease.
func (t *Tx) EndSending(ctx context.Context, s Sending, e Ended) error {
	if err := one(t.ext.ExecContext(ctx, `UPDATE deliveries SET state = $3, ready_at = now() + make_interval(secs => $4), answer = $5, advice = $6, class = $7,
			settled_at = CASE WHEN $3 = 'waiting' THEN NULL ELSE clock_timestamp() END, lease_until = NULL, tries = tries - CASE WHEN $8 THEN 1 ELSE 0 END
		WHERE id = $1 AND lease_no = $2 AND state IN ('sending', 'offered')`,
		s.ID, s.LeaseNo, e.State, e.Wait.Seconds(), e.Answer, e.Advice, e.Class, e.Untried)); err != nil {
		return err
	}
	if e.State != job.DeliveryWaiting {
		return nil
	}
	return t.Tell(ctx, Notice{Kind: "deliveries"}) // whoever sleeps must reckon anew for how long
}

// LostSendings locks the deliveries whose leases ran out: those that were
// offered, whose answer is lost, and those that were not, which are safe to repeat.
func (t *Tx) LostSendings(ctx context.Context, limit int) (offered, safe []Sending, err error) {
	var lost []struct {
		Sending
		State job.DeliveryState `db:"state"`
	}
	err = sqlx.SelectContext(ctx, t.ext, &lost, `SELECT id, lease_no, message_id AS message_row, run_id, alert_id, job_id, destination_id, address, tries,
			retry_times, retry_wait, retry_growth, retry_longest, rehearsal, give_up_at, if_unknown, state FROM deliveries
		WHERE state IN ('sending', 'offered') AND lease_until < now() ORDER BY lease_until LIMIT $1 FOR UPDATE SKIP LOCKED`, limit)
	for _, l := range lost {
		if l.State == job.DeliveryOffered {
			offered = append(offered, l.Sending)
		} else {
			safe = append(safe, l.Sending)
		}
	}
	return offered, safe, wrap(err, "find the deliveries that were lost")
}

const deliveryColumns = `d.id, d.message_id, d.run_id, d.alert_id, d.job_id, d.destination_id, t.name AS destination, d.address, m.subject, m.message_id AS mail_id, d.state, d.tries,
	d.ready_at, d.answer, d.advice, d.class, d.offered_at, d.settled_at, d.created_at
	FROM deliveries d JOIN messages m ON m.id = d.message_id JOIN destinations t ON t.id = d.destination_id`

// DeliveryFilter chooses deliveries of a list. Zero fields do not restrict.
type DeliveryFilter struct {
	RunID  job.RunID
	States []string
	Limit  int
}

// Deliveries lists deliveries, newest first.
func (q q) Deliveries(ctx context.Context, f DeliveryFilter) ([]job.Delivery, error) {
	list := []job.Delivery{}
	where, args := `true`, []any{f.Limit}
	if f.RunID != 0 {
		args = append(args, f.RunID)
		where += fmt.Sprintf(` AND d.run_id = $%d`, len(args))
	}
	if len(f.States) > 0 {
		args = append(args, f.States)
		where += fmt.Sprintf(` AND d.state = ANY($%d)`, len(args))
	}
	err := sqlx.SelectContext(ctx, q.ext, &list, `SELECT `+deliveryColumns+` WHERE `+where+` ORDER BY d.id DESC LIMIT $1`, args...)
	return list, wrap(err, "list the deliveries")
}

// LockDelivery reads a delivery and keeps others from moving it.
func (t *Tx) LockDelivery(ctx context.Context, id int64) (job.Delivery, error) {
	var d job.Delivery
	err := sqlx.GetContext(ctx, t.ext, &d, `SELECT `+deliveryColumns+` WHERE d.id = $1 FOR UPDATE OF d`, id)
	return d, found(err, "delivery", fmt.Sprint(id))
}

// SettleDelivery gives a locked delivery whose answer was lost the state that a
// person knows it to have.
func (t *Tx) SettleDelivery(ctx context.Context, id int64, state job.DeliveryState, answer string) error {
	return one(t.ext.ExecContext(ctx, `UPDATE deliveries SET state = $2, answer = $3, class = '', advice = '', settled_at = clock_timestamp() WHERE id = $1`, id, state, answer))
}

// Resend lets a locked delivery go out again, as a new message of the same
// bytes with an id of its own.
func (t *Tx) Resend(ctx context.Context, id int64, messageID string) error {
	if err := one(t.ext.ExecContext(ctx, `WITH again AS (
			INSERT INTO messages (id, run_id, alert_id, part, task, message_id, subject, destination_id, key, size, sha256)
			SELECT month_id('message_count'), m.run_id, m.alert_id, m.part, m.task, $2, m.subject, m.destination_id, m.key, m.size, m.sha256
			FROM deliveries d JOIN messages m ON m.id = d.message_id WHERE d.id = $1 RETURNING id)
		UPDATE deliveries SET message_id = again.id, state = 'waiting', tries = 0, ready_at = now(), answer = '', advice = '', class = '',
			offered_at = NULL, settled_at = NULL, lease_until = NULL, lease_no = lease_no + 1
		FROM again WHERE deliveries.id = $1`, id, messageID)); err != nil {
		return wrap(err, "send again")
	}
	return t.Tell(ctx, Notice{Kind: "deliveries"})
}
