package store

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"

	"github.com/jmoiron/sqlx"
)

const runColumns = `id, job_id, job_name, job_version, trigger_id, why, nominal, due, zone, state, reason, created_at, started_at, ended_at`

// Run finds a run.
func (q q) Run(ctx context.Context, id job.RunID) (job.Run, error) {
	var r job.Run
	err := sqlx.GetContext(ctx, q.ext, &r, `SELECT `+runColumns+` FROM runs WHERE id = $1`, id)
	return r, found(err, "run", id.String())
}

// RunFilter chooses runs of a list. Zero fields do not restrict.
type RunFilter struct {
	JobID    int64
	States   []string
	Before   job.RunID // older than this one, to read on
	From, To time.Time // due in [From, To)
	Limit    int
}

// Runs lists runs, newest first.
func (q q) Runs(ctx context.Context, f RunFilter) ([]job.Run, error) {
	where, args := `true`, []any{}
	add := func(condition string, value any) {
		args = append(args, value)
		where += fmt.Sprintf(" AND "+condition, len(args))
	}
	if f.JobID != 0 {
		add("job_id = $%d", f.JobID)
	}
	if len(f.States) > 0 {
		add("state = ANY($%d)", f.States)
	}
	if f.Before != 0 {
		add("id < $%d", f.Before)
	}
	if !f.From.IsZero() {
		add("due >= $%d", f.From)
	}
	if !f.To.IsZero() {
		add("due < $%d", f.To)
	}
	args = append(args, f.Limit)
	runs := []job.Run{}
	err := sqlx.SelectContext(ctx, q.ext, &runs, `SELECT `+runColumns+` FROM runs WHERE `+where+fmt.Sprintf(` ORDER BY id DESC LIMIT $%d`, len(args)), args...)
	return runs, wrap(err, "list the runs")
}

// Attempts lists what was tried in a run, in order.
func (q q) Attempts(ctx context.Context, id job.RunID) ([]job.Attempt, error) {
	attempts := []job.Attempt{}
	err := sqlx.SelectContext(ctx, q.ext, &attempts, `SELECT run_id, part, task, try, state, started_at, ended_at, rows, note, class, advice, node
		FROM attempts WHERE run_id = $1 ORDER BY part, started_at, try LIMIT 10000`, id)
	return attempts, wrap(err, "list the attempts")
}

const artifactColumns = `id, run_id, part, task, format, name, media_type, size, sha256, row_count, key, created_at`

// Artifacts lists the files of a run; part 0 means all parts.
func (q q) Artifacts(ctx context.Context, id job.RunID, part int) ([]job.Artifact, error) {
	artifacts := []job.Artifact{}
	err := sqlx.SelectContext(ctx, q.ext, &artifacts, `SELECT `+artifactColumns+` FROM artifacts WHERE run_id = $1 AND ($2 = 0 OR part = $2) ORDER BY id LIMIT 10000`, id, part)
	return artifacts, wrap(err, "list the artifacts")
}

// Artifact finds a file.
func (q q) Artifact(ctx context.Context, id int64) (job.Artifact, error) {
	var a job.Artifact
	err := sqlx.GetContext(ctx, q.ext, &a, `SELECT `+artifactColumns+` FROM artifacts WHERE id = $1`, id)
	return a, found(err, "file", fmt.Sprint(id))
}

// RunLog lists the log of a run after line n, at most 2,000 lines.
func (q q) RunLog(ctx context.Context, id job.RunID, n int64) ([]job.LogLine, error) {
	lines := []job.LogLine{}
	err := sqlx.SelectContext(ctx, q.ext, &lines, `SELECT n, at, part, task, state, level, text FROM run_log WHERE run_id = $1 AND n > $2 ORDER BY n LIMIT 2000`, id, n)
	return lines, wrap(err, "read the log")
}

// Log adds a line to a run's log.
func (q q) Log(ctx context.Context, l job.LogLine, id job.RunID) error {
	if l.Level == "" {
		l.Level = "info"
	}
	_, err := q.ext.ExecContext(ctx, `INSERT INTO run_log (run_id, part, task, state, level, text) VALUES ($1, $2, $3, $4, $5, $6)`,
		id, l.Part, l.Task, l.State, l.Level, l.Text)
	return wrap(err, "write the log")
}

// LockRun reads a run and keeps others from moving it until the transaction ends.
func (t *Tx) LockRun(ctx context.Context, id job.RunID) (job.Run, error) {
	var r job.Run
	err := sqlx.GetContext(ctx, t.ext, &r, `SELECT `+runColumns+` FROM runs WHERE id = $1 FOR UPDATE`, id)
	return r, found(err, "run", id.String())
}

