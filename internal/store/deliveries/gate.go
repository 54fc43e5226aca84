package deliveries

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/records"
	"ironbell/internal/store/sending"

	"github.com/jmoiron/sqlx"
)

// GateState is what decides whether something may leave, as it is now. Its number
// rises whenever that changes; an offer names it, and is refused when it has risen.
type GateState struct {
	No       int64
	Settings job.MailSettings
	Copy     *job.TestCopy // when this is a copy for tests
	Frozen   []job.Freeze
}

// GateNow reads the state of the gate. The number is read first, so that whatever
// changes meanwhile makes it stale.
func (q Q) GateNow(ctx context.Context, now time.Time) (GateState, error) {
	var g GateState
	var test []byte
	err := q.Ext.QueryRowxContext(ctx, `SELECT no, (SELECT value->'test' FROM settings WHERE key = $1) FROM gate_state`,
		db.InstallationSetting).Scan(&g.No, &test)
	if err == nil && test != nil {
		err = json.Unmarshal(test, &g.Copy)
	}
	if err != nil {
		return g, db.Wrap(err, "look at the gate")
	}
	if g.Settings, err = q.MailSettings(ctx); err != nil {
		return g, err
	}
	g.Frozen, err = records.In(q.Base).FreezeOver(ctx, now, now)
	return g, err
}

// HoldBack gives claimed deliveries back that may not leave now, to wait for a reason
// as if they had not been tried; yesUntil is when a second person's yes comes too
// late. Those whose leases were lost are left alone.
func (t *Tx) HoldBack(ctx context.Context, all []sending.Sending, why job.KeptBack, yesUntil *time.Time) error {
	ids, leases := make([]int64, len(all)), make([]int64, len(all))
	for i, s := range all {
		ids[i], leases[i] = s.ID, s.LeaseNo
	}
	_, err := t.Ext.ExecContext(ctx, `UPDATE deliveries d SET state = 'waiting', kept_back = $3, tries = d.tries - 1,
		lease_until = NULL, yes_until = $4
		FROM unnest($1::bigint[], $2::bigint[]) AS u(id, lease_no) WHERE d.id = u.id AND d.lease_no = u.lease_no
		AND d.state = 'sending'`, ids, leases, why, yesUntil)
	return db.Wrap(err, "keep deliveries back")
}

// Redirect lets a claimed delivery go to another address than it was meant for.
func (q Q) Redirect(ctx context.Context, s sending.Sending, to string) error {
	return db.One(q.Ext.ExecContext(ctx, `UPDATE deliveries
		SET meant_for = CASE WHEN meant_for = '' THEN address ELSE meant_for END, address = $3, person_id = NULL
		WHERE id = $1 AND lease_no = $2 AND state = 'sending'`, s.ID, s.LeaseNo, to))
}

// IsOwnAddress tells whether an address is that of a person as they are on record.
func (q Q) IsOwnAddress(ctx context.Context, person int64, address string) (is bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &is, `SELECT EXISTS (SELECT 1 FROM people WHERE id = $1
		AND lower(mail) = lower($2))`, person, address)
	return is, db.Wrap(err, "see whose address it is")
}

// NewConsent is what a second person allows.
type NewConsent struct {
	Address       string
	JobID         int64
	SHA256        string // of one message; empty for all that the job sends there until then
	DestinationID int64
	By            string // login
	Until         *time.Time
}

// PutConsent records a consent.
func (t *Tx) PutConsent(ctx context.Context, c NewConsent) error {
	_, err := t.Ext.ExecContext(ctx, `INSERT INTO consents (address, job_id, sha256, destination_id, given_by, until)
		VALUES (lower($1), $2, $3, $4, $5, $6)`,
		c.Address, c.JobID, c.SHA256, c.DestinationID, c.By, c.Until)
	return db.Wrap(err, "record the consent")
}

// Allowed tells whether a second person allowed some bytes of a job to an address:
// just these, or all until a date while neither the job nor its reports nor the
// destination were saved since.
func (q Q) Allowed(ctx context.Context, address string, jobID int64, sha string,
	destination int64,
) (ok bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &ok, `SELECT EXISTS (SELECT 1 FROM consents c WHERE c.address = lower($1)
		AND c.job_id = $2 AND c.destination_id = $4 AND (
			c.sha256 = $3 AND c.sha256 <> ''
			OR c.sha256 = '' AND c.until > bell_now()
				AND NOT EXISTS (SELECT 1 FROM job_versions v WHERE v.job_id = c.job_id AND v.saved_at > c.given_at)
				AND NOT EXISTS (SELECT 1 FROM job_uses u JOIN report_versions v ON v.report_id = u.id
				WHERE u.job_id = c.job_id AND u.kind = 'report' AND v.saved_at > c.given_at)
				AND NOT EXISTS (SELECT 1 FROM destinations d WHERE d.id = c.destination_id
				AND d.updated_at > c.given_at)))`, address, jobID, sha, destination)
	return ok, db.Wrap(err, "see what second persons allowed")
}

