package alerts

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"

	"github.com/jmoiron/sqlx"
)

// NotedRuns locks runs whose owners are to be told of success, at most limit.
func (t *Tx) NotedRuns(ctx context.Context, limit int) ([]job.Run, error) {
	var ids []job.RunID
	if err := sqlx.SelectContext(ctx, t.Ext, &ids, `SELECT run_id FROM run_notes WHERE told_at IS NULL ORDER BY run_id
		LIMIT $1 FOR UPDATE SKIP LOCKED`, limit); err != nil || len(ids) == 0 {
		return nil, db.Wrap(err, "find the runs to tell of")
	}
	return history.In(t.Base).SelectRuns(ctx, "read the runs to tell of", `WHERE id = ANY($1) ORDER BY id`,
		db.Numbers(ids))
}

// RunNoted notes that an owner was told.
func (t *Tx) RunNoted(ctx context.Context, id job.RunID) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE run_notes SET told_at = bell_now() WHERE run_id = $1`, id)
	return db.Wrap(err, "note that the owner was told")
}
