package queue

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"

	"github.com/jmoiron/sqlx"
)

// Cancel ends the parts and deliveries of a locked run that have not ended, and
// the run. Whoever works on it loses its lease.
func (t *Tx) Cancel(ctx context.Context, run job.Run, reason string) error {
	for _, write := range []string{
		`UPDATE parts SET state = 'cancelled', reason = $2, lease_no = lease_no + 1, lease_until = NULL,
			ended_at = bell_clock() WHERE run_id = $1 AND state IN ` + db.PartsOpen,
		`UPDATE attempts SET state = 'lost', note = $2, ended_at = bell_clock() WHERE run_id = $1 AND state = 'running'`,
		`UPDATE deliveries SET state = 'failed', answer = $2, class = 'lasting', settled_at = bell_clock()
			WHERE run_id = $1 AND state = 'waiting' AND ` + db.OpenDelivery,
	} {
		if _, err := t.Ext.ExecContext(ctx, write, run.ID, reason); err != nil {
			return db.Wrap(err, "cancel the run")
		}
	}
	if err := t.Tell(ctx, db.Notice{Kind: job.NoticeCancel, ID: run.ID.String()}); err != nil {
		return err
	}
	return history.In(t.Base).MoveRun(ctx, run, job.RunCancelled, reason)
}

// GoOn lets the parts of a locked run that failed or were held go on where they
// stopped, with a version of their job, and sends again what failed for good.
// The tasks that were done stay done, and what was sent, or may have arrived,
// stays as it is. ok is false when there is nothing to go on with.
func (t *Tx) GoOn(ctx context.Context, run job.Run, version int, anyway bool, reason string) (ok bool, err error) {
	var parts []int
	if err := sqlx.SelectContext(ctx, t.Ext, &parts, `UPDATE parts
		SET state = 'waiting', reason = $2, ready_at = bell_now(), turn = bell_now() - make_interval(mins => priority),
		ended_at = NULL,
			lease_no = greatest(lease_no, 1), held = false, anyway = anyway OR $3
		WHERE run_id = $1 AND state IN ('failed', 'partly', 'blank', 'cancelled')
		RETURNING part`, run.ID, reason, anyway); err != nil {
		return false, db.Wrap(err, "let the run go on")
	}
	var deliveries []int64
	if err := sqlx.SelectContext(ctx, t.Ext, &deliveries, `UPDATE deliveries
		SET state = 'waiting', tries = 0, ready_at = bell_now(), give_up_at = NULL, answer = '', advice = '',
		class = '', settled_at = NULL
		WHERE run_id = $1 AND state = 'failed' AND class <> '' AND tries > 0 RETURNING id`, run.ID); err != nil {
		return false, db.Wrap(err, "let the deliveries be tried again")
	}
	if len(deliveries) > 0 {
		if err := t.Tell(ctx, db.Notice{Kind: job.NoticeDeliveries}); err != nil {
			return false, err
		}
	}
	if len(parts) == 0 {
		return len(deliveries) > 0, nil
	}
	// What was held is looked at again; what was found stands when it is to be
	// sent as it is, and is otherwise found anew.
	if _, err := t.Ext.ExecContext(ctx, `UPDATE attempts SET again = true WHERE run_id = $1 AND part = ANY($2)
		AND (state IN ('failed', 'unknown', 'lost', 'passed over') OR NOT $3
		AND (state = 'blank' OR unusual <> ''))`, run.ID, parts, anyway); err != nil {
		return false, db.Wrap(err, "let the tasks be tried again")
	}
	if _, err := t.Ext.ExecContext(ctx, `WITH old AS (DELETE FROM run_reports WHERE run_id = $1) UPDATE runs
		SET job_version = $2, versions_at = bell_now() WHERE id = $1`, run.ID, version); err != nil {
		return false, db.Wrap(err, "give the run the job's version")
	}
	if run.State != job.RunWaiting && run.State != job.RunRunning {
		if err := history.In(t.Base).MoveRun(ctx, run, job.RunWaiting, reason); err != nil {
			return false, err
		}
	}
	return true, t.Tell(ctx, db.Notice{Kind: job.NoticeParts})
}

// Warned is a run whose owner is to be warned of its deadline.
type Warned struct {
	ID        job.RunID  `db:"id"`
	JobID     int64      `db:"job_id"`
	Job       string     `db:"job_name"`
	Zone      string     `db:"zone"`
	Deadline  time.Time  `db:"deadline"`
	StartedAt *time.Time `db:"started_at"`
}

// TakeWarnings gives the runs whose owners are to be warned of a deadline, each once
// before it and once after.
func (t *Tx) TakeWarnings(ctx context.Context, limit int) ([]Warned, error) {
	var due []Warned
	err := sqlx.SelectContext(ctx, t.Ext, &due, `WITH due AS (
			SELECT id FROM runs WHERE warn_at <= bell_now() ORDER BY warn_at LIMIT $1 FOR UPDATE SKIP LOCKED)
		UPDATE runs r SET warn_at = CASE WHEN r.deadline > bell_now() THEN r.deadline END FROM due WHERE r.id = due.id
		RETURNING r.id, r.job_id, r.job_name, r.zone, r.deadline, r.started_at`, limit)
	return due, db.Wrap(err, "find the deadlines that are near")
}

// SetWarning sets when the owner of an open run is warned.
func (q Q) SetWarning(ctx context.Context, id job.RunID, at time.Time) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE runs SET warn_at = $2 WHERE id = $1 AND warn_at IS NOT NULL`, id, at)
	return db.Wrap(err, "set the warning")
}

// Usual is how long the good runs of jobs usually take, in seconds by job.
func (q Q) Usual(ctx context.Context, jobs []int64) (map[int64]float64, error) {
	last, err := history.In(q.Base).LastRuns(ctx, jobs)
	usual := make(map[int64]float64, len(last))
	for id, l := range last {
		if l.Usual != nil {
			usual[id] = *l.Usual
		}
	}
	return usual, err
}
