package history

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Collected is a file that a run collected from a destination, and what is to become of it there.
type Collected struct {
	ID            int64          `db:"id"`
	JobID         int64          `db:"job_id"`
	Task          string         `db:"task"`
	RunID         job.RunID      `db:"run_id"`
	DestinationID int64          `db:"destination_id"`
	Path          string         `db:"path"`
	Size          int64          `db:"size"`
	Changed       time.Time      `db:"changed"`
	Sum           string         `db:"sum"`
	Afterwards    job.Afterwards `db:"afterwards"`
	Folder        string         `db:"folder"`
	Tries         int            `db:"tries"`
}

const collectedColumns = `id, job_id, task, run_id, destination_id, path, size, changed, sum, afterwards, folder, tries`

// Collect notes the files that a task of a part of a run collected. One that is tried again notes them anew.
func (q Q) Collect(ctx context.Context, run job.RunID, part int, task string, files []Collected) error {
	type line struct {
		JobID       int64          `json:"job_id"`
		Destination int64          `json:"destination_id"`
		Path        string         `json:"path"`
		Size        int64          `json:"size"`
		Changed     time.Time      `json:"changed"`
		Sum         string         `json:"sum"`
		Afterwards  job.Afterwards `json:"afterwards"`
		Folder      string         `json:"folder"`
	}
	lines := make([]line, len(files))
	for i, f := range files {
		lines[i] = line{f.JobID, f.DestinationID, f.Path, f.Size, f.Changed, f.Sum, f.Afterwards, f.Folder}
	}
	_, err := q.Ext.ExecContext(ctx, `WITH old AS (DELETE FROM collected WHERE run_id = $1 AND part = $2 AND task = $3
			AND NOT good)
		INSERT INTO collected (job_id, task, part, run_id, destination_id, path, size, changed, sum, afterwards, folder)
		SELECT f.job_id, $3, $2, $1, f.destination_id, f.path, f.size, f.changed, f.sum, f.afterwards, f.folder
		FROM jsonb_to_recordset($4) AS f(job_id bigint, destination_id bigint, path text, size bigint,
			changed timestamptz, sum text, afterwards text, folder text)`, run, part, task, db.Document[[]line]{V: lines})
	return db.Wrap(err, "note what was collected")
}

// CollectedBefore tells which files of some paths a task of a job collected in good runs, the latest of each.
func (q Q) CollectedBefore(ctx context.Context, jobID int64, task string, destination int64, paths []string) (
	map[string]Collected, error,
) {
	var all []Collected
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT DISTINCT ON (path) `+collectedColumns+` FROM collected
		WHERE job_id = $1 AND task = $2 AND destination_id = $3 AND path = ANY($4) AND good ORDER BY path, id DESC`,
		jobID, task, destination, paths)
	out := make(map[string]Collected, len(all))
	for _, c := range all {
		out[c.Path] = c
	}
	return out, db.Wrap(err, "see what was collected before")
}

// CollectedWaits tells whether collected files are to be moved or removed now.
func (q Q) CollectedWaits(ctx context.Context) (any bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &any, `SELECT EXISTS (SELECT 1 FROM collected WHERE state = 'due' AND next_at <= bell_now())`)
	return any, db.Wrap(err, "see what is to be moved away")
}

// CollectedLater puts off what is to be done with collected files.
func (q Q) CollectedLater(ctx context.Context, pause time.Duration) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE collected SET next_at = bell_now() + make_interval(secs => $1)
		WHERE state = 'due' AND next_at <= bell_now()`, pause.Seconds())
	return db.Wrap(err, "put off what is to be moved away")
}

// CollectedDue lists collected files that are to be moved or removed now; each is kept from others for five
// minutes.
func (q Q) CollectedDue(ctx context.Context, limit int) ([]Collected, error) {
	var all []Collected
	err := sqlx.SelectContext(ctx, q.Ext, &all, `UPDATE collected c SET next_at = bell_now() + interval '5 minutes',
		tries = c.tries + 1 FROM (SELECT id FROM collected WHERE state = 'due' AND next_at <= bell_now()
			ORDER BY next_at LIMIT $1 FOR UPDATE SKIP LOCKED) d WHERE c.id = d.id RETURNING `+
		`c.id, c.job_id, c.task, c.run_id, c.destination_id, c.path, c.size, c.changed, c.sum, c.afterwards, c.folder, c.tries`,
		limit)
	return all, db.Wrap(err, "find what is to be moved away")
}

// CollectedEnded notes what became of a collected file.
func (q Q) CollectedEnded(ctx context.Context, c Collected, came string) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE collected SET state = 'ended', next_at = NULL, came = $3
		WHERE id = $1 AND tries = $2`, c.ID, c.Tries, db.Bounded(came))
	return db.Wrap(err, "note what became of the file")
}

// CollectedAgain notes why a collected file is still where it was, and when it is tried again.
func (q Q) CollectedAgain(ctx context.Context, c Collected, wait time.Duration, came string) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE collected SET next_at = bell_now() + make_interval(secs => $3), came = $4
		WHERE id = $1 AND tries = $2`, c.ID, c.Tries, wait.Seconds(), db.Bounded(came))
	return db.Wrap(err, "note what became of the file")
}

// SweepCollected forgets what runs collected that never were good, and what good ones collected long ago
// and is no longer there.
func (q Q) SweepCollected(ctx context.Context) error {
	_, err := q.Ext.ExecContext(ctx, `DELETE FROM collected WHERE NOT good AND collected_at < bell_now() - interval '90 days'`)
	return db.Wrap(err, "forget what was collected")
}
