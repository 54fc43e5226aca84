package rings

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// OpenRuns is how the open runs of one job stand for more that are asked for at once.
type OpenRuns struct {
	working *bool
	waiting map[string]job.RunID // by the key of their values
}

// For says how they stand for one more with some values.
func (o OpenRuns) For(given job.Values) policy.Open {
	return policy.Open{Working: *o.working, Waiting: o.waiting[given.Key()]}
}

// Add counts one that was asked for meanwhile.
func (o OpenRuns) Add(given job.Values, id job.RunID) {
	*o.working = true
	o.waiting[given.Key()] = id
}

// OpenFor says how the open runs of a job stand for more with some values, and locks those that they may join.
// It asks for these alone, by an index: thousands may wait when much happens at once.
func (t *Tx) OpenFor(ctx context.Context, jobID int64, givens []job.Values) (OpenRuns, error) {
	o := OpenRuns{working: new(bool), waiting: map[string]job.RunID{}}
	if err := sqlx.GetContext(ctx, t.Ext, o.working, `SELECT EXISTS (SELECT 1 FROM parts p JOIN runs r ON r.id = p.run_id
		WHERE p.job_id = $1 AND p.state IN `+db.PartsOpen+` AND NOT p.held AND NOT r.rehearsal)`, jobID); err != nil {
		return o, db.Wrap(err, "find the open runs")
	}
	if !*o.working {
		return o, nil
	}
	texts := make([]job.Values, len(givens))
	for i, g := range givens {
		texts[i] = g.Over(nil)
	}
	var rows []struct {
		ID    job.RunID               `db:"run_id"`
		Given db.Document[job.Values] `db:"given"`
	}
	err := sqlx.SelectContext(ctx, t.Ext, &rows, `SELECT p.run_id, r.given FROM runs r JOIN parts p ON p.run_id = r.id
		WHERE r.job_id = $1 AND md5(r.given::text) = ANY(ARRAY(SELECT md5(g::text) FROM jsonb_array_elements($2::jsonb) g))
		AND r.state = 'waiting' AND NOT r.rehearsal AND r.trigger_id IS NOT NULL AND r.again IS NULL
		AND r.started_at IS NULL AND p.state = 'waiting' AND p.lease_no = 0 AND NOT p.held
		ORDER BY p.run_id FOR UPDATE OF p SKIP LOCKED`, jobID, db.Document[[]job.Values]{V: texts})
	for _, r := range rows {
		o.waiting[r.Given.V.Key()] = r.ID
	}
	return o, db.Wrap(err, "find runs to join")
}
