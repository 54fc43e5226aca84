package queue

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
)

// SplitRun divides a run over parts: the part that is held becomes the first of
// them, the others wait for their turn as it did. It fails when the lease was lost.
func (t *Tx) SplitRun(ctx context.Context, c Claim, parts []history.NewPart) error {
	if err := db.One(t.Ext.ExecContext(ctx, `UPDATE parts SET name = $4, given = $5, alone = false WHERE run_id = $1
		AND part = $2 AND lease_no = $3 AND state = 'running'`,
		c.RunID, c.Part, c.LeaseNo, parts[0].Name, db.Document[job.Values]{V: parts[0].Given})); err != nil {
		return err
	}
	const atOnce = 2000
	for from := 1; from < len(parts); from += atOnce {
		var n []int32
		var names, givens []string
		for i, p := range parts[from:min(from+atOnce, len(parts))] {
			given, err := db.Document[job.Values]{V: p.Given}.Value()
			if err != nil {
				return db.Wrap(err, "write the values of a part")
			}
			text, _ := given.(string)
			n, names, givens = append(n, int32(from+i+1)), append(names, p.Name), append(givens, text)
		}
		if _, err := t.Ext.ExecContext(ctx, `INSERT INTO parts (run_id, part, name, given, job_id, state, priority,
			gated, ready_at, turn, anyway, labels, reason, alone)
			SELECT p.run_id, u.part, u.name, u.given, p.job_id, 'waiting', p.priority, p.gated, bell_now(), p.turn,
			p.anyway, p.labels, 'for its turn', false
			FROM parts p, unnest($3::int[], $4::text[], $5::jsonb[]) AS u(part, name, given) WHERE p.run_id = $1
			AND p.part = $2`, c.RunID, c.Part, n, names, givens); err != nil {
			return db.Wrap(err, "divide the run over its parts")
		}
	}
	if _, err := t.Ext.ExecContext(ctx, `UPDATE runs SET part_count = $2 WHERE id = $1`, c.RunID,
		len(parts)); err != nil {
		return db.Wrap(err, "count the run's parts")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeParts})
}
