package sending

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Recipient is one who shall receive a message.
type Recipient struct {
	Address  string
	PersonID int64        // 0 for an address of nobody that we know
	MeantFor string       // when it is redirected
	KeptBack job.KeptBack // when it is not to go out yet
	Bad      string       // why it cannot be an address: its delivery has failed already
}

// NewMessage is a message with all that shall receive it, to be frozen.
type NewMessage struct {
	job.Message
	JobID     *int64
	To        []Recipient
	Retry     job.Retry
	GiveUpAt  *time.Time
	IfUnknown job.IfUnknown
	Rehearsal bool
	Body      []byte     // in place of a file in the store of artifacts
	ReadyAt   *time.Time // when it may go out; at once when nil

	SubscriptionID *int64 // of an event of ours
	PublishedNo    int64  // its number
	About          string // its subject
}

// alert is the alert that it is about. That of an event of ours has the number 0: nodes of the version before
// know no delivery that belongs to neither a run nor an alert.
func (m NewMessage) alert() *int64 {
	if m.SubscriptionID != nil {
		return new(int64)
	}
	return m.AlertID
}

// PutMessage writes a message and one delivery for each address, before anything
// leaves. Addresses that are named twice get one.
func (t *Tx) PutMessage(ctx context.Context, m NewMessage) (int64, error) {
	var id int64
	err := sqlx.GetContext(ctx, t.Ext, &id, `INSERT INTO messages (id, run_id, alert_id, part, task, message_id,
		subject, destination_id, key, size, sha256, name, media_type, if_exists, stamp, may_leave, body, subscription_id)
		VALUES (month_id('message_count'), $1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17)
		RETURNING id`,
		m.RunID, m.AlertID, m.Part, m.Task, m.MessageID, m.Subject, m.DestinationID, m.Key, m.Size, m.SHA256, m.Name,
		m.MediaType, m.IfExists, m.Stamp, m.MayLeave, m.Body, m.SubscriptionID)
	if err != nil {
		return 0, db.Wrap(err, "write the message")
	}
	var address, meant, kept, bad []string
	var people []int64
	for _, r := range m.To {
		address, meant, kept, people, bad = append(address, r.Address), append(meant, r.MeantFor),
			append(kept, string(r.KeptBack)), append(people, r.PersonID), append(bad, db.Bounded(r.Bad))
	}
	_, err = t.Ext.ExecContext(ctx, `INSERT INTO deliveries (id, message_id, run_id, alert_id, job_id, destination_id,
		part, address, meant_for, person_id, kept_back, state, answer, advice, class, settled_at, ready_at,
			retry_times, retry_wait, retry_growth, retry_longest, give_up_at, if_unknown, rehearsal, subscription_id,
			published_no, about)
		SELECT month_id('delivery_count'), $1, $2, $3, $4, $5, $6, address, meant, nullif(person, 0),
			CASE WHEN bad <> '' THEN '' WHEN kept <> '' THEN kept WHEN $20::bigint IS NOT NULL THEN 'event' WHEN (SELECT rests_since FROM destinations
			WHERE id = $5) IS NOT NULL THEN 'rest' ELSE '' END,
			CASE WHEN bad <> '' THEN 'failed' ELSE 'waiting' END, bad,
			CASE WHEN bad <> '' THEN 'Correct it in the job, or where it comes from.' ELSE '' END,
			CASE WHEN bad <> '' THEN 'lasting' ELSE '' END, CASE WHEN bad <> '' THEN bell_clock() END,
			coalesce($19::timestamptz, bell_now()), $7, $8, $9, $10, $11, $12, $13, $20, nullif($21::bigint, 0), $22
		FROM (SELECT DISTINCT ON (lower(address), lower(meant)) *
		FROM unnest($14::text[], $15::text[], $16::text[], $17::bigint[], $18::text[]) WITH ORDINALITY AS u(address,
		meant, kept, person, bad, n) ORDER BY lower(address), lower(meant), n) a ORDER BY n`,
		id, m.RunID, m.alert(), m.JobID, m.DestinationID, m.Part, m.Retry.Times, time.Duration(m.Retry.Wait).Seconds(),
		m.Retry.Growth, time.Duration(m.Retry.Longest).Seconds(),
		m.GiveUpAt, m.IfUnknown, m.Rehearsal, address, meant, kept, people, bad, m.ReadyAt, m.SubscriptionID,
		m.PublishedNo, m.About)
	if err != nil {
		return 0, db.Wrap(err, "write the deliveries")
	}
	return id, t.Tell(ctx, db.Notice{Kind: job.NoticeDeliveries})
}

