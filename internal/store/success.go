package store

import (
	"context"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// NoteDone notes runs that are done, each once, whose owners want to be told of it, and
// tells whether there are any.
func (t *Tx) NoteDone(ctx context.Context, runs []job.Run) (bool, error) {
	ids, jobs := make([]int64, len(runs)), make([]int64, len(runs))
	for i, r := range runs {
		ids[i], jobs[i] = int64(r.ID), r.JobID
	}
	done, err := t.ext.ExecContext(ctx, `INSERT INTO run_notes (run_id)
		SELECT u.run_id FROM unnest($1::bigint[], $2::bigint[]) AS u(run_id, job_id)
			JOIN jobs j ON j.id = u.job_id JOIN people p ON p.id = j.owner_id
			WHERE j.tells_success OR p.wishes @> '{"tell_success": true}'
		ON CONFLICT DO NOTHING`, ids, jobs)
	if err != nil {
		return false, wrap(err, "note the runs that are done")
	}
	n, err := done.RowsAffected()
	return n > 0, wrap(err, "note the runs that are done")
}

// NotedRuns locks runs whose owners are to be told of success, at most limit.
func (t *Tx) NotedRuns(ctx context.Context, limit int) ([]job.Run, error) {
	var ids []job.RunID
	if err := sqlx.SelectContext(ctx, t.ext, &ids, `SELECT run_id FROM run_notes WHERE told_at IS NULL ORDER BY run_id LIMIT $1 FOR UPDATE SKIP LOCKED`, limit); err != nil || len(ids) == 0 {
		return nil, wrap(err, "find the runs to tell of")
	}
	return t.selectRuns(ctx, "read the runs to tell of", `WHERE id = ANY($1) ORDER BY id`, numbers(ids))
}

// RunNoted notes that an owner was told.
func (t *Tx) RunNoted(ctx context.Context, id job.RunID) error {
	_, err := t.ext.ExecContext(ctx, `UPDATE run_notes SET told_at = bell_now() WHERE run_id = $1`, id)
	return wrap(err, "note that the owner was told")
}
