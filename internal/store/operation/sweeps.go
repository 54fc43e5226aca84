package operation

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/core/usual"
	"ironbell/internal/store/db"
)

// KeepingSetting is the setting of how long is kept what belongs to no single job.
const KeepingSetting = "keeping"

// Keeping says how long is kept what belongs to no single job.
func (q Q) Keeping(ctx context.Context) (job.KeepingSettings, error) {
	var k job.KeepingSettings
	_, err := q.Setting(ctx, KeepingSetting, &k)
	return k.WithDefaults(), err
}

// sweepRounds bounds the batches of one sweep; what is left goes at the next one.
const sweepRounds = 40

// SweepOld removes closed alerts with the mails about them, the record of changes,
// links, events and consents that have been kept long enough, batch by batch.
func (q Q) SweepOld(ctx context.Context, k job.KeepingSettings) error {
	for _, sweep := range []struct {
		what, remove string
		days         int
	}{
		{"alerts", `WITH old AS (SELECT id FROM alerts WHERE state = 'closed'
			AND closed_at < bell_now() - make_interval(days => $1) ORDER BY closed_at LIMIT $2),
			d AS (DELETE FROM deliveries WHERE alert_id IN (SELECT id FROM old)),
			m AS (DELETE FROM messages WHERE alert_id IN (SELECT id FROM old))
			DELETE FROM alerts WHERE id IN (SELECT id FROM old)`, k.Alerts},
		{"the record of changes", `DELETE FROM audit WHERE id IN (SELECT id FROM audit
			WHERE at < bell_now() - make_interval(days => $1) ORDER BY at LIMIT $2)`, k.Audit},
		{"links", `DELETE FROM links WHERE id IN (SELECT id FROM links
			WHERE ends_at < bell_now() - make_interval(days => $1) ORDER BY ends_at LIMIT $2)`, k.Links},
		{"events", `DELETE FROM events WHERE id IN (SELECT id FROM events
			WHERE received_at < bell_now() - make_interval(days => $1) ORDER BY received_at LIMIT $2)`, k.Events},
		{"deliveries of events of ours", `DELETE FROM deliveries WHERE id IN (SELECT d.id FROM subscriptions s CROSS JOIN LATERAL
			(SELECT id FROM deliveries WHERE subscription_id = s.id AND settled_at < bell_now() - make_interval(days => $1)
			ORDER BY settled_at LIMIT $2) d LIMIT $2)`, k.Events},
		{"messages of events of ours", `DELETE FROM messages WHERE id IN (SELECT m.id FROM subscriptions s CROSS JOIN LATERAL
			(SELECT id FROM messages WHERE subscription_id = s.id AND created_at < bell_now() - make_interval(days => $1)
			ORDER BY id LIMIT $2) m WHERE NOT EXISTS (SELECT 1 FROM deliveries d WHERE d.message_id = m.id) LIMIT $2)`, k.Events},
		// What a subscription has not been given yet stays four times as long.
		{"events of ours", `DELETE FROM published WHERE id IN (SELECT id FROM published
			WHERE at < bell_now() - make_interval(days => $1) AND (at < bell_now() - make_interval(days => 4 * $1)
				OR no <= coalesce((SELECT min(mark) FROM subscriptions WHERE NOT gone), no))
			ORDER BY at LIMIT $2)`, k.Events},
		{"arrivals", `DELETE FROM arrivals WHERE (job_id, key, day) IN (SELECT job_id, key, day FROM arrivals
			WHERE at < bell_now() - make_interval(days => $1) ORDER BY at LIMIT $2)`, usual.Days + 7},
		// A consent is a change like others: the record of it is kept as long as they are.
		{"consents", `DELETE FROM consents WHERE id IN (SELECT id FROM consents
			WHERE given_at < bell_now() - make_interval(days => $1) AND (until IS NULL OR until < bell_now())
			ORDER BY given_at LIMIT $2)`, k.Audit},
		{"drafts", `DELETE FROM drafts WHERE (person_id, kind, key) IN (SELECT person_id, kind, key FROM drafts
			WHERE kept_at < bell_now() - make_interval(days => $1) ORDER BY kept_at LIMIT $2)`, job.DraftDays},
	} {
		for range sweepRounds {
			res, err := q.Ext.ExecContext(ctx, sweep.remove, sweep.days, sweepBatch)
			if err != nil {
				return db.Wrap(err, "remove old "+sweep.what)
			}
			if n, err := res.RowsAffected(); err != nil || n < sweepBatch {
				break
			}
		}
	}
	return nil
}