// Statements about several deliveries lock them in the order of their ids, so that
// none waits for another that waits for it.

// byMonth sorts what concerns deliveries by the tables that hold them, each in the
// order of their ids. What is written for each single delivery names its table:
// opening those of all months costs more than the write.
func byMonth[T any](all []T, id func(T) int64) map[string][]T {
	slices.SortFunc(all, func(a, b T) int { return cmp.Compare(id(a), id(b)) })
	out := map[string][]T{}
	for _, one := range all {
		table := fmt.Sprintf("deliveries_%04d", id(one)/10_000_000_000)
		out[table] = append(out[table], one)
	}
	return out
}

// Sending is a delivery held by a lease, with what is needed to hand it over.
type Sending struct {
	ID            int64         `db:"id"`
	LeaseNo       int64         `db:"lease_no"`
	MessageRow    int64         `db:"message_row"`
	MessageID     string        `db:"message_id"`
	Key           string        `db:"key"`
	Body          []byte        `db:"body"` // in place of a file
	Size          int64         `db:"size"`
	RunID         *job.RunID    `db:"run_id"`
	AlertID       *int64        `db:"alert_id"`
	JobID         *int64        `db:"job_id"`
	Subscription  *int64        `db:"subscription_id"` // of an event of ours
	DestinationID int64         `db:"destination_id"`
	Part          int           `db:"part"`
	PersonID      *int64        `db:"person_id"`
	Address       string        `db:"address"`
	Name          string        `db:"name"`
	MediaType     string        `db:"media_type"`
	SHA256        string        `db:"sha256"`
	IfExists      job.IfExists  `db:"if_exists"`
	Stamp         string        `db:"stamp"`
	MayLeave      bool          `db:"may_leave"`
	Tries         int           `db:"tries"`
	RetryTimes    int           `db:"retry_times"`
	RetryWait     float64       `db:"retry_wait"`
	RetryGrowth   float64       `db:"retry_growth"`
	RetryLongest  float64       `db:"retry_longest"`
	Rehearsal     bool          `db:"rehearsal"`
	GiveUpAt      *time.Time    `db:"give_up_at"`
	IfUnknown     job.IfUnknown `db:"if_unknown"`

	Gate int64 `db:"-"` // the number of the gate by which it was let through
}

// Retry is how passing failures of this delivery are tried again.
func (s Sending) Retry() job.Retry {
	return job.Retry{
		Times: s.RetryTimes, Wait: seconds(s.RetryWait), Growth: s.RetryGrowth, Longest: seconds(s.RetryLongest),
	}
}

func seconds(n float64) job.Duration { return job.Duration(n * float64(time.Second)) }

// alertOf is the alert that a delivery d is about: none when it is an event of ours.
const alertOf = `CASE WHEN d.subscription_id IS NULL THEN d.alert_id END`

// ReadyDestinations is a part of a recursive query: the destinations for which
// something is ready, one step through the index for each.
const ReadyDestinations = `ready_for AS (
			(SELECT destination_id FROM deliveries WHERE phase = 'ready' ORDER BY destination_id LIMIT 1)
			UNION ALL
			SELECT (SELECT d.destination_id FROM deliveries d WHERE d.phase = 'ready'
			AND d.destination_id > r.destination_id ORDER BY d.destination_id LIMIT 1) FROM ready_for r
			WHERE r.destination_id IS NOT NULL
		)`

