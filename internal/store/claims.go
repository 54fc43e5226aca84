package store

import (
	"context"
	"time"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// Claim is one part of a run, held by a lease.
type Claim struct {
	RunID   job.RunID `db:"run_id"`
	Part    int       `db:"part"`
	LeaseNo int64     `db:"lease_no"`

	JobID      int64                `db:"job_id"`
	Job        string               `db:"job_name"`
	JobVersion int                  `db:"job_version"`
	Why        string               `db:"why"`
	Nominal    time.Time            `db:"nominal"`
	Due        time.Time            `db:"due"`
	Zone       string               `db:"zone"`
	Given      document[job.Values] `db:"given"`
}

// ClaimParts takes up to limit waiting parts for a node, by priority and then by
// the time since which they are ready. A part whose job has another run at work
// is left alone unless its job lets runs work together.
func (s *Store) ClaimParts(ctx context.Context, node string, lease time.Duration, limit int) ([]Claim, error) {
	var claims []Claim
	err := s.Do(ctx, func(t *Tx) error {
		claims = nil
		err := sqlx.SelectContext(ctx, t.ext, &claims, `WITH picked AS (
				SELECT run_id, part, job_id, gated FROM parts p
				WHERE state = 'waiting' AND ready_at <= now()
					AND (NOT gated OR NOT EXISTS (SELECT 1 FROM gates g WHERE g.job_id = p.job_id AND g.run_id <> p.run_id))
				ORDER BY priority DESC, ready_at, run_id, part LIMIT $1 FOR UPDATE SKIP LOCKED
			), gated AS (
				INSERT INTO gates (job_id, run_id) SELECT DISTINCT ON (job_id) job_id, run_id FROM picked WHERE gated ORDER BY job_id, run_id
				ON CONFLICT (job_id) DO NOTHING RETURNING run_id
			), mine AS (
				SELECT run_id, part FROM picked WHERE NOT gated OR run_id IN (SELECT run_id FROM gated)
					OR EXISTS (SELECT 1 FROM gates g WHERE g.run_id = picked.run_id AND g.job_id = picked.job_id)
			)
			UPDATE parts p SET state = 'running', reason = '', lease_no = p.lease_no + 1, lease_until = now() + make_interval(secs => $2), node = $3,
				started_at = coalesce(p.started_at, now())
			FROM mine m JOIN runs r ON r.id = m.run_id WHERE p.run_id = m.run_id AND p.part = m.part
			RETURNING p.run_id, p.part, p.lease_no, r.job_id, r.job_name, r.job_version, r.why, r.nominal, r.due, r.zone, r.given`,
			limit, lease.Seconds(), node)
		if err != nil {
			return wrap(err, "claim parts")
		}
		for _, c := range claims {
			run, err := t.LockRun(ctx, c.RunID)
			if err != nil {
				return err
			}
			if err := t.MoveRun(ctx, run, job.RunRunning, "works on "+node); err != nil {
				return err
			}
		}
		return nil
	})
	return claims, err
}

// NextReady is how long until the next waiting part or delivery becomes ready,
// by the database's clock; ok is false when none waits for a time to come.
func (q q) NextReady(ctx context.Context) (wait time.Duration, ok bool, err error) {
	var seconds *float64
	err = sqlx.GetContext(ctx, q.ext, &seconds, `SELECT extract(epoch FROM min(at) - now()) FROM (
		(SELECT min(ready_at) AS at FROM parts WHERE state = 'waiting' AND ready_at > now())
		UNION ALL (SELECT min(ready_at) FROM deliveries WHERE state = 'waiting' AND ready_at > now())
		UNION ALL (SELECT min(tell_at) FROM alerts WHERE tell_at > now())) w`)
	if err != nil || seconds == nil {
		return 0, false, wrap(err, "find what becomes ready next")
	}
	return time.Duration(*seconds * float64(time.Second)), true, nil
}

// RenewParts prolongs the leases of the parts that a node works on and tells
// which it still holds. Parts that it claimed and gave up are not among them:
// their leases must run out.
func (q q) RenewParts(ctx context.Context, lease time.Duration, worked []Claim) ([]Claim, error) {
	runs, parts, leases := make([]int64, len(worked)), make([]int64, len(worked)), make([]int64, len(worked))
	for i, c := range worked {
		runs[i], parts[i], leases[i] = int64(c.RunID), int64(c.Part), c.LeaseNo
	}
	var held []Claim
	err := sqlx.SelectContext(ctx, q.ext, &held, `UPDATE parts p SET lease_until = now() + make_interval(secs => $1)
		FROM unnest($2::bigint[], $3::bigint[], $4::bigint[]) AS w(run_id, part, lease_no)
		WHERE p.run_id = w.run_id AND p.part = w.part AND p.lease_no = w.lease_no AND p.state = 'running' AND p.lease_until > now()
		RETURNING p.run_id, p.part, p.lease_no`, lease.Seconds(), runs, parts, leases)
	return held, wrap(err, "renew the leases")
}

// holds keeps the claimed part's row locked, and fails when the lease was lost.
func (t *Tx) holds(ctx context.Context, c Claim) error {
	var n int
	err := sqlx.GetContext(ctx, t.ext, &n, `SELECT count(*) FROM (SELECT 1 FROM parts
		WHERE run_id = $1 AND part = $2 AND lease_no = $3 AND state = 'running' FOR UPDATE) held`, c.RunID, c.Part, c.LeaseNo)
	if err == nil && n == 0 {
		return ErrStale
	}
	return wrap(err, "check the lease")
}

// BeginAttempt records that a task is tried, and gives the number of the try.
// A try that a lost lease left behind is marked as lost.
func (t *Tx) BeginAttempt(ctx context.Context, c Claim, task, node string) (try int, err error) {
	if err := t.holds(ctx, c); err != nil {
		return 0, err
	}
	if _, err := t.ext.ExecContext(ctx, `UPDATE attempts SET state = 'lost', ended_at = now(), note = 'its node stopped; the next try begins anew'
		WHERE run_id = $1 AND part = $2 AND state = 'running'`, c.RunID, c.Part); err != nil {
		return 0, wrap(err, "mark the lost attempt")
	}
	err = sqlx.GetContext(ctx, t.ext, &try, `INSERT INTO attempts (run_id, part, task, try, state, node, started_at)
		SELECT $1, $2, $3, 1 + coalesce((SELECT max(try) FROM attempts WHERE run_id = $1 AND part = $2 AND task = $3), 0), 'running', $4, clock_timestamp() RETURNING try`,
		c.RunID, c.Part, task, node)
	if err != nil {
		return 0, wrap(err, "record the attempt")
	}
	return try, t.Tell(ctx, Notice{Kind: "run", ID: c.RunID.String()})
}

// EndAttempt records how a try ended, with the files that it made.
func (t *Tx) EndAttempt(ctx context.Context, c Claim, a job.Attempt, files []job.Artifact) error {
	if err := t.holds(ctx, c); err != nil {
		return err
	}
	if _, err := t.ext.ExecContext(ctx, `UPDATE attempts SET state = $5, ended_at = clock_timestamp(), rows = $6, note = $7, class = $8, advice = $9
		WHERE run_id = $1 AND part = $2 AND task = $3 AND try = $4`, c.RunID, c.Part, a.Task, a.Try, a.State, a.Rows, a.Note, a.Class, a.Advice); err != nil {
		return wrap(err, "record the end of the attempt")
	}
	for _, f := range files {
		if _, err := t.ext.ExecContext(ctx, `INSERT INTO artifacts (id, run_id, part, task, format, name, media_type, size, sha256, row_count, key)
			VALUES (month_id('artifact_count'), $1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`,
			c.RunID, c.Part, a.Task, f.Format, f.Name, f.MediaType, f.Size, f.SHA256, f.Rows, f.Key); err != nil {
			return wrap(err, "record the file")
		}
	}
	return t.Tell(ctx, Notice{Kind: "run", ID: c.RunID.String()})
}

// EndedTasks tells how the tasks of a part ended so far, and how often each was
// tried; a try that was lost with its node does not count.
func (q q) EndedTasks(ctx context.Context, c Claim) (ended map[string]job.Attempt, failures map[string]int, err error) {
	var attempts []job.Attempt
	err = sqlx.SelectContext(ctx, q.ext, &attempts, `SELECT part, task, try, state, rows, note FROM attempts
		WHERE run_id = $1 AND part = $2 ORDER BY try`, c.RunID, c.Part)
	ended, failures = map[string]job.Attempt{}, map[string]int{}
	for _, a := range attempts {
		switch a.State {
		case job.AttemptDone, job.AttemptBlank:
			ended[a.Task] = a
		case job.AttemptFailed:
			failures[a.Task]++
		}
	}
	return ended, failures, wrap(err, "read the attempts")
}

// EndPart ends a part for good: done, blank, failed or cancelled.
func (t *Tx) EndPart(ctx context.Context, c Claim, state job.PartState, reason string) error {
	return one(t.ext.ExecContext(ctx, `UPDATE parts SET state = $4, reason = $5, ended_at = clock_timestamp(), lease_until = NULL
		WHERE run_id = $1 AND part = $2 AND lease_no = $3 AND state = 'running'`, c.RunID, c.Part, c.LeaseNo, state, reason))
}

// ReturnPart gives a part back to be taken again after wait.
func (t *Tx) ReturnPart(ctx context.Context, c Claim, wait time.Duration, reason string) error {
	if err := one(t.ext.ExecContext(ctx, `UPDATE parts SET state = 'waiting', reason = $4, ready_at = now() + make_interval(secs => $5), lease_until = NULL
		WHERE run_id = $1 AND part = $2 AND lease_no = $3 AND state = 'running'`, c.RunID, c.Part, c.LeaseNo, reason, wait.Seconds())); err != nil {
		return err
	}
	run, err := t.LockRun(ctx, c.RunID)
	if err != nil {
		return err
	}
	if err := t.MoveRun(ctx, run, job.RunWaiting, reason); err != nil {
		return err
	}
	return t.Tell(ctx, Notice{Kind: "parts"})
}

// ReapParts gives back the parts whose leases ran out.
func (s *Store) ReapParts(ctx context.Context, limit int) (int, error) {
	reaped := 0
	err := s.Do(ctx, func(t *Tx) error {
		var lost []Claim
		if err := sqlx.SelectContext(ctx, t.ext, &lost, `SELECT run_id, part, lease_no FROM parts
			WHERE state = 'running' AND lease_until < now() ORDER BY lease_until LIMIT $1 FOR UPDATE SKIP LOCKED`, limit); err != nil {
			return wrap(err, "find the leases that ran out")
		}
		for _, c := range lost {
			if err := t.ReturnPart(ctx, c, 0, "its node stopped answering; another goes on at the task that was interrupted"); err != nil {
				return err
			}
		}
		reaped = len(lost)
		return nil
	})
	return reaped, err
}
