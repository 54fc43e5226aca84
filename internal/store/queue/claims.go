package queue

import (
	"context"
	"slices"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/sending"

	"github.com/jmoiron/sqlx"
)

// Claim is one part of a run, held by a lease.
type Claim struct {
	RunID   job.RunID `db:"run_id"`
	Part    int       `db:"part"`
	LeaseNo int64     `db:"lease_no"`

	Name       string                  `db:"name"` // of the part; empty when its run is not split
	Own        db.Document[job.Values] `db:"own"`  // values of the part
	Labels     db.Document[[]string]   `db:"labels"`
	Gated      bool                    `db:"gated"`
	Anyway     bool                    `db:"anyway"` // what is blank or unusual is sent
	Alone      bool                    `db:"alone"`  // its run has no other part
	JobID      int64                   `db:"job_id"`
	Job        string                  `db:"job_name"`
	JobVersion int                     `db:"job_version"`
	TriggerID  *int64                  `db:"trigger_id"`
	AskedBy    *int64                  `db:"asked_by"`
	Rehearsal  bool                    `db:"rehearsal"`
	Nominal    time.Time               `db:"nominal"`
	Due        time.Time               `db:"due"`
	Zone       string                  `db:"zone"`
	Given      db.Document[job.Values] `db:"given"`
	Deadline   *time.Time              `db:"deadline"`
	StartedAt  *time.Time              `db:"started_at"`
	MadeAt     time.Time               `db:"made_at"` // whose versions it takes, and from when its retries are reckoned
	Again      *job.RunID              `db:"again"`
	Correction string                  `db:"correction"` // what was wrong with the run that it is made again of

	Begun map[string]int `db:"-"` // tasks that began with the claim, to their tries
}

// Fresh tells whether nobody has worked on the part before.
func (c Claim) Fresh() bool { return c.LeaseNo == 1 }

// First names the tasks that claimed parts begin with, in the order of the claims.
type First func(ctx context.Context, b db.Base, claims []Claim) ([][]string, error)

// ClaimParts takes up to limit waiting parts for a node, in the order of their
// turn. Left alone are parts whose job has another run at work, unless its job
// lets runs work together, and those that a limit or a freeze holds back. first
// names the tasks that each fresh part begins with, so that they are on record
// at once; it may be nil. more tells that there may be others. Claims beside an error are
// in doubt: they were written, and nobody heard whether for good.
func (s *Pool) ClaimParts(ctx context.Context, node string, lease time.Duration, limit int,
	first First,
) (claims []Claim, more bool, err error) {
	var wrote []Claim
	err = s.pool.Do(ctx, func(b db.Base) error {
		t := In(b)
		claims, wrote, more = nil, nil, false
		room, err := t.rooms(ctx)
		if err != nil {
			return err
		}
		picked, err := t.pick(ctx, limit, room)
		if err != nil {
			return err
		}
		more = len(picked) == limit
		if claims, err = t.pass(ctx, room.take(picked)); err != nil || len(claims) == 0 {
			return err
		}
		err = t.start(ctx, claims, node, lease, first)
		if err == nil {
			wrote = claims
		}
		return err
	})
	if err != nil {
		return wrote, false, err
	}
	return claims, more, nil
}

// pick locks waiting parts and reads their runs.
func (t *Tx) pick(ctx context.Context, limit int, room rooms) ([]Claim, error) {
	var picked []Claim
	// The run of each part is looked up by itself (OFFSET 0): no plan reads all runs for it.
	err := sqlx.SelectContext(ctx, t.Ext, &picked, `WITH picked AS MATERIALIZED (
			SELECT run_id, part, name, given AS own, array_to_json(labels) AS labels, gated, anyway, alone,
			lease_no + 1 AS lease_no, turn
			FROM parts p WHERE state = 'waiting' AND NOT held AND ready_at <= bell_now() AND NOT labels && $2
				AND (NOT gated OR NOT EXISTS (SELECT 1 FROM gates g WHERE g.job_id = p.job_id AND g.run_id <> p.run_id))
			ORDER BY turn, run_id, part LIMIT $1 FOR UPDATE SKIP LOCKED)
		SELECT p.run_id, p.part, p.name, p.own, p.labels, p.gated, p.anyway, p.alone, p.lease_no, r.*
		FROM picked p CROSS JOIN LATERAL (
			SELECT job_id, job_name, job_version, trigger_id, asked_by, rehearsal, nominal, due, zone, given, deadline,
			started_at, again, correction, coalesce(versions_at, created_at) AS made_at
			FROM runs WHERE id = p.run_id OFFSET 0) r
		ORDER BY p.turn, p.run_id, p.part`, limit, room.full())
	return picked, db.Wrap(err, "claim parts")
}