// ClaimDeliveries takes deliveries that are ready: for each of at most so many
// destinations up to limit of those about alerts, and of all others, the oldest
// first. It leaves alone those that are kept back, those to the destinations left
// out, and those whose destination is frozen, or has all the lines that its limit
// allows. Alerts go out through any freeze.
func (q Q) ClaimDeliveries(ctx context.Context, node string, lease time.Duration, limit, destinations int,
	leftOut []int64,
) ([]Sending, error) {
	var out []Sending
	err := sqlx.SelectContext(ctx, q.Ext, &out, `WITH RECURSIVE `+ReadyDestinations+`, frozen AS (
			SELECT label FROM freezes WHERE lifted_at IS NULL AND from_at <= bell_now() AND (to_at IS NULL OR to_at > bell_now())
		), most AS (
			SELECT substr(l.key, 13) AS name, l.value::int AS lines FROM settings s, jsonb_each_text(s.value) l WHERE s.key = 'limits' AND l.key LIKE 'destination:%'
		), open AS MATERIALIZED (
			SELECT t.id, EXISTS (SELECT 1 FROM frozen WHERE label IN ('service', 'destination:' || t.name)) AS frozen
			FROM ready_for r JOIN destinations t ON t.id = r.destination_id LEFT JOIN most m ON m.name = t.name
			WHERE t.rests_since IS NULL AND t.id <> ALL($4)
				-- Those whose retries all lie ahead have no turn: they would take it from the others.
				AND EXISTS (SELECT 1 FROM deliveries n WHERE n.phase = 'ready' AND n.destination_id = t.id AND n.ready_at <= bell_now())
				AND CASE WHEN m.lines IS NULL THEN true ELSE m.lines > (SELECT count(DISTINCT line) FROM deliveries d WHERE d.phase = 'leased' AND d.destination_id = t.id) END
			ORDER BY random() LIMIT $5
		), alerts AS MATERIALIZED (
			SELECT p.id FROM open o CROSS JOIN LATERAL (SELECT d.id FROM deliveries d WHERE d.phase = 'ready' AND d.alert_id IS NOT NULL AND d.subscription_id IS NULL AND d.destination_id = o.id AND d.ready_at <= bell_now()
				ORDER BY d.ready_at, d.id LIMIT $1 FOR UPDATE SKIP LOCKED) p
		), others AS MATERIALIZED (
			SELECT p.id FROM open o CROSS JOIN LATERAL (SELECT d.id FROM deliveries d WHERE d.phase = 'ready' AND (d.alert_id IS NULL OR d.subscription_id IS NOT NULL) AND d.destination_id = o.id AND d.ready_at <= bell_now() AND NOT o.frozen
				ORDER BY d.ready_at, d.id LIMIT $1 FOR UPDATE SKIP LOCKED) p
		), picked AS (SELECT id FROM alerts UNION ALL SELECT id FROM others
		), lines AS MATERIALIZED (SELECT nextval('line_count') AS line), claimed AS (
			-- An array and not a join: nobody knows beforehand how many are picked, and a join would read all of the month.
			UPDATE deliveries d SET state = 'sending', tries = d.tries + 1, lease_no = d.lease_no + 1, node = $3, lease_until = now() + make_interval(secs => $2), line = lines.line
			FROM lines WHERE d.id = ANY(ARRAY(SELECT id FROM picked)) RETURNING d.*
		)
		SELECT d.id, d.lease_no, m.id AS message_row, m.message_id, m.key, m.body, m.size, d.run_id, `+alertOf+` AS alert_id, d.job_id, d.destination_id, d.part, d.person_id, d.address, d.tries, m.name, m.media_type, m.sha256, m.if_exists, m.stamp, m.may_leave,
			d.retry_times, d.retry_wait, d.retry_growth, d.retry_longest, d.rehearsal, d.give_up_at, d.if_unknown, d.subscription_id
		FROM claimed d CROSS JOIN LATERAL (SELECT * FROM messages m WHERE m.id = d.message_id OFFSET 0) m`, limit, lease.Seconds(), node, append([]int64{}, leftOut...), destinations)
	// The claim gives them in no order.
	slices.SortFunc(out, func(a, b Sending) int {
		switch {
		case a.AlertID != nil && b.AlertID == nil:
			return -1
		case a.AlertID == nil && b.AlertID != nil:
			return 1
		}
		return cmp.Compare(a.ID, b.ID)
	})
	return out, db.Wrap(err, "claim deliveries")
}

