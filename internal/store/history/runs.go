package history

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// TellRuns sends word of changed runs; of many at once, one word for all.
func (q Q) TellRuns(ctx context.Context, ids []job.RunID) error {
	const many = 50
	if len(ids) == 0 {
		return nil
	}
	if len(ids) > many {
		return q.Tell(ctx, db.Notice{Kind: job.NoticeRuns})
	}
	all := make([]db.Notice, len(ids))
	for i, id := range ids {
		all[i] = db.Notice{Kind: job.NoticeRun, ID: id.String()}
	}
	return q.Tell(ctx, all...)
}

const runColumns = `id, job_id, job_name, job_version, trigger_id, why, nominal, due, zone, given, rehearsal, again,
	correction, part_count, deadline, state, reason, created_at, started_at, ended_at`

// runRow is a run as it is read.
type runRow struct {
	job.Run
	Given db.Document[job.Values] `db:"given"`
}

// run gives the run; empty values are none.
func (r runRow) run() job.Run {
	if len(r.Given.V) > 0 {
		r.Run.Given = r.Given.V
	}
	return r.Run
}

// SelectRuns reads runs.
func (q Q) SelectRuns(ctx context.Context, doing, query string, args ...any) ([]job.Run, error) {
	var rows []runRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+runColumns+` FROM runs `+query, args...)
	runs := make([]job.Run, len(rows))
	for i, r := range rows {
		runs[i] = r.run()
	}
	return runs, db.Wrap(err, doing)
}

// Run finds a run.
func (q Q) Run(ctx context.Context, id job.RunID) (job.Run, error) {
	runs, err := q.SelectRuns(ctx, "read the run", `WHERE id = $1`, id)
	if err == nil && len(runs) == 0 {
		err = &db.NotFound{Kind: "run", Name: id.String()}
	}
	if err != nil {
		return job.Run{}, err
	}
	return runs[0], nil
}