// Through names the records through which mail of a job comes to an address.
type Through struct {
	Reports, Groups, Posts []string
}

// SavedSince lists who saved one of the records through which mail of a job comes to
// some addresses since each of them was allowed last: by login, with what they saved.
func (q Q) SavedSince(ctx context.Context, j job.Job, addresses []string, through Through) (map[string]string, error) {
	lower := func(all []string) []string {
		out := make([]string, len(all))
		for i, a := range all {
			out[i] = strings.ToLower(a)
		}
		return out
	}
	var rows []struct {
		Who  string `db:"who"`
		What string `db:"what"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `WITH since AS (
			SELECT coalesce(min(at), '-infinity') AS at
			FROM (SELECT coalesce((SELECT max(c.given_at) FROM consents c WHERE c.job_id = $1 AND c.address = a),
			'-infinity') AS at FROM unnest($2::text[]) a) s)
		SELECT lower(a.who) AS who, min(a.kind || ' ' || a.subject) AS what FROM audit a, since WHERE a.at > since.at
		AND a.action IN ('save', 'remove', 'rename', 'return') AND (
			a.kind = 'job' AND a.subject = ANY(all_names('job', ARRAY[$3::text]))
			OR a.kind = 'report' AND a.subject = ANY(all_names('report', $4))
			OR a.kind = 'group' AND lower(a.subject) = ANY(all_names('group', $5))
			OR a.kind = 'post' AND lower(a.subject) = ANY(all_names('post', $6))
			OR a.kind IN ('person', 'wishes') AND lower(a.subject) IN (SELECT lower(login) FROM people
			WHERE lower(mail) = ANY($2))) GROUP BY 1`,
		j.ID, lower(addresses), j.Name, db.Emptied(through.Reports), lower(through.Groups), lower(through.Posts))
	out := make(map[string]string, len(rows))
	for _, r := range rows {
		out[r.Who] = r.What
	}
	return out, db.Wrap(err, "see who changed what leads to the address")
}

// Asking lists the deliveries of a job that wait for a second person's yes, at most
// limit, the latest end first.
func (q Q) Asking(ctx context.Context, jobID int64, limit int) ([]job.Delivery, error) {
	list := []job.Delivery{}
	err := sqlx.SelectContext(ctx, q.Ext, &list, `SELECT `+history.DeliveryColumns+` WHERE d.phase = 'kept back'
		AND d.kept_back = 'yes' AND d.job_id = $1 ORDER BY d.yes_until DESC NULLS LAST, d.id LIMIT $2`, jobID, limit)
	return list, db.Wrap(err, "list what waits for a yes")
}

// Decline ends a delivery that a second person does not want sent.
func (t *Tx) Decline(ctx context.Context, id int64, answer string) error {
	return db.One(t.Ext.ExecContext(ctx, `UPDATE deliveries SET state = 'declined', kept_back = '', yes_until = NULL,
		answer = $2, advice = 'Ask them why; sending it again asks again.', class = '', settled_at = bell_clock()
		WHERE id = $1 AND state = 'waiting'`, id, db.Bounded(answer)))
}

// NobodySaidYes locks deliveries for which a second person's yes would come too late,
// at most limit.
func (t *Tx) NobodySaidYes(ctx context.Context, limit int) ([]sending.Sending, error) {
	var out []sending.Sending
	err := sqlx.SelectContext(ctx, t.Ext, &out, `SELECT id, lease_no, message_id AS message_row, run_id, alert_id,
		job_id, destination_id, part, address, tries,
			retry_times, retry_wait, retry_growth, retry_longest, rehearsal, give_up_at, if_unknown FROM deliveries
		WHERE phase = 'kept back' AND yes_until < bell_now() ORDER BY yes_until LIMIT $1 FOR UPDATE SKIP LOCKED`, limit)
	return out, db.Wrap(err, "find what nobody said yes to")
}

// AlertOver tells whether an alert was acknowledged or put right, so that nobody is to be
// told of it any more.
func (q Q) AlertOver(ctx context.Context, id int64) (over bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &over,
		`SELECT NOT EXISTS (SELECT 1 FROM alerts WHERE id = $1 AND state = 'open')`, id)
	return over, db.Wrap(err, "see whether the alert is open")
}