// pass keeps the claims whose job lets them work now: it takes the job's gate
// for those that may not work together with other runs of the job.
func (t *Tx) pass(ctx context.Context, picked []Claim) ([]Claim, error) {
	var jobs, runs []int64
	for _, c := range picked {
		if c.Gated {
			jobs, runs = append(jobs, c.JobID), append(runs, int64(c.RunID))
		}
	}
	if len(jobs) == 0 {
		return picked, nil
	}
	var through []job.RunID
	if err := sqlx.SelectContext(ctx, t.Ext, &through, `WITH took AS (
			INSERT INTO gates (job_id, run_id)
			SELECT DISTINCT ON (job_id) job_id, run_id FROM unnest($1::bigint[],
			$2::bigint[]) WITH ORDINALITY AS u(job_id, run_id, n) ORDER BY job_id, n
			ON CONFLICT (job_id) DO NOTHING RETURNING run_id)
		SELECT run_id FROM took UNION ALL SELECT run_id FROM gates WHERE run_id = ANY($2)`, jobs, runs); err != nil {
		return nil, db.Wrap(err, "take the gates")
	}
	return slices.DeleteFunc(picked, func(c Claim) bool { return c.Gated && !slices.Contains(through, c.RunID) }), nil
}

// start writes that the claimed parts work, with the tasks that they begin with.
func (t *Tx) start(ctx context.Context, claims []Claim, node string, lease time.Duration, first First) error {
	n := len(claims)
	begin := make([][]string, n)
	if first != nil {
		var err error
		if begin, err = first(ctx, t.Base, claims); err != nil {
			return err
		}
	}
	runs, parts := make([]int64, n), make([]int32, n)
	var beginRuns []int64
	var beginParts []int32
	var beginTasks []string
	for i, c := range claims {
		runs[i], parts[i] = int64(c.RunID), int32(c.Part) //nolint:gosec // parts are counted
		if !c.Fresh() || len(begin[i]) == 0 {
			continue
		}
		claims[i].Begun = map[string]int{}
		for _, task := range begin[i] {
			claims[i].Begun[task] = 1
			beginRuns, beginParts, beginTasks = append(beginRuns, runs[i]), append(beginParts, parts[i]),
				append(beginTasks, task)
		}
	}
	var started []job.RunID
	if err := sqlx.SelectContext(ctx, t.Ext, &started, `WITH mine AS (
			UPDATE parts p SET state = 'running', reason = '', lease_no = p.lease_no + 1, entry_no = 0,
			lease_until = now() + make_interval(secs => $3), node = $4,
				started_at = coalesce(p.started_at, bell_clock())
			FROM unnest($1::bigint[], $2::int[]) AS u(run_id, part) WHERE p.run_id = u.run_id AND p.part = u.part
		), tried AS (
			INSERT INTO attempts (run_id, part, task, try, state, node, started_at)
			SELECT run_id, part, task, 1, 'running', $4, bell_clock()
			FROM unnest($5::bigint[], $6::int[], $7::text[]) AS u(run_id, part, task)
		), working AS (
			UPDATE runs SET state = 'running', reason = $8, started_at = coalesce(started_at, bell_clock())
			WHERE id = ANY($1) AND state = 'waiting' RETURNING id
		), logged AS (
			INSERT INTO run_log (run_id, state, text) SELECT id, 'running', $8 FROM working
		)
		SELECT id
		FROM working`, runs, parts, lease.Seconds(), node, beginRuns, beginParts, beginTasks, "works on "+node); err != nil {
		return db.Wrap(err, "write the claims")
	}
	now := time.Now()
	for i := range claims {
		if claims[i].StartedAt == nil {
			claims[i].StartedAt = &now
		}
	}
	return history.In(t.Base).TellRuns(ctx, started)
}

