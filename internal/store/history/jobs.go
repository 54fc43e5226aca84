package history

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// LastRun is the outcome that a list of jobs shows.
type LastRun struct {
	JobID  int64        `db:"job_id"`
	ID     job.RunID    `db:"id"`
	State  job.RunState `db:"state"`
	Reason string       `db:"reason"`
	Due    time.Time    `db:"due"`
	Usual  *float64     `db:"usual"` // median seconds of the last good runs
}

// LastRuns finds the newest run of each of the jobs and how long they usually take.
func (q Q) LastRuns(ctx context.Context, jobs []int64) (map[int64]LastRun, error) {
	var rows []LastRun
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT j.id AS job_id, r.id, r.state, r.reason, r.due, u.usual
		FROM unnest($1::bigint[]) AS j(id)
		CROSS JOIN LATERAL (SELECT id, state, reason, due FROM runs WHERE job_id = j.id AND NOT rehearsal
		ORDER BY id DESC LIMIT 1) r
		CROSS JOIN LATERAL (SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch
		FROM ended_at - started_at)) AS usual
			FROM (SELECT ended_at, started_at FROM runs WHERE job_id = j.id AND state IN ('done', 'blank', 'partly')
			AND NOT rehearsal ORDER BY id DESC LIMIT 20) g) u`, jobs)
	last := make(map[int64]LastRun, len(rows))
	for _, row := range rows {
		last[row.JobID] = row
	}
	return last, db.Wrap(err, "find the last runs")
}
