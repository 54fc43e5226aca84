package store

import (
	"context"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// WantSuccess lists the jobs whose owners want to hear of success.
func (q q) WantSuccess(ctx context.Context) (map[int64]bool, error) {
	var ids []int64
	err := sqlx.SelectContext(ctx, q.ext, &ids, `SELECT j.id FROM jobs j JOIN people p ON p.id = j.owner_id WHERE p.wishes @> '{"tell_success": true}' UNION SELECT id FROM jobs WHERE tells_success`)
	out := make(map[int64]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, wrap(err, "see who wants to hear of success")
}

// NoteRuns notes runs whose owners are to be told of success, each once.
func (t *Tx) NoteRuns(ctx context.Context, runs []job.RunID) error {
	_, err := t.ext.ExecContext(ctx, `INSERT INTO run_notes (run_id) SELECT unnest($1::bigint[]) ON CONFLICT DO NOTHING`, numbers(runs))
	return wrap(err, "note the runs that are done")
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
