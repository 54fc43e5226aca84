package history

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// NewPart is one part that a run is split into.
type NewPart struct {
	Name  string
	Given job.Values
}

// Parts lists the parts of a run, those that went wrong first, at most limit.
func (q Q) Parts(ctx context.Context, run job.RunID, limit int) ([]job.PartLine, error) {
	lines := []job.PartLine{}
	err := sqlx.SelectContext(ctx, q.Ext, &lines, `SELECT p.part, p.name, p.state, p.reason,
		coalesce(d.sent, 0) AS sent, coalesce(d.open, 0) AS open, coalesce(d.not_sent, 0) AS not_sent,
		coalesce(d.recipient, '') AS recipient
		FROM parts p LEFT JOIN (SELECT part, count(*) FILTER (WHERE state = 'sent') AS sent, count(*) FILTER (WHERE state IN `+db.DeliveriesOpen+`) AS open,
				count(*) FILTER (WHERE state IN ('failed', 'bounced', 'unknown')) AS not_sent, min(address) AS recipient
			FROM deliveries WHERE run_id = $1 GROUP BY part) d ON d.part = p.part
		WHERE p.run_id = $1 ORDER BY (p.state = 'failed') DESC, (coalesce(d.not_sent, 0) > 0) DESC, (p.state = 'partly') DESC, (p.state IN `+db.PartsOpen+`) DESC, p.part LIMIT $2`, run, limit)
	return lines, db.Wrap(err, "list the run's parts")
}

// Sums are the deliveries of a run by what became of them, with some of those
// that went wrong.
type Sums struct {
	All, Sent, Open int
	Wrong           int
	Some            []string
}

// DeliverySums counts the deliveries of a run.
func (q Q) DeliverySums(ctx context.Context, run job.RunID, some int) (Sums, error) {
	var s Sums
	row := q.Ext.QueryRowxContext(ctx,
		`SELECT count(*), count(*) FILTER (WHERE state = 'sent'), count(*) FILTER (WHERE state IN `+db.DeliveriesOpen+
			`), count(*) FILTER (WHERE state IN ('failed', 'bounced', 'unknown'))
		FROM deliveries WHERE run_id = $1`, run)
	if err := row.Scan(&s.All, &s.Sent, &s.Open, &s.Wrong); err != nil {
		return s, db.Wrap(err, "count the run's deliveries")
	}
	err := sqlx.SelectContext(ctx, q.Ext, &s.Some, `SELECT address FROM deliveries WHERE run_id = $1
		AND state IN ('failed', 'bounced', 'unknown') ORDER BY id LIMIT $2`, run, some)
	return s, db.Wrap(err, "count the run's deliveries")
}

// Reached lists whom a task of a run reached, or may have: what was sent, and what
// nobody knows of.
func (q Q) Reached(ctx context.Context, run job.RunID, task string, part string) ([]job.Delivery, error) {
	list := []job.Delivery{}
	err := sqlx.SelectContext(ctx, q.Ext, &list, `SELECT `+DeliveryColumns+` WHERE d.run_id = $1 AND m.task = $2
		AND d.state IN ('sent', 'unknown', 'offered', 'bounced')
		AND d.part IN (SELECT part FROM parts WHERE run_id = $1 AND name = $3) ORDER BY d.id
		LIMIT 20000`, run, task, part)
	return list, db.Wrap(err, "list whom the run reached")
}
