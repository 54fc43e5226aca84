package history

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
)

// maxLines bounds the log of a run: its lines beside changes of state.
const maxLines = 10_000

// Log adds a line to a run's log. A log that is full takes changes of state only.
func (q Q) Log(ctx context.Context, l job.LogLine, id job.RunID) error {
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO run_log (run_id, part, task, state, level, text) SELECT $1, $2, $3,
		$4, $5, $6
		WHERE $4 <> '' OR NOT EXISTS (SELECT 1 FROM run_log WHERE run_id = $1 OFFSET $7 LIMIT 1)`,
		id, l.Part, l.Task, l.State, db.Level(l.Level), db.Bounded(l.Text), maxLines)
	return db.Wrap(err, "write the log")
}

// maxChatter is how many lines a run's log has before lines about each of many
// deliveries are left out of it: the record of deliveries has them all, and to
// count a long log for each of them would be work without an end.
const maxChatter = 500

// LogMany writes lines about each of many deliveries of several runs.
func (t *Tx) LogMany(ctx context.Context, lines map[job.RunID][]job.LogLine) error {
	var c db.Columns
	var levels, texts []string
	for id, of := range lines {
		for _, l := range of {
			c.Run, c.Parts = append(c.Run, int64(id)), append(c.Parts, int32(l.Part)) //nolint:gosec // parts are counted
			levels, texts = append(levels, db.Level(l.Level)), append(texts, db.Bounded(l.Text))
		}
	}
	_, err := t.Ext.ExecContext(ctx, `WITH u AS (SELECT * FROM unnest($1::bigint[], $2::int[], $3::text[],
		$4::text[]) AS u(run_id, part, level, text)),
		open AS (SELECT run_id FROM (SELECT DISTINCT run_id FROM u) r
		WHERE NOT EXISTS (SELECT 1 FROM run_log l WHERE l.run_id = r.run_id OFFSET $5 LIMIT 1))
		INSERT INTO run_log (run_id, part, level, text) SELECT u.* FROM u
		JOIN open USING (run_id)`, c.Run, c.Parts, levels, texts, maxChatter)
	return db.Wrap(err, "write the log")
}