// RenewDeliveries prolongs the leases of the deliveries that a node is handing over.
func (q Q) RenewDeliveries(ctx context.Context, lease time.Duration, worked []Sending) error {
	ids, leases := make([]int64, len(worked)), make([]int64, len(worked))
	for i, s := range worked {
		ids[i], leases[i] = s.ID, s.LeaseNo
	}
	_, err := q.Ext.ExecContext(ctx, `WITH mine AS MATERIALIZED (SELECT d.id FROM deliveries d
		JOIN unnest($2::bigint[], $3::bigint[]) AS w(id, lease_no) ON d.id = w.id AND d.lease_no = w.lease_no
			WHERE d.state IN ('sending', 'offered') AND d.lease_until > now() ORDER BY d.id FOR UPDATE OF d SKIP LOCKED)
		UPDATE deliveries d SET lease_until = now() + make_interval(secs => $1) FROM mine
		WHERE d.id = mine.id`, lease.Seconds(), ids, leases)
	return db.Wrap(err, "renew the deliveries' leases")
}

// Offer records that the other sides may accept from now on, and gives the
// deliveries for which that holds: it must be committed before the last byte goes
// out, and forbids to go on with the others. Those whose gate has moved since they
// were let through are given apart, as they were; the leases of the rest were lost.
func (q Q) Offer(ctx context.Context, all []Sending) (offered, moved map[int64]bool, err error) {
	out := make(map[int64]bool, len(all))
	moved = map[int64]bool{}
	for table, some := range byMonth(slices.Clone(all), func(s Sending) int64 { return s.ID }) {
		ids, leases, gates := make([]int64, len(some)), make([]int64, len(some)), make([]int64, len(some))
		for i, s := range some {
			ids[i], leases[i], gates[i] = s.ID, s.LeaseNo, s.Gate
		}
		var offered []int64
		if err := sqlx.SelectContext(ctx, q.Ext, &offered, `UPDATE `+table+` d
			SET state = 'offered', offered_at = bell_clock()
			FROM unnest($1::bigint[], $2::bigint[], $3::bigint[]) AS u(id, lease_no, gate) WHERE d.id = u.id
			AND d.lease_no = u.lease_no AND d.state = 'sending' AND d.lease_until > now()
				AND u.gate = (SELECT no FROM gate_state) RETURNING d.id`, ids, leases, gates); err != nil {
			return out, moved, db.Wrap(err, "record the offers")
		}
		for _, id := range offered {
			out[id] = true
		}
		if len(offered) == len(some) {
			continue
		}
		var now int64
		if err := sqlx.GetContext(ctx, q.Ext, &now, `SELECT no FROM gate_state`); err != nil {
			return out, moved, db.Wrap(err, "look at the gate")
		}
		for _, s := range some {
			if !out[s.ID] && s.Gate != now {
				moved[s.ID] = true
			}
		}
	}
	return out, moved, nil
}

// Received is what the other side said when it accepted.
type Received struct {
	ID     int64
	Answer string
	WentTo string
	Taken  string // what it calls what it took and will say more of; empty when it is done
}

// Receipts records that the other sides accepted. It asks for no leases: what the
// other side said counts, whoever heard it, and may settle an unknown.
func (t *Tx) Receipts(ctx context.Context, all []Received) error {
	for table, some := range byMonth(all, func(r Received) int64 { return r.ID }) {
		ids, answers, went, taken := make([]int64, len(some)), make([]string, len(some)), make([]string, len(some)),
			make([]string, len(some))
		for i, r := range some {
			ids[i], answers[i], went[i], taken[i] = r.ID, db.Bounded(r.Answer), r.WentTo, r.Taken
		}
		if _, err := t.Ext.ExecContext(ctx, `UPDATE `+table+` d
			SET state = CASE WHEN u.taken = '' THEN 'sent' ELSE 'taken' END, answer = u.answer, went_to = u.went,
			class = '', advice = '', lease_until = NULL,
				settled_at = CASE WHEN u.taken = '' THEN bell_clock() END, taken_as = u.taken,
				ask_at = CASE WHEN u.taken <> '' THEN bell_now() + interval '1 second' END
			FROM unnest($1::bigint[], $2::text[], $3::text[], $4::text[]) AS u(id, answer, went, taken)
			WHERE d.id = u.id AND d.state IN ('offered', 'unknown')`, ids, answers, went, taken); err != nil {
			return db.Wrap(err, "record the receipts")
		}
	}
	return nil
}

