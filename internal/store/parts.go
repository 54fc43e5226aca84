package store

import (
	"context"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// NewPart is one part that a run is split into.
type NewPart struct {
	Name  string
	Given job.Values
}

// SplitRun divides a run over parts: the part that is held becomes the first of
// them, the others wait for their turn as it did. It fails when the lease was lost.
func (t *Tx) SplitRun(ctx context.Context, c Claim, parts []NewPart) error {
	if err := one(t.ext.ExecContext(ctx, `UPDATE parts SET name = $4, given = $5, alone = false WHERE run_id = $1 AND part = $2 AND lease_no = $3 AND state = 'running'`,
		c.RunID, c.Part, c.LeaseNo, parts[0].Name, document[job.Values]{parts[0].Given})); err != nil {
		return err
	}
	const atOnce = 2000
	for from := 1; from < len(parts); from += atOnce {
		var n []int32
		var names, givens []string
		for i, p := range parts[from:min(from+atOnce, len(parts))] {
			given, err := document[job.Values]{p.Given}.Value()
			if err != nil {
				return wrap(err, "write the values of a part")
			}
			text, _ := given.(string)
			n, names, givens = append(n, int32(from+i+1)), append(names, p.Name), append(givens, text)
		}
		if _, err := t.ext.ExecContext(ctx, `INSERT INTO parts (run_id, part, name, given, job_id, state, priority, gated, ready_at, turn, anyway, labels, reason, alone)
			SELECT p.run_id, u.part, u.name, u.given, p.job_id, 'waiting', p.priority, p.gated, bell_now(), p.turn, p.anyway, p.labels, 'for its turn', false
			FROM parts p, unnest($3::int[], $4::text[], $5::jsonb[]) AS u(part, name, given) WHERE p.run_id = $1 AND p.part = $2`, c.RunID, c.Part, n, names, givens); err != nil {
			return wrap(err, "divide the run over its parts")
		}
	}
	if _, err := t.ext.ExecContext(ctx, `UPDATE runs SET part_count = $2 WHERE id = $1`, c.RunID, len(parts)); err != nil {
		return wrap(err, "count the run's parts")
	}
	return t.Tell(ctx, Notice{Kind: job.NoticeParts})
}

// Parts lists the parts of a run, those that went wrong first, at most limit.
func (q q) Parts(ctx context.Context, run job.RunID, limit int) ([]job.PartLine, error) {
	lines := []job.PartLine{}
	err := sqlx.SelectContext(ctx, q.ext, &lines, `SELECT p.part, p.name, p.state, p.reason, coalesce(d.sent, 0) AS sent, coalesce(d.open, 0) AS open, coalesce(d.not_sent, 0) AS not_sent, coalesce(d.recipient, '') AS recipient
		FROM parts p LEFT JOIN (SELECT part, count(*) FILTER (WHERE state = 'sent') AS sent, count(*) FILTER (WHERE state IN `+deliveriesOpen+`) AS open,
				count(*) FILTER (WHERE state IN ('failed', 'bounced', 'unknown')) AS not_sent, min(address) AS recipient
			FROM deliveries WHERE run_id = $1 GROUP BY part) d ON d.part = p.part
		WHERE p.run_id = $1 ORDER BY (p.state = 'failed') DESC, (coalesce(d.not_sent, 0) > 0) DESC, (p.state = 'partly') DESC, (p.state IN `+partsOpen+`) DESC, p.part LIMIT $2`, run, limit)
	return lines, wrap(err, "list the run's parts")
}

// Sums are the deliveries of a run by what became of them, with some of those
// that went wrong.
type Sums struct {
	All, Sent, Open int
	Wrong           int
	Some            []string
}

// DeliverySums counts the deliveries of a run.
func (q q) DeliverySums(ctx context.Context, run job.RunID, some int) (Sums, error) {
	var s Sums
	row := q.ext.QueryRowxContext(ctx, `SELECT count(*), count(*) FILTER (WHERE state = 'sent'), count(*) FILTER (WHERE state IN `+deliveriesOpen+`), count(*) FILTER (WHERE state IN ('failed', 'bounced', 'unknown'))
		FROM deliveries WHERE run_id = $1`, run)
	if err := row.Scan(&s.All, &s.Sent, &s.Open, &s.Wrong); err != nil {
		return s, wrap(err, "count the run's deliveries")
	}
	err := sqlx.SelectContext(ctx, q.ext, &s.Some, `SELECT address FROM deliveries WHERE run_id = $1 AND state IN ('failed', 'bounced', 'unknown') ORDER BY id LIMIT $2`, run, some)
	return s, wrap(err, "count the run's deliveries")
}

// Reached lists whom a task of a run reached, or may have: what was sent, and what
// nobody knows of.
func (q q) Reached(ctx context.Context, run job.RunID, task string, part string) ([]job.Delivery, error) {
	list := []job.Delivery{}
	err := sqlx.SelectContext(ctx, q.ext, &list, `SELECT `+deliveryColumns+` WHERE d.run_id = $1 AND m.task = $2 AND d.state IN ('sent', 'unknown', 'offered', 'bounced')
		AND d.part IN (SELECT part FROM parts WHERE run_id = $1 AND name = $3) ORDER BY d.id LIMIT 20000`, run, task, part)
	return list, wrap(err, "list whom the run reached")
}