// MoveRun moves a locked run to a state and records the change with its reason.
// A move to the state that it has only changes the reason.
func (t *Tx) MoveRun(ctx context.Context, r job.Run, to job.RunState, reason string) error {
	if r.State == to && r.Reason == reason {
		return nil
	}
	if r.State != to && !r.State.MayBecome(to) {
		return fmt.Errorf("run %s cannot go from %s to %s", r.ID, r.State, to)
	}
	if _, err := t.ext.ExecContext(ctx, `UPDATE runs SET state = $2, reason = $3,
			started_at = CASE WHEN $2 = 'running' THEN coalesce(started_at, clock_timestamp()) ELSE started_at END,
			ended_at = CASE WHEN $4 THEN coalesce(ended_at, clock_timestamp()) ELSE NULL END
		WHERE id = $1`, r.ID, to, reason, to.Ended()); err != nil {
		return wrap(err, "move the run")
	}
	level := "info"
	if to == job.RunFailed || to == job.RunPartly {
		level = "error"
	}
	if err := t.Log(ctx, job.LogLine{State: to, Level: level, Text: reason}, r.ID); err != nil {
		return err
	}
	if to != job.RunRunning && to != job.RunWaiting {
		if _, err := t.ext.ExecContext(ctx, `DELETE FROM gates WHERE run_id = $1`, r.ID); err != nil {
			return wrap(err, "open the job's gate")
		}
		if err := t.Tell(ctx, Notice{Kind: "parts"}); err != nil {
			return err
		}
	}
	return t.Tell(ctx, Notice{Kind: "run", ID: r.ID.String()})
}

// Tally counts the parts and deliveries of a run. Its row must be locked.
func (t *Tx) Tally(ctx context.Context, id job.RunID) (policy.Tally, error) {
	var row struct {
		Open      int    `db:"open"`
		Done      int    `db:"done"`
		Blank     int    `db:"blank"`
		Failed    int    `db:"failed"`
		Cancelled int    `db:"cancelled"`
		Reason    string `db:"reason"`
		DOpen     int    `db:"d_open"`
		DSent     int    `db:"d_sent"`
		DFailed   int    `db:"d_failed"`
		DUnknown  int    `db:"d_unknown"`
	}
	err := sqlx.GetContext(ctx, t.ext, &row, `SELECT * FROM
		(SELECT count(*) FILTER (WHERE state IN ('waiting', 'running')) AS open, count(*) FILTER (WHERE state = 'done') AS done,
			count(*) FILTER (WHERE state = 'blank') AS blank, count(*) FILTER (WHERE state = 'failed') AS failed,
			count(*) FILTER (WHERE state = 'cancelled') AS cancelled,
			coalesce((array_agg(reason ORDER BY (state = 'failed') DESC, part) FILTER (WHERE state <> 'done'))[1], '') AS reason
		 FROM parts WHERE run_id = $1) p,
		(SELECT count(*) FILTER (WHERE state IN ('waiting', 'sending', 'offered')) AS d_open, count(*) FILTER (WHERE state = 'sent') AS d_sent,
			count(*) FILTER (WHERE state IN ('failed', 'bounced')) AS d_failed, count(*) FILTER (WHERE state = 'unknown') AS d_unknown
		 FROM deliveries WHERE run_id = $1) d`, id)
	return policy.Tally{
		PartsOpen: row.Open, PartsDone: row.Done, PartsBlank: row.Blank, PartsFailed: row.Failed, PartsCancelled: row.Cancelled,
		Open: row.DOpen, Sent: row.DSent, Failed: row.DFailed, Unknown: row.DUnknown, PartReason: row.Reason,
	}, wrap(err, "count the run's parts and deliveries")
}

// CountByState counts the runs due in [from, to) by state.
func (q q) CountByState(ctx context.Context, from, to time.Time) (map[job.RunState]int, error) {
	var rows []struct {
		State job.RunState `db:"state"`
		N     int          `db:"n"`
	}
	err := sqlx.SelectContext(ctx, q.ext, &rows, `SELECT state, count(*) AS n FROM runs WHERE due >= $1 AND due < $2 GROUP BY state`, from, to)
	counts := make(map[job.RunState]int, len(rows))
	for _, row := range rows {
		counts[row.State] = row.N
	}
	return counts, wrap(err, "count the runs")
}