// Ended is how a try of a delivery ended without a receipt.
type Ended struct {
	State  job.DeliveryState // waiting, failed or unknown
	Wait   time.Duration     // until the next try, when waiting
	Answer string
	Advice string
	Class  string

	Untried bool // it was claimed, and given back before anything was done
	Rests   bool // its destination rests: it is kept back until that is mended
}

// EndSending records how a try ended, for the holder of the lease.
func (t *Tx) EndSending(ctx context.Context, s Sending, e Ended) error {
	if err := db.One(t.Ext.ExecContext(ctx, `UPDATE deliveries d
		SET state = $3, ready_at = CASE WHEN $8 THEN ready_at ELSE bell_now() + make_interval(secs => $4) END,
		answer = $5, advice = $6, class = $7,
			settled_at = CASE WHEN $3 = 'waiting' THEN NULL ELSE bell_clock() END, lease_until = NULL,
			tries = tries - CASE WHEN $8 THEN 1 ELSE 0 END,
			kept_back = CASE WHEN $9 AND subscription_id IS NULL THEN 'rest' ELSE kept_back END
		WHERE id = $1 AND lease_no = $2 AND d.state IN ('sending', 'offered')`,
		s.ID, s.LeaseNo, e.State, e.Wait.Seconds(), db.Bounded(e.Answer), e.Advice, e.Class, e.Untried,
		e.Rests)); err != nil {
		return err
	}
	if e.State != job.DeliveryWaiting {
		return nil
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeDeliveries}) // whoever sleeps must reckon anew for how long
}

// GiveBack returns deliveries that were claimed and surely did not go out, whether
// or not an offer of theirs is on record: they stand where they stood in the queue, as
// if they had not been tried. Those whose leases were lost are left alone.
func (t *Tx) GiveBack(ctx context.Context, all []Sending) error {
	for table, some := range byMonth(slices.Clone(all), func(s Sending) int64 { return s.ID }) {
		ids, leases := make([]int64, len(some)), make([]int64, len(some))
		for i, s := range some {
			ids[i], leases[i] = s.ID, s.LeaseNo
		}
		if _, err := t.Ext.ExecContext(ctx, `UPDATE `+table+` d SET state = 'waiting', tries = d.tries - 1,
			lease_until = NULL
			FROM unnest($1::bigint[], $2::bigint[]) AS u(id, lease_no) WHERE d.id = u.id AND d.lease_no = u.lease_no
			AND d.state IN ('sending', 'offered')`, ids, leases); err != nil {
			return db.Wrap(err, "hand deliveries back")
		}
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeDeliveries})
}

// LostSendings locks the deliveries whose leases ran out: those that were
// offered, whose answer is lost, and those that were not, which are safe to repeat.
func (t *Tx) LostSendings(ctx context.Context, limit int) (offered, safe []Sending, err error) {
	var lost []struct {
		Sending
		State job.DeliveryState `db:"state"`
	}
	err = sqlx.SelectContext(ctx, t.Ext, &lost, `SELECT id, lease_no, message_id AS message_row, run_id, `+alertOf+` AS alert_id,
		subscription_id, job_id, destination_id, address, tries,
			retry_times, retry_wait, retry_growth, retry_longest, rehearsal, give_up_at, if_unknown, state
			FROM deliveries d
		WHERE phase = 'leased' AND lease_until < now() ORDER BY lease_until LIMIT $1 FOR UPDATE SKIP LOCKED`, limit)
	for _, l := range lost {
		if l.State == job.DeliveryOffered {
			offered = append(offered, l.Sending)
		} else {
			safe = append(safe, l.Sending)
		}
	}
	return offered, safe, db.Wrap(err, "find the deliveries that were lost")
}