// AskedBy is the login of who rang a run by hand; empty when nobody did.
func (q Q) AskedBy(ctx context.Context, id job.RunID) (string, error) {
	var login string
	err := sqlx.GetContext(ctx, q.Ext, &login, `SELECT coalesce((SELECT p.login FROM runs r
		JOIN people p ON p.id = r.asked_by WHERE r.id = $1), '')`, id)
	return login, db.Wrap(err, "see who rang")
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
func (q Q) Runs(ctx context.Context, f RunFilter) ([]job.Run, error) {
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
		if f.JobID == 0 {
			where += " AND " + among(f.States)
		}
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
	return q.SelectRuns(ctx, "list the runs", `WHERE `+where+fmt.Sprintf(` ORDER BY id DESC LIMIT $%d`, len(args)),
		args...)
}

// GoodRunBefore finds the last run of a job that was done before another one; 0
// when there is none. Rehearsals count not.
func (q Q) GoodRunBefore(ctx context.Context, jobID int64, before job.RunID) (job.RunID, error) {
	var id int64
	err := sqlx.GetContext(ctx, q.Ext, &id, `SELECT coalesce(max(id), 0) FROM (
		SELECT id FROM runs WHERE job_id = $1 AND id < $2 AND state = 'done' AND NOT rehearsal ORDER BY id DESC
		LIMIT 1) r`, jobID, before)
	return job.RunID(id), db.Wrap(err, "find the last good run")
}

// among says where runs in some states are to be looked for: those that are done
// are nearly all, those that went wrong have an index, and the open ones are
// found by their parts and deliveries.
func among(states []string) string {
	open := `id IN (SELECT run_id FROM parts WHERE state IN ` + db.PartsOpen +
		` UNION SELECT run_id FROM deliveries WHERE run_id IS NOT NULL AND ` + db.OpenDelivery + `)`
	opens, troubles := false, false
	for _, s := range states {
		switch state := job.RunState(s); {
		case state == job.RunDone:
			return "true"
		case state.Ended():
			troubles = true
		default:
			opens = true
		}
	}
	switch {
	case opens && troubles:
		return "(trouble IS NOT NULL OR " + open + ")"
	case opens:
		return open
	}
	return "trouble IS NOT NULL"
}

// Attempts lists what was tried in a run, in order.
func (q Q) Attempts(ctx context.Context, id job.RunID) ([]job.Attempt, error) {
	attempts := []job.Attempt{}
	err := sqlx.SelectContext(ctx, q.Ext, &attempts, `SELECT run_id, part, task, try, state, started_at, ended_at, rows,
		note, class, advice, node
		FROM attempts WHERE run_id = $1 ORDER BY part, started_at, try LIMIT 1000`, id)
	return attempts, db.Wrap(err, "list the attempts")
}

const artifactColumns = `id, run_id, part, task, try, removed_at, format, name, folder, section, media_type, size, sha256,
	row_count, key, created_at`

// Artifacts lists the files of a run; part 0 means all parts.
func (q Q) Artifacts(ctx context.Context, id job.RunID, part int) ([]job.Artifact, error) {
	artifacts := []job.Artifact{}
	err := sqlx.SelectContext(ctx, q.Ext, &artifacts, `SELECT `+artifactColumns+` FROM artifacts WHERE run_id = $1
		AND ($2 = 0 OR part = $2) ORDER BY id LIMIT 1000`, id, part)
	return artifacts, db.Wrap(err, "list the artifacts")
}

// Artifact finds a file.
func (q Q) Artifact(ctx context.Context, id int64) (job.Artifact, error) {
	var a job.Artifact
	err := sqlx.GetContext(ctx, q.Ext, &a, `SELECT `+artifactColumns+` FROM artifacts WHERE id = $1`, id)
	return a, db.Found(err, "file", fmt.Sprint(id))
}

// RunLog lists the log of a run after line n, at most 2,000 lines.
func (q Q) RunLog(ctx context.Context, id job.RunID, n int64) ([]job.LogLine, error) {
	lines := []job.LogLine{}
	err := sqlx.SelectContext(ctx, q.Ext, &lines, `SELECT n, at, part, task, state, level, text FROM run_log
		WHERE run_id = $1 AND n > $2 ORDER BY n LIMIT 2000`, id, n)
	return lines, db.Wrap(err, "read the log")
}

// Busy gives those of some locked runs whose state cannot change yet, because
// other parts or deliveries of theirs are still open.
func (t *Tx) Busy(ctx context.Context, ids []job.RunID) (map[job.RunID]bool, error) {
	var busy []job.RunID
	err := sqlx.SelectContext(ctx, t.Ext, &busy, `SELECT r.id FROM runs r WHERE r.id = ANY($1) AND (
		r.state = 'running' AND r.part_count > 1 AND EXISTS (SELECT 1 FROM parts p WHERE p.job_id = r.job_id
		AND p.run_id = r.id AND p.state = 'running')
		OR r.state = 'delivering' AND EXISTS (SELECT 1 FROM deliveries d WHERE d.run_id = r.id AND `+db.OpenDelivery+
		`))`, db.Numbers(ids))
	out := make(map[job.RunID]bool, len(busy))
	for _, id := range busy {
		out[id] = true
	}
	return out, db.Wrap(err, "see which runs still work")
}

// LockRuns reads runs, in the order of their ids, and keeps others from moving
// them until the transaction ends.
func (t *Tx) LockRuns(ctx context.Context, ids []job.RunID) ([]job.Run, error) {
	return t.SelectRuns(ctx, "lock the runs", `WHERE id = ANY($1) ORDER BY id FOR UPDATE`, db.Numbers(ids))
}

// LockRun reads a run and keeps others from moving it until the transaction ends.
func (t *Tx) LockRun(ctx context.Context, id job.RunID) (job.Run, error) {
	runs, err := t.LockRuns(ctx, []job.RunID{id})
	if err == nil && len(runs) == 0 {
		err = &db.NotFound{Kind: "run", Name: id.String()}
	}
	if err != nil {
		return job.Run{}, err
	}
	return runs[0], nil
}

// RunMove is a move of a locked run to a state, with its reason.
type RunMove struct {
	Run    job.Run
	To     job.RunState
	Reason string
}

// MoveRuns moves locked runs and records each change with its reason. A move to
// the state that a run has only changes the reason. In the same statement, since each
// run passes here, it notes the runs that are done whose owners want to be told of it, and
// that what they collected was collected for good.
func (t *Tx) MoveRuns(ctx context.Context, moves []RunMove) error {
	var ids, closed []int64
	var states, reasons, logStates, levels []string
	var ended []bool
	var changed []job.RunID
	opens := false
	for _, m := range moves {
		if m.Run.State == m.To && m.Run.Reason == m.Reason {
			continue
		}
		if m.Run.State != m.To && !m.Run.State.MayBecome(m.To) {
			return fmt.Errorf("run %s cannot go from %s to %s", m.Run.ID, m.Run.State, m.To)
		}
		state, l := string(m.To), "info"
		if m.To == job.RunFailed || m.To == job.RunPartly {
			l = "error"
		}
		ids, states, reasons, ended = append(ids, int64(m.Run.ID)), append(states, state),
			append(reasons, db.Bounded(m.Reason)), append(ended, m.To.Ended())
		logStates, levels, changed = append(logStates, state), append(levels, l), append(changed, m.Run.ID)
		if m.To != job.RunRunning && m.To != job.RunWaiting {
			closed = append(closed, int64(m.Run.ID))
		}
		opens = opens || m.To != job.RunRunning
	}
	if len(ids) == 0 {
		return nil
	}
	var noted bool
	if err := sqlx.GetContext(ctx, t.Ext, &noted, `WITH moved AS (
			UPDATE runs r SET state = u.state, reason = u.reason,
				started_at = CASE WHEN u.state = 'running' THEN coalesce(r.started_at,
				bell_clock()) ELSE r.started_at END,
				ended_at = CASE WHEN u.ended THEN coalesce(r.ended_at, bell_clock()) ELSE NULL END,
				warn_at = CASE WHEN u.ended THEN NULL ELSE r.warn_at END, trouble = CASE WHEN u.ended
				AND u.state <> 'done' THEN u.state END
			FROM unnest($1::bigint[], $2::text[], $3::text[], $4::bool[]) AS u(id, state, reason, ended)
			WHERE r.id = u.id
			RETURNING r.id, r.job_id, r.state, r.rehearsal
		), opened AS (
			DELETE FROM gates WHERE run_id = ANY($5)
		), logged AS (
			INSERT INTO run_log (run_id, state, level, text) SELECT *
			FROM unnest($1::bigint[], $6::text[], $7::text[], $3::text[])
		), noted AS (
			INSERT INTO run_notes (run_id)
			SELECT m.id FROM moved m JOIN jobs j ON j.id = m.job_id JOIN people p ON p.id = j.owner_id
			WHERE m.state = 'done' AND NOT m.rehearsal AND (j.tells_success OR p.wishes @> '{"tell_success": true}')
			ON CONFLICT DO NOTHING RETURNING run_id
		), collected AS (
			UPDATE collected c SET good = true, state = CASE afterwards WHEN 'leave' THEN 'kept' ELSE 'due' END,
				next_at = CASE afterwards WHEN 'leave' THEN NULL ELSE bell_now() END
			FROM moved m WHERE m.state = 'done' AND NOT m.rehearsal AND c.run_id = m.id AND NOT c.good
		)
		SELECT EXISTS (SELECT 1 FROM noted)`,
		ids, states, reasons, ended, closed, logStates, levels); err != nil {
		return db.Wrap(err, "move the runs")
	}
	if noted {
		if err := t.Tell(ctx, db.Notice{Kind: job.NoticeAlerts}); err != nil {
			return err
		}
	}
	if opens {
		if err := t.Tell(ctx, db.Notice{Kind: job.NoticeParts}); err != nil {
			return err
		}
	}
	return t.TellRuns(ctx, changed)
}

// MoveRun moves one locked run.
func (t *Tx) MoveRun(ctx context.Context, r job.Run, to job.RunState, reason string) error {
	return t.MoveRuns(ctx, []RunMove{{r, to, reason}})
}

// Tallies counts the parts and deliveries of runs, by run. Their rows must be locked.
func (t *Tx) Tallies(ctx context.Context, ids []job.RunID) (map[job.RunID]policy.Tally, error) {
	var rows []struct {
		ID job.RunID `db:"run_id"`
		policy.Tally
	}
	err := sqlx.SelectContext(ctx, t.Ext, &rows, `SELECT p.run_id,
		count(*) FILTER (WHERE p.state = 'running') AS parts_running,
			count(*) FILTER (WHERE p.state = 'waiting') AS parts_waiting,
			count(*) FILTER (WHERE p.state = 'waiting' AND p.ready_at <= bell_now() AND NOT p.held) AS parts_ready,
			count(*) FILTER (WHERE p.state = 'done') AS parts_done,
			count(*) FILTER (WHERE p.state = 'partly') AS parts_partly,
			count(*) FILTER (WHERE p.state = 'blank') AS parts_blank,
			count(*) FILTER (WHERE p.state = 'failed') AS parts_failed,
			count(*) FILTER (WHERE p.state = 'cancelled') AS parts_cancelled,
			coalesce((array_agg(p.reason ORDER BY (p.state = 'failed') DESC, (p.state = 'partly') DESC,
			(p.state = 'waiting') DESC, p.part) FILTER (WHERE p.state <> 'done'))[1], '') AS part_reason,
			coalesce((array_agg(p.reason ORDER BY p.part) FILTER (WHERE p.state = 'done'))[1], '') AS done_reason,
			max(d.open) AS open, max(d.sent) AS sent, max(d.failed) AS failed, max(d.unknown) AS unknown,
			max(d.declined) AS declined, max(d.declined_one) AS declined_one, max(d.asking) AS asking
		FROM parts p CROSS JOIN LATERAL (SELECT count(*) FILTER (WHERE state IN `+db.DeliveriesOpen+`) AS open,
			count(*) FILTER (WHERE state = 'sent') AS sent,
			count(*) FILTER (WHERE state IN ('failed', 'bounced')) AS failed,
			count(*) FILTER (WHERE state = 'unknown') AS unknown,
			count(*) FILTER (WHERE state = 'declined') AS declined,
			coalesce((array_agg(address ORDER BY id) FILTER (WHERE state = 'declined'))[1], '') AS declined_one,
			count(*) FILTER (WHERE state = 'waiting' AND kept_back = 'yes') AS asking
			FROM deliveries WHERE run_id = p.run_id AND p.part = 1) d
		WHERE p.run_id = ANY($1) GROUP BY p.run_id`, db.Numbers(ids))
	tallies := make(map[job.RunID]policy.Tally, len(rows))
	for _, r := range rows {
		tallies[r.ID] = r.Tally
	}
	return tallies, db.Wrap(err, "count the runs' parts and deliveries")
}

// CountByState counts the runs due in [from, to) by state.
func (q Q) CountByState(ctx context.Context, from, to time.Time) (map[job.RunState]int, error) {
	var rows []struct {
		State job.RunState `db:"state"`
		N     int          `db:"n"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT state, count(*) AS n FROM runs WHERE due >= $1 AND due < $2
		GROUP BY state`, from, to)
	counts := make(map[job.RunState]int, len(rows))
	for _, row := range rows {
		counts[row.State] = row.N
	}
	return counts, db.Wrap(err, "count the runs")
}
