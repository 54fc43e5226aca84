package rings

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// WaitingTrigger is a trigger that waits for what happens, with how far it has come.
type WaitingTrigger struct {
	ID      int64                           `db:"id"`
	Job     string                          `db:"job"`
	Owner   string                          `db:"owner"`
	On      bool                            `db:"is_on"`
	Zone    string                          `db:"zone"`
	Rule    string                          `db:"rule"`
	Waits   db.Document[job.Wait]           `db:"waits"`
	Came    db.Document[[]WaitingHappened]  `db:"came"`
	Watches db.Document[[]WaitingCondition] `db:"watches"`
	Usual   db.Document[[]WaitingUsual]     `db:"usual"`
	Held    db.Document[[]int64]            `db:"held"`
	Starts  *time.Time                      `db:"starts"`
}

// WaitingHappened is what has come about of a condition.
type WaitingHappened struct {
	Place int       `json:"place"`
	Bunch string    `json:"bunch"`
	At    time.Time `json:"at"`
	What  string    `json:"what"`
}

// WaitingCondition is how a condition is looked at.
type WaitingCondition struct {
	Place   int        `json:"place"`
	Looked  *time.Time `json:"looked"`
	Next    *time.Time `json:"next"`
	Failing string     `json:"failing"`
	Since   *time.Time `json:"since"`
	Note    string     `json:"note"`
}

// WaitingUsual is by when a condition usually comes about.
type WaitingUsual struct {
	Place int        `json:"place"`
	By    *time.Time `json:"by"`
	Late  *time.Time `json:"late"`
	Last  *time.Time `json:"last"` // when it came first on the last day on which it did
}

// mostWaiting bounds how many triggers are listed.
const mostWaiting = 500

// WaitingTriggers lists the triggers that wait for what happens: of one job, or of all when it is empty. Of
// what has come about the latest of each condition is told.
func (q Q) WaitingTriggers(ctx context.Context, name string) ([]WaitingTrigger, error) {
	all := []WaitingTrigger{}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT t.id, j.name AS job, p.login AS owner, `+wakes+` AS is_on, t.zone,
		t.rule, t.waits,
		coalesce((SELECT jsonb_agg(jsonb_build_object('place', h.place, 'bunch', h.bunch, 'at', h.at, 'what', h.what))
			FROM (SELECT DISTINCT ON (place) * FROM happened WHERE trigger_id = t.id AND place >= 0
				ORDER BY place, at DESC) h), '[]') AS came,
		coalesce((SELECT jsonb_agg(jsonb_build_object('place', x.place, 'looked', w.looked_at, 'next', w.next_at,
				'failing', w.failure, 'since', w.failing_since, 'note', w.note))
			FROM trigger_waits x JOIN watches w ON w.id = x.watch_id WHERE x.trigger_id = t.id), '[]') AS watches,
		coalesce((SELECT jsonb_agg(jsonb_build_object('place', w.place, 'by', w.usual_at, 'late', w.late_at,
				'last', (SELECT a.at FROM arrivals a WHERE a.job_id = t.job_id AND a.key = `+keyOf+`
					ORDER BY a.day DESC LIMIT 1)))
			FROM trigger_waits w WHERE w.trigger_id = t.id), '[]') AS usual,
		coalesce((SELECT jsonb_agg(run_id) FROM (SELECT run_id FROM held_runs WHERE trigger_id = t.id
			ORDER BY due LIMIT 20) r), '[]') AS held,
		(SELECT min(due_at) FROM gathered WHERE trigger_id = t.id) AS starts
		FROM triggers t JOIN jobs j ON j.id = t.job_id JOIN people p ON p.id = j.owner_id
		WHERE t.waits IS NOT NULL AND j.removed_at IS NULL AND ($1 = '' OR j.id = record_id('job', $1))
		ORDER BY j.name, t.position LIMIT $2`, name, mostWaiting)
	return all, db.Wrap(err, "list what waits")
}
