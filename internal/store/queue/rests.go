package queue

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// StoreLabel is the label under which the store of artifacts rests: nothing works
// without it.
const StoreLabel = "service"

// RestOf is a source, or the store of artifacts, that rests.
type RestOf struct {
	Label   string     `db:"label"`
	Since   time.Time  `db:"since"`
	Answer  string     `db:"answer"`
	Advice  string     `db:"advice"`
	Class   string     `db:"class"`
	ProbeAt *time.Time `db:"probe_at"` // nil for one that waits for its record to change
	Probes  int        `db:"probes"`
}

// RestLabel lets what carries a label rest from now on; probe is when it is looked at
// first. It tells whether it rested already.
func (t *Tx) RestLabel(ctx context.Context, label string, f *fault.Fault,
	probe time.Duration,
) (rested bool, err error) {
	res, err := t.Ext.ExecContext(ctx, `INSERT INTO rests (label, answer, advice, class, probe_at)
		VALUES ($1, $2, $3, $4, bell_now() + make_interval(secs => $5)) ON CONFLICT DO NOTHING`,
		label, db.Bounded(f.Error()), f.Advice, f.Class, probe.Seconds())
	if err != nil {
		return false, db.Wrap(err, "let the source rest")
	}
	n, err := res.RowsAffected()
	return n == 0, db.Wrap(err, "let the source rest")
}

// Rests lists what rests beside destinations.
func (q Q) Rests(ctx context.Context) ([]RestOf, error) {
	all := []RestOf{}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT label, since, answer, advice, class, probe_at, probes FROM rests
		ORDER BY label LIMIT 1000`)
	return all, db.Wrap(err, "list what rests")
}

// TakeLook gives something that rests and is to be looked at now, and puts the next
// look off, so that one node at a time looks. ok is false when there is none.
func (q Q) TakeLook(ctx context.Context) (r RestOf, ok bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &r, `UPDATE rests SET probes = probes + 1,
		probe_at = bell_now() + interval '1 minute'
		WHERE label = (SELECT label FROM rests WHERE probe_at <= bell_now() ORDER BY probe_at LIMIT 1
		FOR UPDATE SKIP LOCKED) RETURNING label, since, answer, advice, class, probe_at, probes`)
	if errors.Is(err, sql.ErrNoRows) {
		return r, false, nil
	}
	return r, err == nil, db.Wrap(err, "find what to look at")
}

// LookAgain notes what a look found, and when the next one is; none when next is zero.
func (t *Tx) LookAgain(ctx context.Context, label string, f *fault.Fault, next time.Duration) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE rests SET answer = $2, advice = $3, class = $4,
		probe_at = CASE WHEN $5::float8 > 0 THEN bell_now() + make_interval(secs => $5::float8) END WHERE label = $1`,
		label, db.Bounded(f.Error()), f.Advice, f.Class, next.Seconds())
	return db.Wrap(err, "note what the look found")
}

// LookSoon lets what rests be looked at now: its record was changed.
func (t *Tx) LookSoon(ctx context.Context, label string) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE rests SET probe_at = bell_now(), probes = 0 WHERE label = $1`, label)
	return db.Wrap(err, "look at the source")
}

// EndRest ends a rest and tells whether there was one.
func (t *Tx) EndRest(ctx context.Context, label string) (bool, error) {
	res, err := t.Ext.ExecContext(ctx, `DELETE FROM rests WHERE label = $1`, label)
	if err != nil {
		return false, db.Wrap(err, "end the rest")
	}
	n, err := res.RowsAffected()
	if err != nil || n == 0 {
		return false, db.Wrap(err, "end the rest")
	}
	return true, t.Tell(ctx, db.Notice{Kind: job.NoticeParts})
}

// KeptPart is a part that waits for what rests.
type KeptPart struct {
	RunID      job.RunID `db:"run_id"`
	Part       int       `db:"part"`
	JobID      int64     `db:"job_id"`
	Job        string    `db:"job_name"`
	JobVersion int       `db:"job_version"`
	MadeAt     time.Time `db:"made_at"`
	Name       string    `db:"name"`
	Rehearsal  bool      `db:"rehearsal"`
}

// KeptParts locks parts that wait and carry a label, oldest first, at most limit.
func (t *Tx) KeptParts(ctx context.Context, label string, limit int) ([]KeptPart, error) {
	var out []KeptPart
	err := sqlx.SelectContext(ctx, t.Ext, &out, `SELECT p.run_id, p.part, p.job_id, r.job_name, r.job_version, p.name,
		r.rehearsal, coalesce(r.versions_at, r.created_at) AS made_at FROM parts p JOIN runs r ON r.id = p.run_id
		WHERE p.state = 'waiting' AND NOT p.held AND p.labels @> ARRAY[$1::text] ORDER BY p.run_id, p.part LIMIT $2
		FOR UPDATE OF p SKIP LOCKED`, label, limit)
	return out, db.Wrap(err, "find what waits for it")
}

// FailPart ends a locked part that waits.
func (t *Tx) FailPart(ctx context.Context, p KeptPart, reason string) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE parts SET state = 'failed', reason = $3, ended_at = bell_clock()
		WHERE run_id = $1 AND part = $2 AND state = 'waiting'`, p.RunID, p.Part, db.Bounded(reason))
	return db.Wrap(err, "end the part")
}

// WaitingOn tells how many parts wait that carry a label, of which jobs, by name, at
// most ten, and whose they are.
func (q Q) WaitingOn(ctx context.Context, label string) (n int, jobs []string, err error) {
	var rows []struct {
		Job string `db:"name"`
		N   int    `db:"n"`
	}
	err = sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT j.name, count(*) AS n FROM parts p
		JOIN jobs j ON j.id = p.job_id WHERE p.state = 'waiting' AND NOT p.held AND p.labels @> ARRAY[$1::text]
		GROUP BY j.name ORDER BY 2 DESC, 1`, label)
	for _, r := range rows {
		if n += r.N; len(jobs) < 10 {
			jobs = append(jobs, r.Job)
		}
	}
	return n, jobs, db.Wrap(err, "see what waits for it")
}