// Claimed locks some parts, once whoever writes them now has ended, and gives those claims
// that were written for a node and under which nothing was written since.
func (t *Tx) Claimed(ctx context.Context, node string, claims []Claim) ([]Claim, error) {
	runs, parts := make([]int64, len(claims)), make([]int32, len(claims))
	for i, c := range claims {
		runs[i], parts[i] = int64(c.RunID), int32(c.Part) //nolint:gosec // parts are counted
	}
	var found []struct {
		RunID   job.RunID `db:"run_id"`
		Part    int       `db:"part"`
		LeaseNo int64     `db:"lease_no"`
		Ours    bool      `db:"ours"`
	}
	// What they are is asked of the rows as they are when they are locked: a condition would
	// choose them as they were before.
	err := sqlx.SelectContext(ctx, t.Ext, &found, `SELECT p.run_id, p.part, p.lease_no,
		coalesce(p.state = 'running' AND p.node = $3 AND p.entry_no = 0, false) AS ours
		FROM parts p JOIN unnest($1::bigint[], $2::int[]) AS u(run_id, part) ON p.run_id = u.run_id AND p.part = u.part
		ORDER BY p.run_id, p.part FOR UPDATE OF p`, runs, parts, node)
	return slices.DeleteFunc(slices.Clone(claims), func(c Claim) bool {
		for _, f := range found {
			if f.Ours && f.RunID == c.RunID && f.Part == c.Part && f.LeaseNo == c.LeaseNo {
				return false
			}
		}
		return true
	}), db.Wrap(err, "see what was claimed")
}

// NextReady is how long until the next waiting part or delivery becomes ready,
// by the database's clock; ok is false when none waits for a time to come.
func (q Q) NextReady(ctx context.Context) (wait time.Duration, ok bool, err error) {
	var seconds *float64
	err = sqlx.GetContext(ctx, q.Ext, &seconds, `WITH RECURSIVE `+sending.ReadyDestinations+` SELECT extract(epoch
		FROM min(at) - bell_now()) FROM (
		(SELECT min(ready_at) AS at FROM parts WHERE state = 'waiting' AND ready_at > bell_now())
		UNION ALL (SELECT min(probe_at) FROM rests WHERE probe_at > bell_now())
		UNION ALL (SELECT min(to_at) FROM freezes WHERE lifted_at IS NULL AND to_at > bell_now())
		UNION ALL (SELECT min(d.at) FROM ready_for r CROSS JOIN LATERAL (SELECT min(ready_at) AS at FROM deliveries
		WHERE phase = 'ready' AND destination_id = r.destination_id AND ready_at > bell_now()) d)
		UNION ALL (SELECT min(ask_at) FROM deliveries WHERE phase = 'taken' AND ask_at > bell_now())
		UNION ALL (SELECT min(probe_at) FROM destinations WHERE rests_since IS NOT NULL AND probe_at > bell_now())
		UNION ALL (SELECT min(tell_at) FROM alerts WHERE tell_at > bell_now())) w`)
	if err != nil || seconds == nil {
		return 0, false, db.Wrap(err, "find what becomes ready next")
	}
	return job.Seconds(*seconds), true, nil
}

// RenewParts prolongs the leases of the parts that a node works on and tells
// which it still holds. Parts that it claimed and gave up are not among them:
// their leases must run out.
func (q Q) RenewParts(ctx context.Context, lease time.Duration, worked []Claim) ([]Claim, error) {
	runs, parts, leases := make([]int64, len(worked)), make([]int64, len(worked)), make([]int64, len(worked))
	for i, c := range worked {
		runs[i], parts[i], leases[i] = int64(c.RunID), int64(c.Part), c.LeaseNo
	}
	var held []Claim
	// Locked in the order in which all lock them. What is locked by others is
	// being ended just now, and needs no lease.
	err := sqlx.SelectContext(ctx, q.Ext, &held, `WITH mine AS (
			SELECT p.run_id, p.part FROM parts p JOIN unnest($2::bigint[], $3::bigint[], $4::bigint[]) AS w(run_id,
			part, lease_no)
				ON p.run_id = w.run_id AND p.part = w.part AND p.lease_no = w.lease_no
			WHERE p.state = 'running' AND p.lease_until > now() ORDER BY p.run_id, p.part FOR UPDATE OF p SKIP LOCKED
		)
		UPDATE parts p SET lease_until = now() + make_interval(secs => $1) FROM mine m WHERE p.run_id = m.run_id
		AND p.part = m.part
		RETURNING p.run_id, p.part, p.lease_no`, lease.Seconds(), runs, parts, leases)
	return held, db.Wrap(err, "renew the leases")
}

// LostParts locks the parts whose leases ran out, at most limit, as claims of
// whoever held them.
func (t *Tx) LostParts(ctx context.Context, limit int) ([]Claim, error) {
	var lost []Claim
	err := sqlx.SelectContext(ctx, t.Ext, &lost, `SELECT run_id, part, lease_no FROM parts
		WHERE state = 'running' AND lease_until < now() ORDER BY lease_until LIMIT $1 FOR UPDATE SKIP LOCKED`, limit)
	return lost, db.Wrap(err, "find the leases that ran out")
}
