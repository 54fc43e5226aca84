package queue

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Wait is what may hold up a part that is ready.
type Wait struct {
	RunID  job.RunID             `db:"run_id"`
	Labels db.Document[[]string] `db:"labels"`
	Floor  *job.RunID            `db:"floor"` // the run of its job that works, when they do not work together
	Rests  string                `db:"rests"` // the label of what it needs and does not work
	Full   string                `db:"full"`  // the label of which as many work as may
}

// Waits tells of runs what may hold up the first of their parts that is ready. Runs
// without one are left out.
func (q Q) Waits(ctx context.Context, runs []job.RunID) (map[job.RunID]Wait, error) {
	ids := make([]int64, len(runs))
	for i, id := range runs {
		ids[i] = int64(id)
	}
	var all []Wait
	err := sqlx.SelectContext(ctx, q.Ext, &all, `WITH full_labels AS (
			SELECT l.key FROM settings s, jsonb_each_text(s.value) l WHERE s.key = '`+LimitSetting+`'
				AND l.value::int <= (SELECT count(*) FROM parts p WHERE p.state = 'running'
				AND p.labels @> ARRAY[l.key]))
		SELECT DISTINCT ON (p.run_id) p.run_id, array_to_json(p.labels) AS labels,
		CASE WHEN p.gated THEN g.run_id END AS floor,
			coalesce((SELECT min(r.label) FROM rests r WHERE r.label = ANY(p.labels)), '') AS rests,
			coalesce((SELECT min(f.key) FROM full_labels f WHERE f.key = ANY(p.labels)), '') AS full
		FROM parts p LEFT JOIN gates g ON g.job_id = p.job_id AND g.run_id <> p.run_id
		WHERE p.run_id = ANY($1) AND p.state = 'waiting' AND p.ready_at <= bell_now() ORDER BY p.run_id, p.part`, ids)
	out := make(map[job.RunID]Wait, len(all))
	for _, w := range all {
		out[w.RunID] = w
	}
	return out, db.Wrap(err, "see what runs wait for")
}

// Handing counts how far the deliveries of runs are.
func (q Q) Handing(ctx context.Context, runs []job.RunID) (map[job.RunID]policy.Tally, error) {
	ids := make([]int64, len(runs))
	for i, id := range runs {
		ids[i] = int64(id)
	}
	var all []struct {
		RunID job.RunID `db:"run_id"`
		policy.Tally
	}
	err := sqlx.SelectContext(ctx, q.Ext, &all,
		`SELECT run_id, count(*) FILTER (WHERE state IN `+db.DeliveriesOpen+`) AS open,
			count(*) FILTER (WHERE state = 'sent') AS sent,
			count(*) FILTER (WHERE state IN ('failed', 'bounced')) AS failed,
			count(*) FILTER (WHERE state = 'unknown') AS unknown,
			count(*) FILTER (WHERE state = 'declined') AS declined,
			count(*) FILTER (WHERE phase = 'kept back' AND kept_back = 'yes') AS asking
		FROM deliveries WHERE run_id = ANY($1) GROUP BY run_id`, ids)
	out := make(map[job.RunID]policy.Tally, len(all))
	for _, h := range all {
		out[h.RunID] = h.Tally
	}
	return out, db.Wrap(err, "count what was handed over")
}

// HeldDestinations names of runs that deliver a destination to which something is still
// to go.
func (q Q) HeldDestinations(ctx context.Context, runs []job.RunID) (map[job.RunID]string, error) {
	ids := make([]int64, len(runs))
	for i, id := range runs {
		ids[i] = int64(id)
	}
	var all []struct {
		RunID job.RunID `db:"run_id"`
		Name  string    `db:"name"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT DISTINCT ON (d.run_id) d.run_id, t.name FROM deliveries d
		JOIN destinations t ON t.id = d.destination_id
		WHERE d.run_id = ANY($1) AND d.phase = 'ready' ORDER BY d.run_id,
		EXISTS (SELECT 1 FROM freezes f WHERE f.label = 'destination:' || t.name AND f.lifted_at IS NULL) DESC`, ids)
	out := make(map[job.RunID]string, len(all))
	for _, h := range all {
		out[h.RunID] = h.Name
	}
	return out, db.Wrap(err, "see where runs still deliver")
}

// Carriers gives the labels of the jobs that carry one of some labels.
func (q Q) Carriers(ctx context.Context, labels []string) (map[int64][]string, error) {
	var all []struct {
		ID     int64                 `db:"id"`
		Labels db.Document[[]string] `db:"labels"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT id, array_to_json(labels) AS labels FROM jobs
		WHERE labels && $1`, labels)
	out := make(map[int64][]string, len(all))
	for _, j := range all {
		out[j.ID] = j.Labels.V
	}
	return out, db.Wrap(err, "find what is frozen")
}
